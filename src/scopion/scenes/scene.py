"""Reads a scene file: the subnets, interfaces, hosts and moments of a made-up site. Values only.

The file is TOML; ``data/kilnhaven.toml`` is one with comments. Mistakes are named with file and place.
"""

from __future__ import annotations

import shlex
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from ipaddress import IPv4Address, IPv4Interface, IPv6Address, IPv6Interface
from pathlib import Path
from typing import Any, TypeVar

from scopion.attachment.ports import Interface
from scopion.model.errors import InvalidSettings, UsageError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.model.toml_text import parse_toml
from scopion.model.week import WHOLE, Week

T = TypeVar("T")

DATA = Path(__file__).parent / "data"
_KBIT = (4.0, 20.0)  # what a host sends and gets that is just there


@dataclass(frozen=True, slots=True)
class Period:
    """When a host is at an address: from (inclusive) until (exclusive; None: without end), on which days and hours."""

    address: IPv4Address
    since: datetime | None = None
    until: datetime | None = None
    week: Week = WHOLE

    def begins_on(self, day: date) -> list[datetime]:
        """Return when the host comes on a day; never, if it is there at all hours."""
        begins = () if self.week.is_always else self.week.by_day()[day.weekday()]
        return [datetime.combine(day, time.min, UTC) + timedelta(minutes=begin) for begin, _ in begins]

    def holds(self, at: datetime) -> bool:
        """Tell whether the host is there at a moment."""
        begun, ended = self.since is None or self.since <= at, self.until is not None and self.until <= at
        return begun and not ended and self.week.holds(at)


@dataclass(frozen=True, slots=True)
class Voice:
    """What a host says of itself, and what others say of it; empty texts are not said."""

    mdns: str = ""  # its name, without .local
    services: tuple[str, ...] = ()  # services that it announces by multicast DNS: _ipp._tcp
    model: str = ""
    netbios: str = ""
    llmnr: str = ""
    dns: str = ""  # the name that the site's name server has for it
    dhcp: str = ""  # the name that it tells the DHCP server
    vendor_class: str = ""
    requested_options: tuple[int, ...] = ()
    ssdp: str = ""  # a UPnP device type
    dhcp_server: bool = False  # it gives out addresses


@dataclass(frozen=True, slots=True)
class SceneHost:
    """A host and how it behaves on the wire."""

    name: str
    mac: MacAddress
    medium: Medium
    periods: tuple[Period, ...]
    rtt_s: float = 0.002
    loss: float = 0.0  # share of frames lost each way
    doze_s: float = 0.0  # it answers this much later, once it wakes
    ipv6: tuple[IPv6Address, ...] = ()  # the same at all of its addresses
    voice: Voice = Voice()
    ports: tuple[int, ...] = ()  # TCP ports that accept
    radios: tuple[str, ...] = ()  # the bands that it can use, the preferred one first; none: it is on cable
    signal: int = -60  # dBm, as the access point hears it
    switch: str = ""  # the switch on which it hangs by cable, and at which port
    port: str = ""
    lldp: str = ""  # the name that it tells there
    kbit: tuple[float, float] = _KBIT  # kbit/s that it sends and gets while it is there
    asks: tuple[str, ...] = ()  # the access points that ask by RADIUS whose network it uses, the nearest first

    def __hash__(self) -> int:
        # Hosts are keys in what is asked for each frame: a hash of all fields would take longer than the rest.
        return hash(self.name)


@dataclass(frozen=True, slots=True)
class SceneAccessPoint:
    """The access point of a scene: one network on some radios, each with room for a number of entries."""

    ssid: str
    sockets: dict[str, str]  # by band in GHz, the path of the control socket
    room: int = 12
    host: str = ""  # the host that it is: stations are behind that one's port

    def frequency(self, radio: str) -> int:
        """Return the frequency of a radio in MHz."""
        return {"2.4": 2437, "5": 5180, "6": 5975}[radio]

    def bssid(self, radio: str) -> str:
        """Return the address of a radio: made up, and the same each time."""
        return f"0c:be:11:00:00:{0xF0 + list(self.sockets).index(radio):02x}"


@dataclass(frozen=True, slots=True)
class SceneSwitch:
    """A switch of the scene, which tells what was learned at its ports."""

    name: str
    address: IPv4Address
    mac: MacAddress
    ports: int
    leads_to: dict[str, str] = field(default_factory=dict)  # ports, and the switch that is behind each
    said: dict[str, str] = field(default_factory=dict)  # ports, and what people have written into it about each
    slow: dict[str, int] = field(default_factory=dict)  # ports with a slow link, and its Mbit/s
    this_machine: dict[str, str] = field(default_factory=dict)  # ports, and the interface of the machine at the desk


@dataclass(frozen=True, slots=True)
class SceneAskingPoint:
    """An access point of another make: it asks a RADIUS server whether a station may associate.

    Its page has the secret that the site's folder keeps in the file with its name.
    """

    name: str
    ssid: str
    address: str
    bssid: MacAddress


@dataclass(frozen=True, slots=True)
class SceneBranch:
    """Another place of the site, in which a sensor stands: a segment of its own, which may have the same range."""

    sensor: str  # its name, as it is enrolled
    since: datetime  # it reports from then on
    interface: Interface  # the sensor's own
    hosts: tuple[SceneHost, ...]


@dataclass(frozen=True, slots=True)
class ScenePageClient:
    """A device on the network of a router's page."""

    name: str
    mac: MacAddress
    radio: str  # its band in GHz
    period: Period

    @property
    def address(self) -> IPv4Address:
        """Return the address that the router gave it."""
        return self.period.address


@dataclass(frozen=True, slots=True)
class ScenePage:
    """A router that has nothing but a web page: its network is not one that this machine can reach."""

    ssid: str
    title: str
    radios: tuple[str, ...]  # bands in GHz
    clients: tuple[ScenePageClient, ...]


@dataclass(frozen=True, slots=True)
class StoryStep:
    """What the narrator says, if anything, and the command that follows."""

    says: str
    command: tuple[str, ...]  # without the program's name
    expects: int = 0  # the exit code: some steps show what is refused
    shows: bool = False  # it changes nothing
    chapter: str = ""  # the chapter that begins with it
    pastes: bool = False  # its standard input is the text of the router's page


@dataclass(frozen=True, slots=True)
class SceneMoment:
    """A point of the story: its time, what the narrator says, and the steps that follow."""

    at: datetime
    tells: str
    steps: tuple[StoryStep, ...] = ()
    settings: str = ""  # what has come into site.toml since the moment before, in TOML
    looks_h: int = 0  # when told, the time before it passes with a scan every this many hours; 0: it passes unseen
    last: bool = False  # when told, the story ends with it


@dataclass(frozen=True, slots=True)
class Chapter:
    """A part of the story as it is told."""

    name: str
    title: str


@dataclass(frozen=True, slots=True)
class Rounds:
    """How the site is watched when days are played at once: a scan now and then, and a minute of listening."""

    every: timedelta
    until: datetime
    listen_at: tuple[time, ...]


@dataclass(frozen=True, slots=True)
class Scene:
    """A whole made-up site."""

    name: str
    title: str
    seed: int
    registry: Path | None  # an IEEE-form CSV file with the made-up makers
    interfaces: tuple[Interface, ...]
    hosts: tuple[SceneHost, ...]
    moments: tuple[SceneMoment, ...]
    rounds: Rounds | None = None
    settings: str = ""  # the content of site.toml besides the comments, in TOML
    access_point: SceneAccessPoint | None = None
    files: tuple[tuple[str, str], ...] = ()  # the files of the access point: path and text
    page: ScenePage | None = None
    asking_points: tuple[SceneAskingPoint, ...] = ()
    chapters: tuple[Chapter, ...] = ()  # in the order in which they are told
    branches: tuple[SceneBranch, ...] = ()
    switches: tuple[SceneSwitch, ...] = ()


def load_scene(name: str) -> Scene:
    """Return a packaged scene by name, or one from a file's path. Raises InvalidSettings."""
    return _packaged(name) if name.isidentifier() else _read(name, Path(name))


@lru_cache(4)  # when days are played at once, each hour begins by reading it
def _packaged(name: str) -> Scene:
    return _read(name, DATA / f"{name}.toml")


def _read(name: str, path: Path) -> Scene:
    try:
        document = parse_toml(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise InvalidSettings(f"scene {name!r} cannot be read: {error.strerror}") from None
    except ValueError as error:
        raise InvalidSettings(f"{path}: {error}") from None
    reader = _SceneReader(path)
    moments = reader.each(document, "moment", _moment)
    if not moments:
        raise InvalidSettings(f"{path}: a scene needs at least one [[moment]]")
    return Scene(
        name=name,
        title=str(document.get("title", name)),
        seed=int(document.get("seed", 1)),
        registry=path.parent / str(document["registry"]) if "registry" in document else None,
        interfaces=reader.each(document, "interface", _interface),
        hosts=reader.each(document, "host", _host),
        moments=moments,
        rounds=_rounds(document["rounds"]) if "rounds" in document else None,
        settings=str(document.get("settings", "")),
        access_point=_access_point(document["access_point"]) if "access_point" in document else None,
        asking_points=reader.each(document, "asking_point", _asking_point),
        page=_page(document["page"]) if "page" in document else None,
        files=reader.each(document, "file", lambda table: (str(table["path"]), str(table["text"]))),
        chapters=reader.each(document, "chapter", lambda table: Chapter(str(table["name"]), _line(table["title"]))),
        branches=reader.each(document, "branch", _branch),
        switches=reader.each(document, "switch", _switch),
    )


@dataclass(frozen=True, slots=True)
class _SceneReader:
    """Reads the tables of an array and says which one is wrong."""

    path: Path

    def each(self, document: dict[str, Any], key: str, read: Callable[[dict[str, Any]], T]) -> tuple[T, ...]:
        found = []
        for number, table in enumerate(document.get(key, []), 1):
            try:
                found.append(read(table))
            except KeyError as error:
                raise InvalidSettings(f"{self.path}: {key} {number} lacks {error}") from None
            except (ValueError, TypeError, AttributeError, UsageError) as error:
                raise InvalidSettings(f"{self.path}: {key} {number}: {error}") from None
        return tuple(found)


def _interface(table: dict[str, Any]) -> Interface:
    return Interface(
        name=table["name"],
        index=table["index"],
        mac=MacAddress.parse(table["mac"]) if "mac" in table else None,
        addresses=tuple(IPv4Interface(text) for text in table.get("addresses", [])),
        up=table.get("up", True),
        medium=Medium(table.get("medium", "unknown")),
        virtual=table.get("virtual", ""),
        gateway=IPv4Address(table["gateway"]) if "gateway" in table else None,
        metric=table.get("metric", 0),
        ipv6=tuple(map(IPv6Interface, table.get("ipv6", ()))),
    )


def _host(table: dict[str, Any]) -> SceneHost:
    switch, _, port = str(table.get("port", "")).rpartition("/")
    return SceneHost(
        name=table["name"],
        mac=MacAddress.parse(table["mac"]),
        medium=Medium(table.get("medium", "unknown")),
        periods=tuple(map(_period, table.get("at", ()))),
        rtt_s=table.get("rtt_ms", 2.0) / 1000,
        loss=float(table.get("loss", 0.0)),
        doze_s=float(table.get("doze_s", 0.0)),
        ipv6=tuple(map(IPv6Address, table.get("ipv6", ()))),
        voice=_voice(table.get("says", {})),
        ports=tuple(table.get("ports", ())),
        radios=tuple(table.get("radios", ())),
        signal=int(table.get("signal", -60)),
        switch=switch,
        port=port,
        lldp=str(table.get("lldp", "")),
        kbit=(float(table["kbit"][0]), float(table["kbit"][1])) if "kbit" in table else _KBIT,
        asks=tuple(table.get("asks", ())),
    )


def _branch(table: dict[str, Any]) -> SceneBranch:
    hosts = tuple(map(_host, table.get("host", ())))
    return SceneBranch(str(table["sensor"]), table["since"], _interface(table["interface"]), hosts)


def _access_point(table: dict[str, Any]) -> SceneAccessPoint:
    ssid, host = str(table["ssid"]), str(table.get("host", ""))
    return SceneAccessPoint(ssid, dict(table["sockets"]), int(table.get("room", 12)), host)


def _switch(table: dict[str, Any]) -> SceneSwitch:
    return SceneSwitch(
        name=str(table["name"]),
        address=IPv4Address(table["address"]),
        mac=MacAddress.parse(table["mac"]),
        ports=int(table["ports"]),
        leads_to=dict(table.get("leads_to", {})),
        said=dict(table.get("said", {})),
        slow=dict(table.get("slow", {})),
        this_machine=dict(table.get("this_machine", {})),
    )


def _asking_point(table: dict[str, Any]) -> SceneAskingPoint:
    name, ssid, address, bssid = (str(table[key]) for key in ("name", "ssid", "address", "bssid"))
    return SceneAskingPoint(name, ssid, address, MacAddress.parse(bssid))


def _page(table: dict[str, Any]) -> ScenePage:
    clients = tuple(
        ScenePageClient(each["name"], MacAddress.parse(each["mac"]), each["radio"], _period(each["at"]))
        for each in table.get("client", ())
    )
    return ScenePage(str(table["ssid"]), str(table["title"]), tuple(table["radios"]), clients)


def _voice(table: dict[str, Any]) -> Voice:
    said: dict[str, Any] = {key: tuple(value) if isinstance(value, list) else value for key, value in table.items()}
    return Voice(**said)


def _period(entry: str | dict[str, Any]) -> Period:
    table: dict[str, Any] = {"address": entry} if isinstance(entry, str) else entry
    week = Week.parse(table["hours"]) if "hours" in table else WHOLE
    return Period(IPv4Address(table["address"]), table.get("from"), table.get("until"), week)


def _moment(table: dict[str, Any]) -> SceneMoment:
    steps = [
        StoryStep(
            _line(step.get("says", "")),
            tuple(shlex.split(step["run"])),
            int(step.get("expects", 0)),
            bool(step.get("shows")),
            str(step.get("chapter", "")),
            bool(step.get("pastes")),
        )
        for step in table.get("step", ())
    ]
    return SceneMoment(
        at=table["at"],
        tells=_line(table["tells"]),
        steps=tuple(steps),
        settings=str(table.get("settings", "")),
        looks_h=int(table.get("looks_h", 0)),
        last=bool(table.get("last")),
    )


def _rounds(table: dict[str, Any]) -> Rounds:
    every = timedelta(minutes=int(table["every_minutes"]))
    return Rounds(every, table["until"], tuple(map(time.fromisoformat, table.get("listen_at", ()))))


def _line(text: str) -> str:
    return " ".join(str(text).split())
