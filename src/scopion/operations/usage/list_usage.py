"""Who uses the line now, and who did today and this week: each device by the counter that sees it best."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from scopion.model.device import Device
from scopion.model.mac import MacAddress
from scopion.model.usage import UsageSource
from scopion.operations.devices.list_devices import devices
from scopion.operations.site.open_site import Site
from scopion.roster.usage.counters import Rate, last_counted, rates_since
from scopion.roster.usage.history import DAY, HOUR, Used, begin_of, used_since
from scopion.roster.wires.switches import KnownPort, known_ports
from scopion.roster.wires.wire_stays import WireStay, by_port, present_wire_stays

_WEEK = timedelta(days=6)  # and today
_FRESH = timedelta(minutes=3)  # or two and a half times the time between two readings
# Of what the router has counted, counters at the edge must have seen so much: a device may have been at a port with
# others for a part of the time.
_MOST_OF = 0.9
# These count on the air; one association may be told by both.
_AIR = (UsageSource.STATION, UsageSource.ACCOUNTING)
_EDGE = (UsageSource.CABLE, *_AIR)
# A router counts the same again, wherever the device hangs.
_ROUTER = (UsageSource.FLOW, UsageSource.LIST)
CANNOT_SEE: Mapping[UsageSource, str] = {
    UsageSource.STATION: "all that it sent and got on the air",
    UsageSource.ACCOUNTING: "all on the air, as often as the access point reports",
    UsageSource.LIST: "what the page's router counted, between two pasted lists",
    UsageSource.CABLE: "all that passed its port, where it hangs alone",
    UsageSource.PORT: "all that hangs at the port together, and not which device",
    UsageSource.FLOW: "what passed the router, and nothing between devices of the subnet",
}


Counter = tuple[UsageSource, str]  # a source, and what it counts: a MAC address, or the number of a port


@dataclass(frozen=True, slots=True)
class Octets:
    """What was used in a time."""

    up: int = 0  # from the device
    down: int = 0  # to it

    @property
    def total(self) -> int:
        """Return octets both ways."""
        return self.up + self.down

    def __add__(self, other: Octets) -> Octets:
        """Return both together."""
        return Octets(self.up + other.up, self.down + other.down)


@dataclass(frozen=True, slots=True)
class UsageRow:
    """What one device, or all at one port together, has used."""

    name: str
    device: Device | None  # None: several at a port, or an adapter that is no device
    macs: tuple[MacAddress, ...]
    source: UsageSource
    where: str  # who counted, in words
    counters: frozenset[Counter]  # those that are added up
    up_bps: float | None  # None: not known just now
    down_bps: float | None
    today: Octets
    week: Octets
    together: tuple[str, ...] = ()  # the names of what hangs at the port
    others: int = 0  # and how many more

    @property
    def now(self) -> float:
        """Return bits a second both ways; 0 if that is not known."""
        return (self.up_bps or 0.0) + (self.down_bps or 0.0)


@dataclass(frozen=True, slots=True)
class Usage:
    """The answer."""

    rows: tuple[UsageRow, ...]  # the largest now first
    at: datetime
    since: datetime  # when the week began


@dataclass(slots=True)
class _Told:
    """What the counters say about one adapter or port."""

    rates: dict[UsageSource, Rate] = field(default_factory=dict)
    today: dict[UsageSource, Octets] = field(default_factory=dict)
    week: dict[UsageSource, Octets] = field(default_factory=dict)
    where: dict[UsageSource, str] = field(default_factory=dict)

    def best(self) -> UsageSource | None:
        """Return the counter that sees it best: at the edge, unless only a router has seen most of it."""
        edge, router = self._largest(_EDGE), self._largest(_ROUTER)
        if edge is None or router is None:
            return edge or router
        sees = self.sum_of(self.week, self.added_up(edge)).total
        return edge if sees >= self.week.get(router, Octets()).total * _MOST_OF else router

    def _largest(self, sources: Iterable[UsageSource]) -> UsageSource | None:
        known = [each for each in sources if each in self.where]
        return max(known, key=lambda each: self.week.get(each, Octets()).total, default=None)

    def added_up(self, best: UsageSource) -> list[UsageSource]:
        """Return the counters that are added up for the chosen one: at the edge, on cable and on the air together."""
        if best in _ROUTER:
            return [best]
        air = self._largest(_AIR)
        return [each for each in (UsageSource.CABLE, air) if each is not None and each in self.where]

    def sum_of(self, of: Mapping[UsageSource, Octets], sources: Iterable[UsageSource]) -> Octets:
        """Return what some counters have counted together."""
        return sum((of.get(each, Octets()) for each in sources), Octets())


def nothing_counted(site: Site) -> str:
    """Return why there is no figure, and what to do."""
    settings = site.settings
    if settings.switch or settings.meter or settings.enforcer:
        return "nothing was counted yet: scopion watch reads the counters all the time, --live each second"
    if last_counted(site.roster_for_reading(), UsageSource.LIST) is not None:
        return "a list with amounts was pasted: paste it again later (scopion import -), the difference counts"
    return (
        "no one counts: write a [[switch]], an [[enforcer]] with its access point or a [[meter]] into site.toml, or "
        "paste the router's list of clients twice, if it shows amounts; docs/guide.md, The line is slow"
    )


def list_usage(
    site: Site, *, since: datetime | None = None, step: int = HOUR, live: Iterable[Rate] | None = None
) -> Usage:
    """Return what each device, and each port with several, uses and has used.

    ``since`` is when the time begins that counts as this week, by hours or another ``step``; for None it is the last
    seven days of the calendar. ``live`` are rates that were measured just now.
    """
    roster, now = site.roster_for_reading(), site.clock.now()
    midnight = begin_of(DAY, now, site.clock.local)
    if since is None:
        # A year has 24 times as many hours as days. In the middle of that day, whatever was done to clocks since.
        since, step = begin_of(DAY, midnight - _WEEK + timedelta(hours=12), site.clock.local), DAY
    week = used_since(roster, since, step)
    rates = list(live) if live is not None else _fresh(rates_since(roster, now - timedelta(hours=2)), now)
    told = _gathered(rates, used_since(roster, midnight, DAY), week)
    ports, stays = known_ports(roster), by_port(present_wire_stays(roster))
    owner = {mac: device for device in devices(site) for mac in device.macs}
    rows = [*_device_rows(told, owner), *_port_rows(told, ports, stays, owner)]
    rows = [row for row in rows if row.now or row.week.total]
    rows.sort(key=lambda row: (row.now, row.today.total, row.week.total), reverse=True)
    return Usage(tuple(rows), now, since)


def _fresh(rates: Iterable[Rate], now: datetime) -> list[Rate]:
    return [each for each in rates if now - each.at <= max(_FRESH, timedelta(seconds=2.5 * each.seconds))]


def _gathered(rates: Iterable[Rate], today: Iterable[Used], week: Iterable[Used]) -> dict[str, _Told]:
    """Return all that is told by subject; ports stand under their number."""
    found: dict[str, _Told] = defaultdict(_Told)
    for rate in rates:
        told = found[rate.subject]
        told.where.setdefault(rate.source, rate.where)
        before = told.rates.get(rate.source)
        if before is None or before.at < rate.at:
            told.rates[rate.source] = rate
    for name, those in (("today", today), ("week", week)):
        for used in those:
            told = found[used.subject]
            told.where[used.source] = used.where
            sums: dict[UsageSource, Octets] = getattr(told, name)
            sums[used.source] = sums.get(used.source, Octets()) + Octets(used.up, used.down)
    return found


def _device_rows(told: Mapping[str, _Told], owner: Mapping[MacAddress, Device]) -> list[UsageRow]:
    """Return a row for each device, all its adapters together."""
    groups: dict[int | str, list[tuple[MacAddress, _Told]]] = defaultdict(list)
    for subject, each in told.items():
        if ":" in subject:
            mac = MacAddress.parse(subject)
            groups[owner[mac].id if mac in owner else subject].append((mac, each))
    rows = []
    for group in groups.values():
        chosen = [(mac, each, best) for mac, each in group if (best := each.best()) is not None]
        if not chosen:
            continue
        parts = [(mac, each, best, each.added_up(best)) for mac, each, best in chosen]
        parts.sort(key=lambda part: part[1].sum_of(part[1].week, part[3]).total, reverse=True)
        rates = [rate for _, each, best, _ in parts if (rate := _rate_of(each, best)) is not None]
        device = owner.get(parts[0][0])
        _, first, source, _ = parts[0]
        rows.append(
            UsageRow(
                name=device.called if device is not None else str(parts[0][0]),
                device=device,
                macs=tuple(mac for mac, *_ in parts),
                source=source,
                where=first.where.get(source, ""),
                counters=frozenset((each, str(mac)) for mac, _, _, sources in parts for each in sources),
                up_bps=sum(each.up_bps for each in rates) if rates else None,
                down_bps=sum(each.down_bps for each in rates) if rates else None,
                today=sum((each.sum_of(each.today, sources) for _, each, _, sources in parts), Octets()),
                week=sum((each.sum_of(each.week, sources) for _, each, _, sources in parts), Octets()),
            )
        )
    return rows


def _rate_of(told: _Told, best: UsageSource) -> Rate | None:
    """Return how fast it is now: by the chosen counter, else by another one at the edge."""
    for source in (best, *_EDGE):
        if source in told.rates:
            return told.rates[source]
    return None


def _port_rows(
    told: Mapping[str, _Told],
    ports: Mapping[int, KnownPort],
    stays: Mapping[int, Sequence[WireStay]],
    owner: Mapping[MacAddress, Device],
) -> list[UsageRow]:
    """Return a row for each port at which several hang that no other counter tells apart."""
    counted = {subject for subject, each in told.items() if ":" in subject and each.best() is not None}
    rows = []
    for subject, each in told.items():
        port = ports.get(int(subject)) if subject.isdecimal() else None
        if port is None or port.leads_to or port.adapters < 2:
            continue
        macs = [stay.mac for stay in stays.get(port.id, ())]
        if macs and sum(str(mac) in counted for mac in macs) * 2 > len(macs):
            continue  # most of them are told by themselves: their sum is no further figure
        names = sorted({owner[mac].called for mac in macs if mac in owner and owner[mac].label})
        rate = each.rates.get(UsageSource.PORT)
        rows.append(
            UsageRow(
                name=f"{port.where}: {port.adapters} devices together",
                device=None,
                macs=tuple(macs),
                source=UsageSource.PORT,
                where=str(port.port),
                counters=frozenset([(UsageSource.PORT, subject)]),
                up_bps=rate.up_bps if rate is not None else None,
                down_bps=rate.down_bps if rate is not None else None,
                today=each.today.get(UsageSource.PORT, Octets()),
                week=each.week.get(UsageSource.PORT, Octets()),
                together=tuple(names),
                others=max(0, port.adapters - len(names)),
            )
        )
    return rows
