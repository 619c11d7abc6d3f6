"""The protocol of enforcers, and their values."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum
from typing import TYPE_CHECKING, Any, Protocol

from scopion.attachment.ports import NO_FILE, Ran, ReadFile, Shell
from scopion.model.errors import EnforcerUnreachable, ScopionError
from scopion.model.mac import MacAddress, Notation
from scopion.roster.store.stored_values import as_written
from scopion.roster.wifi.lists import ListMode

if TYPE_CHECKING:
    from scopion.roster.watch_record import HeardAttempts
    from scopion.wireless.list_policy import ListPolicy


class Effect(StrEnum):
    """What an enforcer does to a refused device."""

    REFUSES = "refuses association"
    DROPS = "drops traffic"  # the device stays associated, and its frames are dropped


@dataclass(frozen=True, slots=True)
class Held:
    """The lists that one radio of an enforcer holds."""

    allow: frozenset[MacAddress] = frozenset()
    deny: frozenset[MacAddress] = frozenset()
    mode: ListMode | None = None  # None: it cannot be read
    remark: str = field(default="", compare=False)  # what a person should know of it, in a clause

    @property
    def entries(self) -> int:
        """Return how many entries it takes."""
        return len(self.allow) + len(self.deny)

    def admits(self, mac: MacAddress) -> bool:
        """Tell whether a device may be on the air: an allow entry counts before a deny entry, as in hostapd.

        A deny entry counts in every mode. A mode that cannot be read is taken for the strictest.
        """
        if mac in self.allow:
            return True
        if mac in self.deny:
            return False
        return self.mode in (ListMode.OFF, ListMode.DENY)

    def refuses(self, station: Station) -> bool:
        """Tell whether a station may not be where it is."""
        return not station.other_vlan and not self.admits(station.mac)

    def holds_the_same(self, other: Held) -> bool:
        """Tell whether two are equal as far as both can be read."""
        modes = (self.mode, other.mode)
        return (self.allow, self.deny) == (other.allow, other.deny) and (None in modes or modes[0] is modes[1])


class Act(StrEnum):
    """What a step does."""

    ADD = "add"
    REMOVE = "remove"
    MODE = "mode"
    REPLACE = "replace"  # the whole list at once
    DISCONNECT = "disconnect"


@dataclass(frozen=True, slots=True)
class ListStep:
    """One thing to do on one radio."""

    act: Act
    list: ListMode | None = None
    mac: MacAddress | None = None
    mode: ListMode | None = None
    held: Held | None = None  # replace: with this
    idle: frozenset[MacAddress] = frozenset()  # replace: others' entries that stay in the file, without effect
    policy: ListPolicy | None = None  # replace: what the list follows from, for an enforcer that keeps hours itself

    def __str__(self) -> str:
        """Return the step in words."""
        if self.act is Act.MODE:
            return f"set the mode to {self.mode}"
        if self.act is Act.REPLACE:
            return "replace the whole list"
        if self.act is Act.DISCONNECT:
            return f"disconnect {self.mac}"
        return f"{self.act} {self.mac} {'to' if self.act is Act.ADD else 'from'} the {self.list} list"

    def after(self, held: Held) -> Held:
        """Return what the radio holds after the step."""
        if self.act is Act.REPLACE:
            assert self.held is not None
            return self.held
        if self.act is Act.MODE:
            return Held(held.allow, held.deny, self.mode)
        if self.act is Act.DISCONNECT or self.mac is None:
            return held
        lists = {ListMode.ALLOW: held.allow, ListMode.DENY: held.deny}
        assert self.list is not None
        one = frozenset([self.mac])
        lists[self.list] = lists[self.list] | one if self.act is Act.ADD else lists[self.list] - one
        return Held(lists[ListMode.ALLOW], lists[ListMode.DENY], held.mode)


@dataclass(frozen=True, slots=True)
class RadioStep:
    """A step, and the radio on which it is taken."""

    radio: str  # its band, in GHz
    step: ListStep


@dataclass(frozen=True, slots=True)
class Station:
    """A device that is associated, as the access point tells."""

    mac: MacAddress
    authorized: bool = True  # it may send: encryption was agreed
    signal: int | None = None  # dBm, as the access point hears it
    connected_s: int | None = None
    received: int | None = None  # octets from it to the access point
    sent: int | None = None  # octets to it
    links: tuple[MacAddress, ...] = ()  # its addresses on each link, if it uses several (IEEE 802.11be)
    access_point: str = ""  # which it is on, where several have one list; else empty
    other_vlan: bool = False  # it is on no list, and was put aside into a VLAN of its own
    leaving: str = ""  # what is being done to disconnect it, in a clause; empty: nothing


@dataclass(frozen=True, slots=True)
class Traits:
    """The traits of an enforcer, from which plans and verdicts follow."""

    effect: Effect
    notation: Notation = Notation.COLON
    reads_mode: bool = True
    reads_stations: bool = True
    atomic: bool = False  # it takes a whole list at once, so that no order is needed
    one_list: bool = False  # it has a single list, and the mode says which one
    survives: str = ""  # what becomes of the list at a restart; empty: it stays
    by_hand: bool = False  # a person takes the steps, by a sheet; what it holds is what that person said
    modes: bool = True  # its lists can be switched to off, allow or deny; False: what is on its list is denied
    timetable: bool = False  # a person typed the hours into it
    keeps_hours: bool = False  # it carries out the policy with its hours: it is pushed when people change that, only
    attempts_need: str = ""  # what must be so for it to tell who was turned away; empty: it never does


Readings = Mapping[str, "RadioReading | ScopionError"]  # by band in GHz: what was read, or why it could not be read


class Enforcer(Protocol):
    """Holds the list of one wireless network on each of its radios.

    Every call raises EnforcerUnreachable. What lies behind it may be far away, so all radios are read at once, and all
    steps are taken at once.
    """

    name: str
    ssid: str
    capacity: int | None  # entries that each radio holds; None: not known
    traits: Traits

    def read(self, *, files: bool = False, log: bool = False) -> Readings:
        """Return what each radio holds and who is associated; Refused for a radio that carries another network.

        With ``files`` its files are read as well, for a push; with ``log`` who was turned away, where its log tells.
        """

    def take(self, steps: Sequence[RadioStep], begins: Callable[[RadioStep], None]) -> Readings:
        """Take steps in their order, until one fails, and read the radios again. Raises EnforcerUnreachable.

        ``begins`` is told each step that is begun, or may have been if the connection is cut.
        """

    def keep(self, held: Mapping[str, Held]) -> None:
        """Make what each radio holds last through a restart, as far as it can."""

    def files(self) -> Mapping[str, str | None]:
        """Return its files that a push may write, as they were read last, byte for byte; None for a missing file."""

    def put_back(self, files: Mapping[str, str | None]) -> None:
        """Write back what ``files`` returned, where it differs by now, and put it in force."""

    def close(self) -> None:
        """Close the connection; a second call does nothing."""


class ShellEnforcer:
    """What enforcers that use a shell share: it is opened when it is first needed."""

    name: str

    def __init__(self, open_shell: Callable[[], Shell]) -> None:
        self._open_shell = open_shell
        self._opened: Shell | None = None

    def close(self) -> None:
        """Close the shell."""
        if self._opened is not None:
            self._opened.close()
            self._opened = None

    @property
    def _shell(self) -> Shell:
        if self._opened is None:
            self._opened = self._open_shell()
        return self._opened

    def _told(self, ran: Ran) -> str:
        """Return what a job has told. Raises EnforcerUnreachable."""
        if ran.code != 0:
            raise EnforcerUnreachable(f"{self.name}: {ran.errors}")
        return ran.output

    def read_file(self, path: str) -> str | None:
        """Return a file of the access point; None if there is none."""
        (ran,) = self._shell.carry_out([ReadFile(path)])
        return None if ran.code == NO_FILE else self._told(ran)


@dataclass(frozen=True, slots=True)
class RadioReading:
    """What one radio of an enforcer told at one time."""

    enforcer: str
    radio: str  # its band, in GHz
    traits: Traits
    capacity: int | None  # entries that it holds; None: not known
    held: Held
    stations: tuple[Station, ...] = ()  # none where the enforcer does not tell them
    attempts: Mapping[MacAddress, int] = field(default_factory=dict)  # of refused devices, where they are told
    heard: HeardAttempts | None = None  # the same with its times, where those are told

    def values(self) -> tuple[Any, ...]:
        """Return all of it in this order, for values that extend a reading."""
        return (
            self.enforcer,
            self.radio,
            self.traits,
            self.capacity,
            self.held,
            self.stations,
            self.attempts,
            self.heard,
        )

    def located(self, ssid: str, at: datetime) -> list[Located]:
        """Return its stations, and where each is."""
        return [
            Located(each, ssid, each.access_point or self.enforcer, self.radio, at, self.enforcer)
            for each in self.stations
        ]


def whole(readings: Readings) -> dict[str, RadioReading]:
    """Return the readings. Raises the error of the first radio that could not be read."""
    found = {}
    for radio, each in readings.items():
        if isinstance(each, ScopionError):
            raise each
        found[radio] = each
    return found


@dataclass(frozen=True, slots=True)
class Located:
    """A station and where it is."""

    station: Station
    ssid: str
    access_point: str
    radio: str
    at: datetime
    enforcer: str = ""  # that holds its list; empty: as the access point

    @property
    def since(self) -> datetime | None:
        """Return when it associated; None if the access point does not tell."""
        connected = self.station.connected_s
        return self.at - timedelta(seconds=connected) if connected is not None else None


def held_document(held: Held) -> dict[str, Any]:
    """Return it as JSON, to be kept with a push."""
    return {
        "allow": sorted(map(str, held.allow)),
        "deny": sorted(map(str, held.deny)),
        "mode": str(held.mode) if held.mode else None,
    }


@as_written("what a radio was made to hold")
def read_held(document: Mapping[str, Any]) -> Held:
    """Return the lists that were kept."""
    return Held(
        frozenset(map(MacAddress.parse, document["allow"])),
        frozenset(map(MacAddress.parse, document["deny"])),
        ListMode(document["mode"]) if document["mode"] else None,
    )
