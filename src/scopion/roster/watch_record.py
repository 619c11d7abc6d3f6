"""What the watch keeps of itself in the roster, so that ``scopion status`` can tell it: who runs it, and what fails."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from scopion.model.mac import MacAddress
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written

_KEY = "watch"


@dataclass(frozen=True, slots=True)
class Trouble:
    """Something that does not work, since when, and why."""

    doing: str
    problem: str
    since: datetime


@dataclass(frozen=True, slots=True)
class EnforcerReading:
    """When an access point was last asked for its stations, and why it could not be read; empty if it could."""

    at: datetime
    problem: str = ""


@dataclass(frozen=True, slots=True)
class Attempt:
    """How often an access point turned a device away, and when it last did."""

    times: int
    last: datetime
    access_point: str = ""  # which did last, where several have one list; else empty


@dataclass(frozen=True, slots=True)
class HeardAttempts:
    """What a radio was heard to turn away."""

    since: datetime  # when it was first listened to
    by_mac: Mapping[MacAddress, Attempt] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class WatchRecord:
    """The last watch of a site. Whether it still runs is told by its lock, not by this."""

    process: int
    host: str
    account: str
    version: str
    since: datetime
    raw_frames: bool
    service: bool = False  # started by the system's service manager
    once: bool = False  # one round, as for cron
    terminal: bool = False  # in a terminal, where a hang-up ends it
    ended: datetime | None = None  # None: it runs, or was killed
    troubles: tuple[Trouble, ...] = ()
    enforcers: Mapping[str, EnforcerReading] = field(default_factory=dict)  # by name
    attempts: Mapping[tuple[str, str], HeardAttempts] = field(default_factory=dict)  # by enforcer and radio


def keep_watch_record(roster: Roster, record: WatchRecord) -> None:
    """Keep it in the place of the former one."""
    with roster.transaction():
        roster.set_meta(_KEY, json.dumps(_document(record), ensure_ascii=False))


def last_watch(roster: Roster) -> WatchRecord | None:
    """Return the record of the last watch; None if there never was one."""
    with roster.guarded(), as_written("the record of the watch"):
        text = roster.meta(_KEY)
        return _record(json.loads(text)) if text is not None else None


def _document(record: WatchRecord) -> dict[str, Any]:
    names = ("process", "host", "account", "version", "raw_frames", "service", "once", "terminal")
    return {
        **{name: getattr(record, name) for name in names},
        "since": record.since.isoformat(),
        "ended": record.ended.isoformat() if record.ended is not None else None,
        "troubles": [[each.doing, each.problem, each.since.isoformat()] for each in record.troubles],
        "enforcers": {name: [each.at.isoformat(), each.problem] for name, each in record.enforcers.items()},
        "attempts": [
            [
                *where,
                heard.since.isoformat(),
                [[str(mac), each.times, each.last.isoformat()] for mac, each in heard.by_mac.items()],
            ]
            for where, heard in record.attempts.items()
        ],
    }


def _record(document: Mapping[str, Any]) -> WatchRecord:
    at = datetime.fromisoformat
    return WatchRecord(
        process=int(document["process"]),
        host=str(document["host"]),
        account=str(document["account"]),
        version=str(document["version"]),
        since=at(document["since"]),
        raw_frames=bool(document["raw_frames"]),
        service=bool(document["service"]),
        once=bool(document["once"]),
        terminal=bool(document["terminal"]),
        ended=at(document["ended"]) if document["ended"] is not None else None,
        troubles=tuple(Trouble(str(doing), str(problem), at(since)) for doing, problem, since in document["troubles"]),
        enforcers={
            str(name): EnforcerReading(at(moment), str(problem))
            for name, (moment, problem) in document["enforcers"].items()
        },
        attempts={
            (str(enforcer), str(radio)): HeardAttempts(
                at(since), {MacAddress.parse(mac): Attempt(int(times), at(last)) for mac, times, last in by_mac}
            )
            for enforcer, radio, since, by_mac in document.get("attempts", ())
        },
    )
