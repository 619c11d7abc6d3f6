"""Takes over what a file says of devices: first a plan that can be shown, then all of it or nothing.

A sheet or document that Scopion wrote is the administrator's own word and wins over the roster, unless the roster was
changed since it was written. A list of another program only fills in missing labels.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

from scopion.model.address import Address
from scopion.model.device import Device, Standing
from scopion.model.errors import UsageError
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source, TraitKind
from scopion.operations.edit.edit_devices import Mark, checked_texts, require_possible
from scopion.operations.site.open_site import Site
from scopion.roster.exchange.record import AdapterRecord, DeviceRecord, RecordProblem, Records
from scopion.roster.folding.fold_observations import fold
from scopion.roster.read_devices import all_devices, set_media
from scopion.roster.store.open_roster import Roster
from scopion.roster.write_descriptions import join_devices, set_description, set_essential, set_kind, set_standing

_TEXTS = ("label", "owner", "place", "note")
_MARK = ("standing", "guest_until", "because")


@dataclass(frozen=True, slots=True)
class Intent:
    """What is to be done for one line: change a known device, or make a new one."""

    record: DeviceRecord
    device: Device | None  # None: a new one
    differing: tuple[tuple[str, str, str], ...] = ()  # what, as it is, as it will be
    joining: tuple[MacAddress, ...] = ()  # adapters that become known

    @property
    def action(self) -> str:
        """Return ``added``, ``changed`` or ``same``."""
        return "added" if self.device is None else "changed" if self.differing or self.joining else "same"

    @property
    def called(self) -> str:
        """Return the name of the device."""
        if self.device is not None:
            return self.device.called
        known_by = [*map(str, self.record.macs), *map(str, self.record.unpaired)]
        return self.record.label or (known_by[0] if known_by else "an unnamed device")


@dataclass(slots=True)
class Plan:
    """What a file would change, line by line."""

    intents: list[Intent] = field(default_factory=list)
    problems: list[RecordProblem] = field(default_factory=list)  # with any of these nothing is taken over
    left_out: list[RecordProblem] = field(default_factory=list)

    @property
    def changes(self) -> list[Intent]:
        """Return the lines that change anything."""
        return [intent for intent in self.intents if intent.action != "same"]


def planned(site: Site, devices: Sequence[Device], read: Records, *, foreign: bool, insist: bool = False) -> Plan:
    """Compare a file with the roster. ``foreign`` is another program's list; with ``insist`` its names win."""
    return _Planner(site, devices, foreign=foreign, insist=insist).plan(read)


def taken_over(site: Site, roster: Roster, plan: Plan) -> None:
    """Do what was planned; called inside a change."""
    changes = plan.changes
    # Labels are unique: those that go to another device are given up first, so that two devices may swap theirs.
    for intent in changes:
        if intent.device is not None and any(what == "label" for what, _, _ in intent.differing):
            set_description(roster, intent.device, label="")
    now = site.clock.now()
    by_place: dict[str, list[Observation]] = defaultdict(list)
    for intent in changes:
        for seen in _observations(intent, now):
            by_place[_place(roster, intent.record, seen.address)].append(seen)
    for place, observations in by_place.items():
        fold(roster, observations, (), now, place=place)
    for intent, device in _gathered(roster, changes):
        wanted = intent.record
        set_media(roster, {each.mac: each.medium for each in wanted.adapters if each.mac in intent.joining})
        texts = {name: getattr(wanted, name) for name in _TEXTS if _says(wanted, name)}
        set_description(roster, device, **checked_texts(**texts))
        if wanted.kind and wanted.kind != said_kind(device) and device.macs:
            set_kind(roster, device, wanted.kind, now)
        if wanted.essential is not None:
            set_essential(roster, device, wanted.essential)
        if wanted.standing is not None and (
            wanted.standing_since or any(what in _MARK for what, _, _ in _marks(intent))
        ):
            at = wanted.standing_since or now
            set_standing(roster, device, wanted.standing, at, until=wanted.guest_until, because=wanted.because or "")


class _Planner:
    """Compares one line after the other with what is known."""

    def __init__(self, site: Site, devices: Sequence[Device], *, foreign: bool, insist: bool) -> None:
        self._site = site
        self._foreign = foreign
        self._insist = insist
        self._of_mac = {mac: device for device in devices for mac in device.macs}
        self._of_label = {device.label.casefold(): device for device in devices if device.label}
        self._roster = site.roster_for_reading()
        self._at: dict[tuple[str, Address], list[Device]] = {}
        for device in devices:
            for stay in device.stays:
                if stay.present or stay.mac is None:
                    self._at.setdefault((stay.place, stay.address), []).append(device)

    def plan(self, read: Records) -> Plan:
        plan = Plan(problems=list(read.problems), left_out=list(read.left_out))
        for record in read.records:
            try:
                intent = self._intent(record)
            except UsageError as error:
                plan.problems.append(RecordProblem(record.line, str(error)))
                continue
            if intent is None:
                where = ", ".join(map(str, record.unpaired))
                plan.left_out.append(RecordProblem(record.line, f"no device is known at {where}"))
            else:
                plan.intents.append(intent)
        plan.problems += self._label_clashes(plan.intents)
        plan.problems.sort(key=lambda problem: problem.line)
        return plan

    def _intent(self, record: DeviceRecord) -> Intent | None:
        """Return what one line means. Raises UsageError for what cannot be done."""
        device = self._device(record)
        if device is None and not record.adapters and self._foreign:
            return None
        record = self._checked(record, device)
        if device is not None and record.revision is not None and device.revision > record.revision:
            differing = _differing(record, device)
            if differing:
                said = ", ".join(f"{what} {now!r}" for what, now, _ in differing)
                raise UsageError(f"{device.called} was changed since this was written; it has {said} now")
        joining = tuple(mac for mac in record.macs if mac not in self._of_mac)
        return Intent(record, device, _differing(record, device) if device else (), joining)

    def _device(self, record: DeviceRecord) -> Device | None:
        """Return the one device of a line; None for a new one. Raises UsageError if the line is about several."""
        known = {device.id: device for mac in record.macs if (device := self._of_mac.get(mac))}
        if not record.macs:
            at = [(_place(self._roster, record, address), address) for address in record.unpaired]
            known = {device.id: device for each in at for device in self._at.get(each, ())}
        if len(known) > 1:
            named = ", ".join(device.called for device in known.values())
            raise UsageError(f"this is about {len(known)} devices ({named}): join them first with scopion same")
        return next(iter(known.values()), None)

    def _checked(self, record: DeviceRecord, device: Device | None) -> DeviceRecord:
        """Return the line as it can be kept. Raises UsageError."""
        texts = checked_texts(**{name: getattr(record, name) for name in _TEXTS})
        if self._foreign and device is not None and device.label and texts.get("label"):
            if texts["label"].casefold() != device.label.casefold() and not self._insist:
                raise UsageError(
                    f"{device.macs[0] if device.macs else device.called} is {device.label!r} here and "
                    f"{texts['label']!r} there: --insist takes the file's name"
                )
            texts["label"] = texts["label"] if self._insist else device.label
        history = record.standing_since is not None if device is None else _already(record, device)
        if record.standing is Standing.GUEST and record.guest_until and not history:
            require_possible(self._site, Mark(Standing.GUEST, record.guest_until))
        return replace(
            record,
            label=texts.get("label"),
            owner=texts.get("owner"),
            place=texts.get("place"),
            note=texts.get("note"),
        )

    def _label_clashes(self, intents: Sequence[Intent]) -> list[RecordProblem]:
        """Return labels that other devices have and keep."""
        given_up = {
            intent.device.id
            for intent in intents
            if intent.device is not None and any(what == "label" for what, _, _ in intent.differing)
        }
        found = []
        for intent in intents:
            holder = self._of_label.get((intent.record.label or "").casefold())
            own = intent.device.id if intent.device else None
            if holder is not None and holder.id != own and holder.id not in given_up:
                other = ", ".join(map(str, holder.macs)) or holder.called
                found.append(
                    RecordProblem(intent.record.line, f"{intent.record.label!r} is the label of {other} already")
                )
        return found


def _place(roster: Roster, record: DeviceRecord, address: Address | None) -> str:
    """Return in which place an address of a line is; this machine's if the line does not say."""
    return record.places.get(address, roster.home) if address is not None else roster.home


def _already(record: DeviceRecord, device: Device) -> bool:
    return device.standing is Standing.GUEST and device.guest_until == record.guest_until


def _says(record: DeviceRecord, name: str) -> bool:
    return getattr(record, name) is not None


def _differing(record: DeviceRecord, device: Device) -> tuple[tuple[str, str, str], ...]:
    """Return what a line says differently from the roster."""
    found = [
        (name, getattr(device, name), getattr(record, name))
        for name in _TEXTS
        if _says(record, name) and getattr(record, name) != getattr(device, name)
    ]
    if record.kind and record.kind != said_kind(device):
        found.append(("kind", said_kind(device), record.kind))
    if record.essential is not None and record.essential != device.essential:
        found.append(("essential", _yes(device.essential), _yes(record.essential)))
    if record.standing is not None:
        pairs = (
            ("standing", str(device.standing), str(record.standing)),
            ("guest_until", _day(device.guest_until), _day(record.guest_until)),
            ("because", device.because, record.because if record.because is not None else device.because),
        )
        found += [(what, was, will) for what, was, will in pairs if was != will]
    return tuple(found)


def said_kind(device: Device) -> str:
    """Return what people said that a device is; empty if they did not."""
    return next((known.trait.value for known in device.traits if known.trait.kind is TraitKind.KIND), "")


def _marks(intent: Intent) -> tuple[tuple[str, str, str], ...]:
    """Return what a line says differently of the standing; for a new device, differently from the default."""
    if intent.device is not None:
        return intent.differing
    return (("standing", Standing.NEW, intent.record.standing or Standing.NEW),) if _is_marked(intent.record) else ()


def _is_marked(record: DeviceRecord) -> bool:
    return record.standing not in (None, Standing.NEW) or bool(record.because)


def _yes(essential: bool) -> str:
    return "yes" if essential else "no"


def _day(value: object) -> str:
    return str(value) if value else ""


def _observations(intent: Intent, now: datetime) -> list[Observation]:
    """Return records, with their times, that make the adapters of a line known; they make no device present."""
    found = []
    for adapter in intent.record.adapters:
        if adapter.mac in intent.joining:
            found += _of_adapter(adapter, intent.record, now)
    if intent.device is None and not intent.record.adapters:
        found += [Observation(None, address, now, Source.LISTING, recorded=True) for address in intent.record.unpaired]
    return found


def _of_adapter(adapter: AdapterRecord, record: DeviceRecord, now: datetime) -> list[Observation]:
    undated = adapter.last_seen is None
    last = min(adapter.last_seen or now, now)
    first = min(adapter.first_seen or last, last)
    names = record.names if adapter is record.adapters[0] else ()
    begun = Observation(adapter.mac, None, first, Source.LISTING, recorded=True, undated=undated)
    seen = [
        Observation(adapter.mac, address, last, Source.LISTING, traits=names, recorded=True, undated=undated)
        for address in adapter.addresses or (None,)
    ]
    return [begun, *seen]


def _gathered(roster: Roster, intents: Sequence[Intent]) -> list[tuple[Intent, Device]]:
    """Return the device of each line, joined with all of its adapters that have just become known."""
    everybody = all_devices(roster)
    of_mac = {mac: device for device in everybody for mac in device.macs}
    at = {(stay.place, stay.address): device for device in everybody for stay in device.unpaired}
    kept: list[tuple[Intent, int]] = []
    for intent in intents:
        record = intent.record
        if intent.device is not None:
            first = intent.device
        else:
            where = [(_place(roster, record, each), each) for each in record.unpaired]
            first = of_mac[record.macs[0]] if record.macs else next(at[each] for each in where if each in at)
        for mac in intent.joining:
            if of_mac[mac].id != first.id:
                join_devices(roster, first, of_mac[mac])
        kept.append((intent, first.id))
    now = {device.id: device for device in all_devices(roster)}
    return [(intent, now[number]) for intent, number in kept]
