"""What ``site.toml`` may say, as plain frozen values. ``load_settings`` reads and checks the file.

The settings of alerts, enforcers and reports are in their own rooms and are parts of this one.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import field
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from typing import Annotated, Any, Literal, Union

from annotated_types import Ge, Le, MaxLen, Predicate

from scopion.alerts.alert_settings import AlertSettings, ChannelSettings, RuleSettings
from scopion.alerts.channels.registry import ChannelType, channel_types
from scopion.alerts.missing import ExpectSettings
from scopion.alerts.reminders import RemindSettings
from scopion.model.errors import InvalidTarget
from scopion.model.place import is_place_name
from scopion.model.settings_table import settings_table
from scopion.model.targets import Targets
from scopion.operations.site.broker_settings import SensorSettings, SiteBrokerSettings
from scopion.operations.site.snmp_settings import RouterSettings, SwitchSettings, WhereSettings
from scopion.operations.site.usage_settings import MeterSettings, MuchSettings
from scopion.reports.report_settings import ReportSettings
from scopion.wireless.enforcer_settings import EnforcerSettings, WirelessSettings
from scopion.wireless.enforcers.registry import EnforcerType, enforcer_types


class ByType:
    """Tells the checker to choose a class of a registry by ``type``, so that a mistake is reported for it alone."""

    def __init__(self, entries: Callable[[], Sequence[ChannelType | EnforcerType]]) -> None:
        self._entries = entries

    @property
    def classes(self) -> list[type]:
        """Return the settings classes of all types."""
        return [each.settings for each in self._entries()]

    def __get_pydantic_core_schema__(self, source: Any, handler: Any) -> Any:
        from pydantic import Field

        chosen: Any = Union[tuple(self.classes)]  # noqa: UP007 - it is made of a list
        return handler.generate_schema(Annotated[chosen, Field(discriminator="type")])


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
    except (OSError, ValueError, KeyError):  # a missing zone is a KeyError
        return False


Place = Annotated[str, Predicate(lambda text: not text or is_place_name(text))]
Range = Annotated[str, Predicate(_is_range)]


@settings_table
class ScanSettings:
    """How ``scan`` asks unless its options say otherwise."""

    method: Literal["auto", "arp", "touch", "echo"] = "auto"
    pace: Annotated[float, Ge(1), Le(50_000)] | None = None  # requests a second; None: by the medium
    rounds: Annotated[int, Ge(1), Le(100)] | None = None  # at most; None: by the answers


@settings_table
class AbsenceSettings:
    """When silence means that a device is gone."""

    requests: Annotated[int, Ge(1), Le(100)] = 3  # it was asked at least this often
    span_s: Annotated[float, Ge(0), Le(3600)] = 1.0  # over at least this time
    # It was not seen or heard for at least this time; None: five minutes for the watch, none for a scan.
    patience_s: Annotated[float, Ge(0), Le(7 * 86_400)] | None = None
    devices: dict[str, Annotated[float, Ge(0), Le(90 * 86_400)]] = field(default_factory=dict)  # patience_s of DEVICE


@settings_table
class NameSettings:
    """How names are asked for."""

    ask: bool = True
    lifetime_s: Annotated[float, Ge(0), Le(30 * 86_400)] = 3600.0  # a name is not asked for again sooner
    # empty: the gateway and the system's own
    resolvers: Annotated[tuple[IPv4Address | IPv6Address, ...], MaxLen(4)] = ()


@settings_table
class SubnetSettings:
    """What is different in one subnet."""

    range: IPv4Network
    name: Annotated[str, MaxLen(80)] = ""
    place: Place = ""  # whose subnet it is; empty: of this machine's place
    pace: Annotated[float, Ge(1), Le(50_000)] | None = None
    absence: AbsenceSettings | None = None
    dhcp_pool: Annotated[tuple[Range, ...], MaxLen(64)] = ()  # what the DHCP server gives out
    reserved: Annotated[tuple[Range, ...], MaxLen(64)] = ()  # addresses that are kept free
    router: IPv4Address | IPv6Address | None = None  # it is behind this one; a [[router]] says how to read it
    interval_s: Annotated[float, Ge(5), Le(7 * 86_400)] | None = None  # how often the watch sweeps it
    learning_days: Annotated[float, Ge(0), Le(365)] | None = None


@settings_table
class KeepSettings:
    """For how many days each kind of record is kept; 0 is for ever. What is known now is always kept."""

    scans_days: Annotated[int, Ge(0), Le(36_500)] = 14  # of older ones the first of each day stays
    events_days: Annotated[int, Ge(0), Le(36_500)] = 1100
    stays_days: Annotated[int, Ge(0), Le(36_500)] = 1100
    traits_days: Annotated[int, Ge(0), Le(36_500)] = 400  # names and the like that were not heard for this long
    changes_days: Annotated[int, Ge(0), Le(36_500)] = 400  # what can be taken back
    wires_days: Annotated[int, Ge(0), Le(36_500)] = 90  # at which port, and on which access point, an adapter was


@settings_table
class WatchSettings:
    """How ``scopion watch`` looks after the site."""

    interval_s: Annotated[float, Ge(5), Le(7 * 86_400)] = 60  # between sweeps of a subnet
    interfaces: Annotated[tuple[str, ...], MaxLen(64)] = ()  # empty: all that lead to a subnet of the site
    leases: Annotated[tuple[str, ...], MaxLen(16)] = ()  # files of the DHCP server on this machine
    leases_s: Annotated[float, Ge(1), Le(86_400)] = 60  # how often they are read
    routers_s: Annotated[float, Ge(5), Le(86_400)] = 300  # how often the tables of [[router]]s are read
    meters_s: Annotated[float, Ge(5), Le(86_400)] = 60  # how often the counts of [[meter]]s are read
    switches_s: Annotated[float, Ge(5), Le(86_400)] = 60  # how often [[switch]]es are read
    metrics_port: Annotated[int, Ge(1), Le(65_535)] | None = None  # on 127.0.0.1; None: none


@settings_table
class Settings:
    """The whole file."""

    name: Annotated[str, MaxLen(80)] = ""
    timezone: Annotated[str, MaxLen(64), Predicate(_is_timezone)] = ""  # of the site's clock; empty: this machine's
    place: Place = ""  # the name of this machine's place; empty while it is the only one
    scan: ScanSettings = field(default_factory=ScanSettings)
    absence: AbsenceSettings = field(default_factory=AbsenceSettings)
    names: NameSettings = field(default_factory=NameSettings)
    keep: KeepSettings = field(default_factory=KeepSettings)
    watch: WatchSettings = field(default_factory=WatchSettings)
    alerts: AlertSettings = field(default_factory=AlertSettings)
    subnet: tuple[SubnetSettings, ...] = ()
    router: tuple[RouterSettings, ...] = ()
    switch: tuple[SwitchSettings, ...] = ()
    where: WhereSettings = field(default_factory=WhereSettings)
    meter: tuple[MeterSettings, ...] = ()
    much: tuple[MuchSettings, ...] = ()
    channel: tuple[Annotated[ChannelSettings, ByType(channel_types)], ...] = ()
    rule: tuple[RuleSettings, ...] = ()
    expect: tuple[ExpectSettings, ...] = ()
    wireless: WirelessSettings = field(default_factory=WirelessSettings)
    enforcer: tuple[Annotated[EnforcerSettings, ByType(enforcer_types)], ...] = ()
    report: ReportSettings = field(default_factory=ReportSettings)
    remind: RemindSettings = field(default_factory=RemindSettings)
    broker: SiteBrokerSettings | None = None  # by which sensors of other places report
    sensor: tuple[SensorSettings, ...] = ()

    @property
    def here(self) -> tuple[SubnetSettings, ...]:
        """Return the subnets of this machine's place."""
        return tuple(each for each in self.subnet if self._is_of(each, None))

    def of_subnet(self, subnet: IPv4Network, place: str | None = None) -> SubnetSettings:
        """Return the settings of one subnet of a place (this machine's for None); the defaults if nothing is set for
        it.
        """
        found = (each for each in self.subnet if each.range == subnet and self._is_of(each, place))
        return next(found, SubnetSettings(range=subnet, place=place or ""))

    def _is_of(self, subnet: SubnetSettings, place: str | None) -> bool:
        return (subnet.place or self.place) == (place or self.place)

    def interval_of(self, subnet: IPv4Network, place: str | None = None) -> float:
        """Return how often a subnet is swept, in seconds."""
        return self.of_subnet(subnet, place).interval_s or self.watch.interval_s

    def containing(self, address: IPv4Address) -> SubnetSettings | None:
        """Return the named subnet of this machine's place that an address belongs to."""
        return next((each for each in self.here if address in each.range), None)

    def called(self, text: str) -> SubnetSettings | None:
        """Return the subnet with this name; None if there is none. Those of this machine's place come first."""
        named = text.strip().casefold()
        ordered = sorted(self.subnet, key=lambda each: not self._is_of(each, None))
        return next((each for each in ordered if each.name and each.name.casefold() == named), None)

    def router_of(self, subnet: IPv4Network) -> RouterSettings | None:
        """Return how to read the router of a subnet; None if there is none or it has no settings."""
        address = self.of_subnet(subnet).router
        return next((each for each in self.router if each.address == address), None)

    def absence_in(self, subnet: IPv4Network, place: str | None = None) -> AbsenceSettings:
        """Return when silence counts in one subnet."""
        return self.of_subnet(subnet, place).absence or self.absence
