"""``site.toml``: the settings that people edit. Validated with file, line and key in the message.

The settings are plain frozen values; pydantic reads a file into them and is imported only when there is something to
read. A new site gets the commented file in ``site-template.toml``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cache
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal

from annotated_types import Ge, Le, MaxLen, Predicate

from scopion.alerts.alert_settings import (
    CHANNEL_TYPES,
    AlertSettings,
    ChannelSettings,
    RuleSettings,
    inconsistency,
    unknown_channel,
)
from scopion.model.errors import InvalidSettings, InvalidTarget
from scopion.model.secret import Secret
from scopion.model.targets import Targets
from scopion.model.text import clean, controls
from scopion.model.toml_text import parse_toml
from scopion.operations.site import find_folder as folders
from scopion.reports.report_settings import ReportSettings
from scopion.wireless.enforcer_settings import ENFORCER_TYPES, EnforcerSettings, WirelessSettings, enforcer_problem

if TYPE_CHECKING:
    from pydantic import TypeAdapter

FILE = folders.SETTINGS
TEMPLATE = Path(__file__).parent / "site-template.toml"
_STRICT: dict[str, Any] = {"extra": "forbid"}


class _ByType:
    """Tells the checker to choose a channel's class by its ``type``, so that a mistake is told of that one alone."""

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> Any:
        from pydantic import Field

        return handler.generate_schema(Annotated[source, Field(discriminator="type")])


_BY_TYPE = _ByType()


def _is_range(text: str) -> bool:
    try:
        return bool(Targets.parse([text]))
    except InvalidTarget:
        return False


def _is_timezone(text: str) -> bool:
    from zoneinfo import ZoneInfo

    if not text:
        return True
    try:
        return bool(ZoneInfo(text))
    except (OSError, ValueError, KeyError):  # what is not found is a KeyError
        return False


Range = Annotated[str, Predicate(_is_range)]


@dataclass(frozen=True)
class ScanSettings:
    """How ``scan`` asks unless its options say otherwise."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    method: Literal["auto", "arp", "touch", "echo"] = "auto"
    pace: Annotated[float, Ge(1), Le(50_000)] | None = None  # requests a second; None: by the medium
    rounds: Annotated[int, Ge(1), Le(100)] | None = None  # at most; None: by the answers


@dataclass(frozen=True)
class AbsenceSettings:
    """When silence means that somebody is gone."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    requests: Annotated[int, Ge(1), Le(100)] = 3  # asked at least this often
    span_s: Annotated[float, Ge(0), Le(3600)] = 1.0  # over at least this time
    # Not seen or heard for at least this time, whatever was asked; None: the watch has five minutes, a scan none.
    patience_s: Annotated[float, Ge(0), Le(7 * 86_400)] | None = None
    devices: dict[str, Annotated[float, Ge(0), Le(90 * 86_400)]] = field(default_factory=dict)  # patience_s of DEVICE


@dataclass(frozen=True)
class NameSettings:
    """How names are asked for."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    ask: bool = True
    lifetime_s: Annotated[float, Ge(0), Le(30 * 86_400)] = 3600.0  # a name is not asked for again sooner
    resolvers: Annotated[tuple[IPv4Address | IPv6Address, ...], MaxLen(4)] = ()  # empty: gateway and system's own


@dataclass(frozen=True)
class RouterSettings:
    """A router whose address table pairs the hosts behind it. Secrets are ``env:NAME`` or ``file:PATH``."""

    address: IPv4Address | IPv6Address
    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    version: Literal["2c", "3"] = "2c"
    port: Annotated[int, Ge(1), Le(65_535)] = 161
    community: Secret = ""
    user: Annotated[str, MaxLen(32)] = ""
    authentication: Literal["md5", "sha", "sha256", "sha512"] = "sha256"
    authentication_key: Secret = ""
    privacy: Literal["des", "aes", "aes256"] = "aes"
    privacy_key: Secret = ""


@dataclass(frozen=True)
class SubnetSettings:
    """What differs in one subnet."""

    range: IPv4Network
    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    name: Annotated[str, MaxLen(80)] = ""
    pace: Annotated[float, Ge(1), Le(50_000)] | None = None
    absence: AbsenceSettings | None = None
    dhcp_pool: Annotated[tuple[Range, ...], MaxLen(64)] = ()  # what the DHCP server gives out
    reserved: Annotated[tuple[Range, ...], MaxLen(64)] = ()  # what is kept for something
    router: IPv4Address | IPv6Address | None = None  # it lies behind this one; a [[router]] says how to read it
    interval_s: Annotated[float, Ge(5), Le(7 * 86_400)] | None = None  # how often the watch sweeps it
    learning_days: Annotated[float, Ge(0), Le(365)] | None = None


@dataclass(frozen=True)
class KeepSettings:
    """For how many days each kind of record is kept; 0 is for ever. What is known now is always kept."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    scans_days: Annotated[int, Ge(0), Le(36_500)] = 14  # of older ones the first of each day stays
    events_days: Annotated[int, Ge(0), Le(36_500)] = 1100
    stays_days: Annotated[int, Ge(0), Le(36_500)] = 1100
    traits_days: Annotated[int, Ge(0), Le(36_500)] = 400  # names and the like that were not heard for so long
    changes_days: Annotated[int, Ge(0), Le(36_500)] = 400  # what can be taken back


@dataclass(frozen=True)
class WatchSettings:
    """How ``scopion watch`` looks after the site."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    interval_s: Annotated[float, Ge(5), Le(7 * 86_400)] = 60  # between sweeps of a subnet
    interfaces: Annotated[tuple[str, ...], MaxLen(64)] = ()  # empty: every one that leads to a subnet of the site
    leases: Annotated[tuple[str, ...], MaxLen(16)] = ()  # files of the DHCP server on this machine
    leases_s: Annotated[float, Ge(1), Le(86_400)] = 60  # how often they are read
    routers_s: Annotated[float, Ge(5), Le(86_400)] = 300  # how often the tables of [[router]]s are read
    metrics_port: Annotated[int, Ge(1), Le(65_535)] | None = None  # on 127.0.0.1; None: none


@dataclass(frozen=True)
class Settings:
    """The whole file."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    name: Annotated[str, MaxLen(80)] = ""
    timezone: Annotated[str, MaxLen(64), Predicate(_is_timezone)] = ""  # of the site's clock; empty: this machine's
    scan: ScanSettings = field(default_factory=ScanSettings)
    absence: AbsenceSettings = field(default_factory=AbsenceSettings)
    names: NameSettings = field(default_factory=NameSettings)
    keep: KeepSettings = field(default_factory=KeepSettings)
    watch: WatchSettings = field(default_factory=WatchSettings)
    alerts: AlertSettings = field(default_factory=AlertSettings)
    subnet: tuple[SubnetSettings, ...] = ()
    router: tuple[RouterSettings, ...] = ()
    channel: tuple[Annotated[ChannelSettings, _BY_TYPE], ...] = ()
    rule: tuple[RuleSettings, ...] = ()
    wireless: WirelessSettings = field(default_factory=WirelessSettings)
    enforcer: tuple[Annotated[EnforcerSettings, _BY_TYPE], ...] = ()
    report: ReportSettings = field(default_factory=ReportSettings)

    def of_subnet(self, subnet: IPv4Network) -> SubnetSettings:
        """What holds in one subnet; the defaults if nothing is said of it."""
        return next((each for each in self.subnet if each.range == subnet), SubnetSettings(subnet))

    def interval_of(self, subnet: IPv4Network) -> float:
        """How often the watch sweeps a subnet, in seconds."""
        return self.of_subnet(subnet).interval_s or self.watch.interval_s

    def containing(self, address: IPv4Address) -> SubnetSettings | None:
        """The named subnet that an address belongs to."""
        return next((each for each in self.subnet if address in each.range), None)

    def called(self, text: str) -> SubnetSettings | None:
        """The subnet that is called so; None if none is."""
        named = text.strip().casefold()
        return next((each for each in self.subnet if each.name and each.name.casefold() == named), None)

    def router_of(self, subnet: IPv4Network) -> RouterSettings | None:
        """How to read the router of a subnet; None if there is none or nothing is said of it."""
        address = self.of_subnet(subnet).router
        return next((each for each in self.router if each.address == address), None)

    def absence_in(self, subnet: IPv4Network) -> AbsenceSettings:
        """When silence counts in one subnet."""
        return self.of_subnet(subnet).absence or self.absence


def load_settings(folder: Path) -> Settings:
    """The settings of a site's folder, the defaults if it has none. Raises InvalidSettings."""
    path = folder / FILE
    try:
        text = path.read_text(encoding="utf-8")
    except (FileNotFoundError, NotADirectoryError):
        return Settings()
    except OSError as error:
        raise InvalidSettings(f"{path} cannot be read: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise InvalidSettings(f"{path} is not UTF-8 text at byte {error.start}") from None
    try:
        document = parse_toml(text)
    except ValueError as error:
        raise InvalidSettings(f"{path}: {error}") from None
    if control := _control_character(document):
        raise InvalidSettings(f"{_place(path, text, control)}: a control character stands in it: no setting has one")
    # A new site's file has headings and no setting: nothing to validate, and no need to load what validates.
    return _validated(path, text, document) if any(document.values()) else Settings()


@cache
def adapter() -> TypeAdapter[Settings]:
    """What reads a document into settings; to make it takes a tenth of a second."""
    from pydantic import TypeAdapter

    return TypeAdapter(Settings)


def _validated(path: Path, text: str, document: dict[str, Any]) -> Settings:
    from pydantic import ValidationError

    try:
        settings = adapter().validate_python(document)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        more = error.error_count() - 1
        also = f" (and {more} more)" if more else ""
        where = _place(path, text, _written_location(first["loc"]))
        raise InvalidSettings(f"{where}: {_said(first)}{also}") from None
    problems = (
        inconsistency(settings.channel, settings.rule),
        unknown_channel(settings.channel, settings.report.channels, "the weekly report"),
        enforcer_problem(settings.enforcer),
    )
    if problem := next(filter(None, problems), ""):
        raise InvalidSettings(f"{path}: {problem}")
    return settings


def _place(path: Path, text: str, location: Sequence[int | str]) -> str:
    """The file, the line and the key of a setting, as messages name it."""
    key = ".".join(str(part + 1) if isinstance(part, int) else clean(part, 80) for part in location)
    line = line_of(text, location)
    return f"{path}, line {line}: {key}" if line else f"{path}: {key}"


def _control_character(value: Any, location: tuple[int | str, ...] = ()) -> tuple[int | str, ...] | None:
    """Where a document has a text, or a key, with a character that no line of any file should have; None: nowhere."""
    if isinstance(value, str):
        # The body of a webhook is a template, of several lines if need be, and is no part of any other syntax.
        lines = location[:1] == ("channel",) and location[-1:] == ("body",)
        return location if controls(re.sub(r"[\r\n\t]", "", value) if lines else value) else None
    if isinstance(value, dict):
        for key, each in value.items():
            found = (*location, key) if controls(key) else _control_character(each, (*location, key))
            if found:
                return found
    elif isinstance(value, list):
        for number, each in enumerate(value):
            if found := _control_character(each, (*location, number)):
                return found
    return None


def _written_location(location: tuple[int | str, ...]) -> tuple[int | str, ...]:
    """Where it stands in the file: without the type by which a channel's class was chosen."""
    return location[:2] + location[3:] if location[0] in ("channel", "enforcer") else location


# What a text that does not fit should have been, by the setting; all others of this kind are secrets.
_EXPECTED = {
    ("dhcp_pool", "reserved"): "write ranges as 192.0.2.100-192.0.2.199, not {given!r}",
    ("timezone",): "{given!r} is no time zone: write it as Europe/Lisbon",
    ("hours", "night"): "write hours as 22:00-06:30, not {given!r}",
    ("digest_at",): "write a time of day as 08:00, not {given!r}",
    ("to", "sender"): "{given!r} is no mail address: write it as owner@kilnhaven.example, without a name",
    ("name", "channels"): "{given!r} is no name: letters, digits, - and _",
    (
        "socket",
        "accept_file",
        "deny_file",
        "config",
    ): "{given!r} is no path from the root, as /run/hostapd/wlan0",
    ("interface",): "{given!r} is no interface's name",
    ("weekly",): "write a weekday and a time as monday 07:00, not {given!r}",
    ("content_type",): "{given!r} is no media type: write it as text/plain",
}


def _said(error: Any) -> str:
    if error["type"] == "predicate_failed":
        fitting = [said for keys, said in _EXPECTED.items() if {*keys} & {*error["loc"]}]
        secret = (
            'a secret does not stand here: write "env:NAME" for a variable of the environment, "file:PATH", '
            'or "credential:NAME" for one that the service manager hands over'
        )
        return fitting[0].format(given=error.get("input")) if fitting else secret
    if error["type"] in ("unexpected_keyword_argument", "extra_forbidden"):
        return "there is no such setting; the commented file of a new site lists all"
    if error["type"] in ("union_tag_invalid", "union_tag_not_found"):
        given = error.get("ctx", {}).get("tag")
        types = ENFORCER_TYPES if error["loc"][0] == "enforcer" else CHANNEL_TYPES
        return f"there is no type {given!r}: {types}" if given else f"it needs a type: {types}"
    if error["type"] == "string_type":  # never shown: a number may be somebody's password
        return "a text is needed: write it in quotes"
    message = str(error["msg"])
    given = error.get("input")
    said = message[0].lower() + message[1:]
    return said if isinstance(given, dict | list) else f"{said}, not {given!r}"


def line_of(text: str, location: Sequence[int | str]) -> int | None:
    """The line on which a key stands, given as the parts of its path; its table's line if the key is not there."""
    wanted = [part for part in location if isinstance(part, str)]
    nth = next((part for part in location if isinstance(part, int)), 0)
    table: list[str] = []
    seen = -1
    best: int | None = None
    for number, line in enumerate(text.splitlines(), 1):
        if heading := re.match(r"\s*\[(\[?)([^\]]+)\]", line):
            table = [part.strip().strip("\"'") for part in heading[2].split(".")]
            seen += 1 if heading[1] and table == wanted[: len(table)] else 0
            if table == wanted[: len(table)] and (not heading[1] or seen == nth):
                best = number
        elif assignment := re.match(r"\s*([\w.\"'-]+)\s*=", line):
            path = table + [part.strip("\"'") for part in assignment[1].split(".")]
            if path == wanted[: len(path)] and (seen == nth or seen < 0 or not table):
                return number
    return best
