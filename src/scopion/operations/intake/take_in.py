"""Takes observations from any source into the roster while a site is watched: folds them and queues the alerts.

What this machine heard, what a lease file or a router tells, what a sensor elsewhere has sent: all of it comes through
here as the same observations. Nothing here assumes that this machine made them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from ipaddress import IPv4Network

from scopion.model.address import Address
from scopion.model.batch import ScanFacts
from scopion.model.device import Device, Event
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Pair, TraitKind
from scopion.model.targets import Targets
from scopion.operations.intake.queue_alerts import queue_for
from scopion.operations.site.open_site import Site
from scopion.operations.site.relay import must_be_apart
from scopion.roster.folding.fold_observations import fold
from scopion.roster.folding.judge_absence import Silence
from scopion.roster.folding.note_outages import down_since, note_back, note_down
from scopion.roster.folding.note_sheets import note_sheet
from scopion.roster.read_devices import devices_about
from scopion.roster.scans import known_subnets
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import stored_address, stored_mac


@dataclass(frozen=True, slots=True)
class Known:
    """The known and present devices of this machine's place, by which news is recognised; read after each fold."""

    present: frozenset[Pair] = frozenset()
    here: frozenset[MacAddress] = frozenset()
    names: frozenset[tuple[MacAddress, str]] = frozenset()  # the names of present adapters
    holders: Mapping[Address, Collection[MacAddress]] = field(default_factory=dict)  # of each address, now
    gateways: Mapping[Address, IPv4Network] = field(default_factory=dict)  # and the subnet of each
    devices: int = 0  # how many are here

    @classmethod
    def of(cls, roster: Roster) -> Known:
        """Read it from the roster."""
        holders: dict[Address, set[MacAddress]] = defaultdict(set)
        with roster.guarded():
            home = (roster.home,)
            for mac, address in roster.db.execute("SELECT mac, address FROM stay WHERE place = ? AND present", home):
                holders[stored_address(address)].add(stored_mac(mac))
            called = roster.db.execute(
                "SELECT subject, value FROM trait "
                "WHERE place = ?1 AND kind = 'name' AND subject IN (SELECT mac FROM stay WHERE place = ?1 AND present)",
                home,
            )
            names = frozenset((stored_mac(mac), name) for mac, name in called)
            devices = roster.db.execute(
                "SELECT count(*) FROM (SELECT device FROM adapter JOIN stay USING (mac) WHERE place = ?1 AND present "
                "UNION SELECT device FROM unpaired WHERE place = ?1 AND present)",
                home,
            ).fetchone()[0]
        gateways: dict[Address, IPv4Network] = {
            each.gateway: each.range for each in known_subnets(roster) if each.gateway is not None
        }
        present = frozenset((mac, address) for address, those in holders.items() for mac in those)
        macs = frozenset(mac for those in holders.values() for mac in those)
        return cls(present, macs, names, holders, gateways, devices)

    def has_come(self, seen: Observation) -> bool:
        """Tell whether a device has come, or is at another address."""
        return seen.address is not None and (seen.mac, seen.address) not in self.present

    def is_news(self, seen: Observation) -> bool:
        """Tell whether a device has come or has another name: that is taken in at once, the rest now and then."""
        if self.has_come(seen):
            return True
        if not seen.traits or seen.mac is None or seen.mac not in self.here:
            return False
        names = (trait.value for trait in seen.traits if trait.kind is TraitKind.NAME)
        return any((seen.mac, name) not in self.names for name in names)

    def claims_a_held_address(self, seen: Observation) -> bool:
        """Tell whether it claims an IPv4 address that another adapter had."""
        if seen.address is None or seen.mac is None or seen.address.version != 4:
            return False
        return bool(set(self.holders.get(seen.address, ())) - {seen.mac})


@dataclass(frozen=True, slots=True)
class TakenIn:
    """The result of taking something in."""

    events: Sequence[Event] = ()
    devices: Mapping[int, Device] = field(default_factory=dict)  # the devices of the events, by their numbers


def take_in(
    site: Site,
    observations: Sequence[Observation],
    asked_enough: Collection[Address] = (),
    began: datetime | None = None,
    subnet: IPv4Network | None = None,
) -> TakenIn:
    """Fold what is admitted and queue the alerts, in one transaction. Raises StorageFailed, DamagedRoster.

    ``asked_enough`` are addresses of a ``subnet`` that were asked since ``began`` so often that a silent device there
    is gone.
    """
    clock, roster = site.clock, site.roster
    admitted: Sequence[Observation] = observations
    if site.watch_state is not None:
        admitted = site.watch_state.admitted(roster, observations, clock.monotonic())
    if not admitted and not asked_enough:
        return TakenIn()
    now = clock.now()
    with roster.transaction():
        events = fold(roster, admitted, asked_enough, now, silence=Silence(began or now), today=clock.local(now).date())
        devices = devices_about(roster, events)
        seen_in = {each.mac: each.subnet for each in admitted if each.mac and each.subnet}
        queue_for(site, roster, events, devices, seen_in)
    if site.relay is not None:
        silent = set(asked_enough) - {each.address for each in admitted if each.address is not None}
        question = _question(site, silent, began or now, now, subnet) if silent and subnet else None
        site.relay.note(admitted, question, apart=must_be_apart(events, question), news=bool(events))
    return TakenIn(events, devices)


def _question(
    site: Site, silent: Collection[Address], began: datetime, ended: datetime, subnet: IPv4Network
) -> ScanFacts | None:
    """Return what was asked beside the sweeps without an answer, for those who judge it elsewhere."""
    numbers = sorted(int(each) for each in silent if each in subnet)
    if not numbers:
        return None
    absence = site.settings.absence_in(subnet)
    return ScanFacts(
        step=0, began=began, ended=ended, subnet=subnet, targets=Targets(tuple((each, each) for each in numbers)),
        interface="", method="arp", asked=len(numbers), times=absence.requests, span_s=absence.span_s,
        is_question=True,
    )  # fmt: skip


def tell_down(site: Site, subnet: IPv4Network, why: str = "") -> TakenIn:
    """Record and queue that a whole subnet is down; nothing if that was told."""
    if down_since(site.roster, subnet) is not None:
        return TakenIn()
    return recorded(site, lambda: note_down(site.roster, subnet, site.clock.now(), why))


def tell_back(site: Site, subnet: IPv4Network) -> TakenIn:
    """Record and queue that a subnet answers again; nothing if it was not down."""
    if down_since(site.roster, subnet) is None:
        return TakenIn()
    return recorded(site, lambda: note_back(site.roster, subnet, site.clock.now()))


def tell_sheet(site: Site, ssid: str, enforcer: str, since: datetime) -> TakenIn:
    """Record and queue that the sheet of a page is due, and since when."""
    return recorded(site, lambda: note_sheet(site.roster, ssid, enforcer, site.clock.now(), since))


def recorded(site: Site, note: Callable[[], Sequence[Event]]) -> TakenIn:
    """Let events be recorded and queue their alerts, in one transaction."""
    with site.roster.transaction():
        events = note()
        devices = devices_about(site.roster, events)
        queue_for(site, site.roster, events, devices)
    return TakenIn(events, devices)
