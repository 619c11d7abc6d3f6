"""Folds the batches of sensors: each once, in their order, with the same result as if its steps had been folded here.

A batch covers a minute, or a week without a line. A step by itself is folded as a scan of this machine is. Of
many steps only those are folded one by one that can change anything: at all others, what was there still is.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from enum import StrEnum
from ipaddress import IPv4Network

from scopion.model.address import Address
from scopion.model.batch import Batch, ScanFacts, SensorClocks, Sighting, moved
from scopion.model.device import Device, Event
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, TraitKind
from scopion.operations.intake.flood_guard import FloodGuard, KnownPairs
from scopion.operations.intake.patience import Patience
from scopion.operations.intake.queue_alerts import queue_for
from scopion.operations.intake.trust_scan import LATELY, doubt_about, finds_one_claimant, judging_sources
from scopion.operations.scan.recognise_network import Belonging, recognise
from scopion.operations.site.open_site import Site
from scopion.operations.site.site_settings import AbsenceSettings
from scopion.roster.folding.fold_observations import fold, note_gateway_changed, note_sensor_adapters
from scopion.roster.folding.judge_absence import IPV6_FORGOTTEN, Silence
from scopion.roster.folding.note_outages import note_back, note_down
from scopion.roster.read_devices import devices_about, some_devices
from scopion.roster.scans import begin_scan, end_scan, known_subnets, note_baseline, note_subnet, usual_answers
from scopion.roster.sensors import (
    SubnetReach,
    folded_number,
    hear_sensor,
    keep_documents,
    note_folded,
    note_reaches,
    subnet_reaches,
    take_kept,
)
from scopion.roster.store.stored_values import from_ms, stored_address, stored_mac
from scopion.wire.sensor_documents import READABLE, sightings_of

_Key = tuple[MacAddress | None, Address]
# One scan without any answer may be a switch that restarts; this many in a row are an outage.
_SILENT_SCANS = 2
_KEPT_ANSWERS = 16  # of the latest scans of a subnet, to say how many answers are usual


class Taken(StrEnum):
    """What became of a batch."""

    FOLDED = "folded"
    KNOWN = "known"  # it was folded before
    TOO_SOON = "too soon"  # earlier ones are missing: they come again, and this one after them


@dataclass(slots=True)
class TakenBatch:
    """The result of taking a batch."""

    taken: Taken
    events: list[Event] = field(default_factory=list)
    devices: dict[int, Device] = field(default_factory=dict)
    elsewhere: str = ""  # why the sensor seems to be in another network, so that nothing of that was folded
    unread: int = 0  # documents that could not be kept: there were too many


def fold_batch(site: Site, batch: Batch, by: timedelta = timedelta(), guard: FloodGuard | None = None) -> TakenBatch:
    """Fold a batch and note its number, in one transaction. Raises StorageFailed, DamagedRoster.

    Its moments are ``moved`` by the difference of the clocks first. ``guard`` bounds how many new devices it may bring.
    """
    roster, now = site.roster, site.clock.now()
    with roster.transaction():
        done = folded_number(roster, batch.sensor, batch.life)
        if batch.number <= done:
            return TakenBatch(Taken.KNOWN)
        if batch.after > done:
            return TakenBatch(Taken.TOO_SOON)
        hear_sensor(roster, batch.sensor, batch.place, now)
        replay = _Replay(site, batch, by, guard)
        replay.run()
        if batch.own:
            note_sensor_adapters(roster, batch.sensor, batch.own, batch.place)
        kept = keep_documents(roster, batch, by, now)
        told = min(moved(batch.clocks.at, by), now)
        note_folded(roster, batch.sensor, batch.life, batch.number, told, now)
        found = TakenBatch(Taken.FOLDED, replay.events, elsewhere=replay.elsewhere, unread=len(batch.unknown) - kept)
        found.devices = devices_about(roster, replay.events)
        return found


def fold_kept(site: Site) -> int:
    """Fold what earlier versions kept because they did not know its form. Returns how many sightings that were.

    Only what was seen: it is too late for what was asked to judge any silence. Raises StorageFailed, DamagedRoster.
    """
    roster, count = site.roster, 0
    with roster.transaction():
        for kept in take_kept(roster, READABLE):
            sightings = list(sightings_of(kept.texts, kept.closed))
            batch = Batch(
                kept.sensor, kept.place, "", 0, 0, SensorClocks(kept.closed, "", 0.0), sightings=tuple(sightings)
            )
            replay = _Replay(site, batch, kept.by, None)
            replay.run()
            count += len(sightings)
    return count


class _Asked:
    """Which addresses a scan has asked so often and for so long that a silent device there is gone."""

    def __init__(self, scan: ScanFacts, absence: AbsenceSettings) -> None:
        self._scan = scan
        self.enough = scan.completed and scan.times >= absence.requests and scan.span_s >= absence.span_s

    def __contains__(self, address: object) -> bool:
        return self.enough and (address in self._scan.targets or address in self._scan.silent)


class _Replay:
    """Folds one batch, step after step."""

    def __init__(self, site: Site, batch: Batch, by: timedelta, guard: FloodGuard | None) -> None:
        self._site, self._roster, self._batch, self._by, self._guard = site, site.roster, batch, by, guard
        self._place = batch.place
        self._one_step = batch.steps == 1
        self._pending: list[Observation] = []
        self._naming: set[MacAddress] = set()  # adapters of which a name is pending
        self._has_hosts = False  # whether a host without a MAC address is pending
        self._until: dict[_Key, datetime] = {}
        self._unpaired: set[Address] = set()  # of hosts that were ever known without a MAC address
        self._reaches = subnet_reaches(site.roster, batch.sensor)
        self._answers: dict[tuple[IPv4Network, str, str], list[tuple[datetime, int]]] = {}
        self.events: list[Event] = []
        self.elsewhere = ""

    def run(self) -> None:
        self._look()
        sightings: dict[int, list[Observation]] = {}
        for each in self._batch.sightings:
            sightings.setdefault(each.step, []).append(self._moved(each))
        scans = {each.step: self._moved_scan(each) for each in self._batch.scans}
        for step in sorted(sightings.keys() | scans.keys()):
            scan = scans.get(step)
            if scan is not None and not self._is_here(scan, sightings.get(step, ())):
                continue  # the sensor was carried away: what it sees is of another network
            if scan is not None and not self._has_baseline(scan):
                self._flush()  # only what the first scan itself has seen is taken in silently
            self._see(sorted(sightings.get(step, ()), key=_in_order))
            if scan is not None:
                self._scan(scan)
        self._flush()
        note_reaches(self._roster, self._batch.sensor, self._reaches)

    def _moved(self, each: Sighting) -> Observation:
        seen = each.seen
        if not self._by:
            return seen
        return replace(seen, at=seen.at + self._by, since=seen.since + self._by if seen.since is not None else None)

    def _moved_scan(self, scan: ScanFacts) -> ScanFacts:
        since = scan.looking_since
        return replace(
            scan,
            began=moved(scan.began, self._by),
            ended=moved(scan.ended, self._by),
            looking_since=moved(since, self._by) if since is not None else None,
        )

    def _look(self) -> None:
        """Read which devices of the place are here, and when each was seen last."""
        self._until = {}
        present = "SELECT mac, address, until FROM stay WHERE place = ?1 AND present "
        present += "UNION ALL SELECT NULL, address, until FROM unpaired WHERE place = ?1 AND present"
        for mac, address, until in self._roster.db.execute(present, (self._place,)):
            self._until[stored_mac(mac) if mac else None, stored_address(address)] = from_ms(until)
        hosts = self._roster.db.execute("SELECT address FROM unpaired WHERE place = ?", (self._place,))
        self._unpaired = {stored_address(row[0]) for row in hosts}

    def _see(self, seen: Sequence[Observation]) -> None:
        """Take in the sightings of a step; they are folded with others, unless those have to be folded before."""
        if not self._one_step and any(map(self._depends, seen)):
            self._flush()
            self._look()  # what was told late made no device present
        for each in seen:
            self._pending.append(each)
            if each.mac is not None and _names(each):
                self._naming.add(each.mac)
            if each.address is None:
                continue
            if each.mac is None:
                self._has_hosts = True
                self._unpaired.add(each.address)
            key = (each.mac, each.address)
            last = self._until.get(key)
            if last is not None and each.address.version == 6 and each.began - last > IPV6_FORGOTTEN:
                self._fold([], each.began)  # given up meanwhile: this is another stay
            held = [known for known in self._until if known[1] == each.address] if each.mac is None else ()
            for known in held or (key,):  # an answer without a MAC address is that of the adapter which is there
                self._until[known] = max(self._until.get(known, each.at), each.at)

    def _depends(self, seen: Observation) -> bool:
        """Tell whether what becomes of a sighting depends on an earlier one that is not folded yet."""
        if seen.mac is not None and seen.mac in self._naming and _names(seen):
            return True  # each new name is an event of its own
        # A host without a MAC address is taken for the adapter that is there, or turns out to be one: what was said of
        # both is joined.
        if self._has_hosts or seen.mac is None:
            return bool(self._pending)
        return bool(self._pending) and seen.address in self._unpaired

    def _scan(self, scan: ScanFacts) -> None:
        """Take in a scan: fold it by itself if any device may be absent by it, or if it is a subnet's first."""
        if scan.is_question:
            self._judge(scan, None, silent=False)
            return
        roster, place = self._roster, self._place
        before = next((each for each in known_subnets(roster, place) if each.range == scan.subnet), None)
        silent = not self._has_baseline(scan)
        note_subnet(roster, scan.subnet, scan.gateway, scan.gateway_mac, scan.ended, place)
        number = begin_scan(roster, scan.targets, scan.subnet, scan.interface, scan.method, scan.began, place)
        doubt = self._doubt(scan) if scan.completed and scan.asked else ""
        self._note_reach(scan, doubt)
        counts = scan if not doubt else replace(scan, completed=False)
        if silent or self._one_step or self._may_be_gone(counts):
            self._judge(counts, number, silent=silent)
        changed = (
            scan.gateway_mac is not None and before is not None and before.gateway_mac not in (None, scan.gateway_mac)
        )
        if changed and before is not None and scan.gateway_mac is not None:
            self._flush()
            told = note_gateway_changed(
                roster, scan.gateway, scan.gateway_mac, before.gateway_mac, scan.ended, number, place
            )
            self._tell(told, {})
        end_scan(
            roster, number, scan.ended, asked=scan.asked, answered=scan.answered, rounds=scan.rounds,
            completed=scan.completed,
        )  # fmt: skip
        if silent and scan.completed and scan.asked and scan.answered and scan.whole:
            note_baseline(roster, scan.subnet, number, place)
        self._tell_outage(scan)

    def _has_baseline(self, scan: ScanFacts) -> bool:
        """Tell whether a subnet was scanned completely before."""
        known = known_subnets(self._roster, self._place)
        return scan.is_question or any(each.range == scan.subnet and each.has_baseline for each in known)

    def _may_be_gone(self, scan: ScanFacts) -> bool:
        """Tell whether any device may be absent by a scan: it was seen last before the scan, and was silent for long
        enough, or has moved to another address meanwhile.
        """
        asked = _Asked(scan, self._site.settings.absence_in(scan.subnet, self._place))
        if not asked.enough:
            return False
        old = [key for key, until in self._until.items() if until <= scan.began and key[1] in asked]
        if not old:
            return False
        here: dict[MacAddress | None, int] = {}
        for mac, address in self._until:
            if mac is not None and address.version == 4:
                here[mac] = here.get(mac, 0) + 1
        least = Patience(self._site, scan.subnet, self._place).least
        return any(scan.ended - self._until[key] >= least or here.get(key[0], 0) > 1 for key in old)

    def _judge(self, scan: ScanFacts, number: int | None, *, silent: bool) -> None:
        """Fold a scan: a device that is silent in it is gone, if it was silent for long enough."""
        if not self._one_step:
            self._flush(silent=silent)
        asked = _Asked(scan, self._site.settings.absence_in(scan.subnet, self._place))
        # A question about an address that somebody else claims is judged at once.
        spared = self._spared(scan, asked) if asked.enough and not scan.is_question else set()
        silence = Silence(scan.began, spared, judging_sources(scan.method), finds_one_claimant(scan.method))
        self._fold(self._taken(), scan.ended, asked if asked.enough else (), silence, number, silent=silent)
        self._look()

    def _spared(self, scan: ScanFacts, asked: _Asked) -> set[str]:
        """Return devices whose silence does not count yet: they were seen within their patience."""
        silent = [key for key, until in self._until.items() if until <= scan.began and key[1] in asked]
        patience = Patience(self._site, scan.subnet, self._place)
        reach = self._reaches.get(str(scan.subnet), SubnetReach())
        found = set[str]()
        for device in some_devices(self._roster, self._numbers(silent)):
            macs, hosts = set(device.macs), {stay.address for stay in device.unpaired}
            seen = [
                min(until, scan.began)
                for (mac, address), until in self._until.items()
                if (mac in macs if mac is not None else address in hosts)
            ]
            counts_from = [*seen, *(each for each in (scan.looking_since, reach.up_since) if each is not None)]
            if scan.ended - max(counts_from, default=scan.began) < patience(device):
                found |= {*map(str, macs), *map(str, hosts)}
        return found

    def _numbers(self, keys: Iterable[_Key]) -> set[int]:
        """Return the devices of adapters, and of hosts without a MAC address."""
        found = set[int]()
        for mac, address in keys:
            if mac is not None:
                query, values = "SELECT device FROM adapter WHERE mac = ?", (str(mac),)
            else:
                query = "SELECT device FROM unpaired WHERE place = ? AND address = ?"
                values = (self._place, str(address))  # type: ignore[assignment]
            found |= {row[0] for row in self._roster.db.execute(query, values)}
        return found

    def _flush(self, *, silent: bool = False) -> None:
        """Fold what is pending; no device is absent by it."""
        pending = self._taken()
        if pending:
            self._fold(pending, max(seen.began for seen in pending), silent=silent)

    def _taken(self) -> list[Observation]:
        """Return what is pending, to be folded now; without what the guard does not let through."""
        seen, self._pending = self._pending, []
        self._naming.clear()
        self._has_hosts = False
        if self._guard is None or not seen:
            return seen
        known = KnownPairs(self._roster, self._place)
        return self._guard.admitted(seen, known.macs, known, seen[0].began.timestamp())

    def _fold(
        self,
        seen: Sequence[Observation],
        at: datetime,
        asked: _Asked | tuple[()] = (),
        silence: Silence | None = None,
        number: int | None = None,
        *,
        silent: bool = False,
    ) -> None:
        today = self._site.clock.local(at).date()
        events = fold(
            self._roster,
            seen,
            asked,
            at,
            silence=silence,
            scan=number,
            silent=silent,
            today=today,
            place=self._place,
            at_once=self._one_step,
        )
        self._tell(events, {each.mac: each.subnet for each in seen if each.mac and each.subnet})

    def _tell(self, events: Sequence[Event], seen_in: dict[MacAddress, IPv4Network]) -> None:
        if events:
            queue_for(self._site, self._roster, events, devices_about(self._roster, events), seen_in)
            self.events += events

    def _doubt(self, scan: ScanFacts) -> str:
        """Return why a scan makes no device absent: hardly any answered, where more did just before."""
        if not any(address in scan.targets for _, address in self._until):
            return ""
        question = (scan.subnet, str(scan.targets), scan.method)
        if question not in self._answers:
            since = scan.ended - LATELY
            usual = usual_answers(self._roster, *question[:2], scan.method, since, self._place)
            self._answers[question] = [(scan.began, usual)]
        lately = self._answers[question]
        usual = max(count for at, count in lately if at >= scan.ended - LATELY or (at, count) == lately[-1])
        lately.append((scan.ended, scan.answered))
        del lately[:-_KEPT_ANSWERS]
        return doubt_about(scan.answered, usual, gateway_answers=scan.gateway_mac is not None)

    def _note_reach(self, scan: ScanFacts, doubt: str) -> None:
        """Note whether the devices of a subnet answer: silence during an outage says nothing about a device."""
        reach = self._reaches.setdefault(str(scan.subnet), SubnetReach())
        if doubt:
            reach.down = True
            reach.silent += not scan.answered
        elif scan.completed:
            if reach.down:
                reach.up_since = scan.ended
            reach.down, reach.silent = False, 0

    def _tell_outage(self, scan: ScanFacts) -> None:
        """Tell that no device of a subnet answers any more, or that one does again."""
        reach = self._reaches[str(scan.subnet)]
        where = (self._roster, scan.subnet, scan.ended)
        if reach.silent >= _SILENT_SCANS:
            self._tell(note_down(*where, "", self._place), {})
        elif not reach.down and scan.completed:
            self._tell(note_back(*where, self._place), {})

    def _is_here(self, scan: ScanFacts, seen: Sequence[Observation]) -> bool:
        """Tell whether the sensor is in its place: half of all networks use the same two ranges."""
        known = known_subnets(self._roster, self._place)
        before = next((each for each in known if each.range == scan.subnet), None)
        if scan.is_question or before is None:
            return True  # its settings name its subnets
        if scan.gateway_mac is not None and scan.gateway_mac == before.gateway_mac:
            return True  # as with nearly every scan: nothing else has to be looked at
        here, answered = set[MacAddress | None](), {each.mac for each in seen}
        for (mac, address), until in self._until.items():
            if address in scan.targets:
                here.add(mac)
                if until >= scan.began:  # what answers each scan is one sighting of a batch, however many scans it has
                    answered.add(mac)
        familiar = len((answered & here) - {scan.gateway_mac, None})
        recognition = recognise(scan.subnet, scan.gateway_mac, known, familiar=familiar, expected=len(here))
        if recognition.verdict is Belonging.ELSEWHERE and scan.answered:
            self.elsewhere = recognition.reason
            return False
        return True


def _names(seen: Observation) -> bool:
    return any(trait.kind is TraitKind.NAME for trait in seen.traits)


def _in_order(seen: Observation) -> tuple[datetime, bytes, int, int]:
    """Return what the sightings of a step are sorted by, however a batch lists them."""
    mac = seen.mac.octets if seen.mac is not None else b""
    address = (seen.address.version, int(seen.address)) if seen.address is not None else (0, 0)
    return seen.began, mac, *address
