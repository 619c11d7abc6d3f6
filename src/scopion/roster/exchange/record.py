"""A device as files tell it: what people said, its adapters with their times. None: the file says nothing of that."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime

from scopion.model.address import Address
from scopion.model.device import NEVER, Adapter, Device, Standing
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Trait, TraitKind

# No site has so many devices; a file with more is something else.
MAX_RECORDS = 100_000


@dataclass(frozen=True, slots=True)
class AdapterRecord:
    """One adapter; times and media are None if the file does not tell them."""

    mac: MacAddress
    medium: Medium | None = None
    first_seen: datetime | None = None
    last_seen: datetime | None = None
    addresses: tuple[Address, ...] = ()  # its present addresses, else the latest ones


@dataclass(frozen=True, slots=True)
class DeviceRecord:
    """One device of a file."""

    adapters: tuple[AdapterRecord, ...] = ()
    unpaired: tuple[Address, ...] = ()  # where it was found without a MAC address
    # In which place of the site an address is; those of a place without a name are missing.
    places: Mapping[Address, str] = field(default_factory=dict, hash=False)
    label: str | None = None
    owner: str | None = None
    place: str | None = None
    note: str | None = None
    standing: Standing | None = None
    guest_until: date | None = None
    standing_since: datetime | None = None
    because: str | None = None
    essential: bool | None = None
    kind: str | None = None  # what people say that it is
    names: tuple[Trait, ...] = ()
    present: bool | None = None
    revision: int | None = None  # of the exported state: a later state is not overwritten
    line: int = field(default=0, compare=False)  # its place in the file

    @property
    def macs(self) -> tuple[MacAddress, ...]:
        """Return the MAC addresses of its adapters."""
        return tuple(adapter.mac for adapter in self.adapters)


@dataclass(frozen=True, slots=True)
class RecordProblem:
    """A line that cannot be taken in, and why."""

    line: int
    what: str

    def __str__(self) -> str:
        return f"line {self.line}: {self.what}" if self.line else self.what


@dataclass(frozen=True, slots=True)
class Records:
    """What a file tells, and what of it cannot be understood: with any problem, nothing is taken in."""

    records: tuple[DeviceRecord, ...]
    problems: tuple[RecordProblem, ...] = ()
    left_out: tuple[RecordProblem, ...] = ()  # lines of no use here, which are no mistake


def record_of(device: Device) -> DeviceRecord:
    """Return a device of the roster as a file tells it."""
    names = [known.trait for known in device.traits if known.trait.kind is TraitKind.NAME]
    return DeviceRecord(
        adapters=tuple(_adapter(adapter) for adapter in device.adapters),
        unpaired=tuple(stay.address for stay in device.unpaired),
        places={stay.address: stay.place for stay in device.stays if stay.place},
        label=device.label,
        owner=device.owner,
        place=device.place,
        note=device.note,
        standing=device.standing,
        guest_until=device.guest_until,
        standing_since=device.standing_since,
        because=device.because,
        essential=device.essential,
        names=tuple(sorted(dict.fromkeys(names), key=lambda name: (name.source, name.value))),
        present=device.present,
        revision=device.revision,
    )


def duplicates(records: Sequence[DeviceRecord]) -> list[RecordProblem]:
    """Return the MAC addresses and labels that a file gives to two devices."""
    found = []
    macs: dict[MacAddress, int] = {}
    labels: dict[str, int] = {}
    for record in records:
        for mac in record.macs:
            if mac in macs:
                found.append(RecordProblem(record.line, f"{mac} stands in line {macs[mac]} already"))
            macs.setdefault(mac, record.line)
        label = (record.label or "").casefold()
        if label and label in labels:
            found.append(
                RecordProblem(record.line, f"the label {record.label!r} stands in line {labels[label]} already")
            )
        labels.setdefault(label, record.line)
    return found


def _adapter(adapter: Adapter) -> AdapterRecord:
    addresses = tuple(sorted({stay.address for stay in adapter.stays}, key=lambda each: (each.version, int(each))))
    last = adapter.last_seen if adapter.last_seen != NEVER else None
    return AdapterRecord(adapter.mac, adapter.medium, adapter.first_seen, last, addresses)
