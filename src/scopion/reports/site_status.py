"""How a site is looked after, as plain values: gathered once from the roster, then shown in lines or as JSON."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime


@dataclass(frozen=True, slots=True)
class TroubleStatus:
    """Something that the watch cannot do."""

    doing: str
    problem: str
    since: datetime


@dataclass(frozen=True, slots=True)
class WatchStatus:
    """The watch that runs, or the last one."""

    running: bool
    process: int | None = None
    host: str = ""
    account: str = ""
    version: str = ""
    service: bool = False
    once: bool = False
    raw_frames: bool | None = None
    since: datetime | None = None  # None: no watch ever ran
    ended: datetime | None = None
    troubles: tuple[TroubleStatus, ...] = ()


@dataclass(frozen=True, slots=True)
class SubnetStatus:
    """A subnet of the site."""

    range: str
    name: str
    place: str  # empty: the only place, which has no name
    every_s: float  # how often it is swept
    looked_at: datetime | None
    completed_at: datetime | None
    down_since: datetime | None
    learning_until: datetime | None
    here: bool = True  # whether this machine looks at it; else a sensor does


@dataclass(frozen=True, slots=True)
class SensorStatus:
    """A sensor that reports another place."""

    name: str
    place: str
    state: str  # here, silent, never-heard, or not-enrolled
    heard: datetime | None
    lag_s: float | None  # how old the latest is that it has told
    waiting: int  # batches that it still has to tell
    offset_s: float | None  # by which its clock is ahead
    kept: int  # documents of a later version, kept unread
    troubles: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class EssentialStatus:
    """A device that must be here."""

    name: str  # as people call it
    word: str  # how a command names it
    here: bool
    seen_at: datetime
    patience_s: float  # how long it may be silent
    planned: str  # why it may be away now: "until Mon 18:00"; empty: it may not
    told_at: datetime | None  # when it was told that it is missing


@dataclass(frozen=True, slots=True)
class ChannelStatus:
    """A way by which alerts go."""

    name: str
    type: str
    sent_at: datetime | None
    failed_at: datetime | None
    waiting: int
    waiting_since: datetime | None
    gathering: int
    next_at: datetime | None
    problem: str


@dataclass(frozen=True, slots=True)
class FollowedStatus:
    """A grave alert that no one has seen, or that someone takes care of."""

    alert: int
    subject: str
    told_at: datetime | None  # when it was sent; None: it waits, or it was given up
    seen_at: datetime | None
    seen_by: str
    note: str


@dataclass(frozen=True, slots=True)
class ListStatus:
    """A network's list at one enforcer."""

    ssid: str
    enforcer: str
    by_hand: bool
    mode: str
    pushed_at: datetime | None  # or said to be typed in
    push_problem: str  # what became of the last push, if it is not in force as it was sent
    pending: bool  # whether people changed it since
    to_type: str  # what a sheet that waits asks for; empty: none waits
    due_since: datetime | None  # since when time asks a person for another list
    read_at: datetime | None  # when the watch read it last
    read_problem: str
    verified_at: datetime | None
    works: bool | None
    unmet: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class DueStatus:
    """What happens next by itself."""

    at: datetime
    ssid: str
    what: str


@dataclass(frozen=True, slots=True)
class RosterStatus:
    """The file that remembers."""

    path: str
    octets: int
    devices: int
    present: int
    new: int
    changed_at: datetime | None  # when people changed anything last
    copied_at: datetime | None
    copy_octets: int | None
    damaged: tuple[str, ...]  # files that were moved aside


@dataclass(frozen=True, slots=True)
class ListingStatus:
    """The listing of vendors in use: its oldest registry."""

    as_of: date
    days: int


@dataclass(frozen=True, slots=True)
class SiteStatus:
    """All of it at one moment."""

    site: str
    folder: str
    at: datetime
    watch: WatchStatus
    subnets: tuple[SubnetStatus, ...]
    sensors: tuple[SensorStatus, ...]
    essential: tuple[EssentialStatus, ...]
    channels: tuple[ChannelStatus, ...]
    followed: tuple[FollowedStatus, ...]
    lists: tuple[ListStatus, ...]
    due: tuple[DueStatus, ...]
    roster: RosterStatus
    listing: ListingStatus | None
    free_octets: int | None

    @property
    def wants_watch(self) -> bool:
        """Tell whether something is left undone while no watch runs."""
        return bool(self.channels or self.due or (self.watch.since is not None and not self.watch.once))
