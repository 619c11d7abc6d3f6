"""What differs between two moments, two scans, or now and a saved export: one sentence for each device.

Pure: two snapshots and the events between them go in, differences come out.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from scopion.model.address import Address, by_number
from scopion.model.device import Event, EventKind
from scopion.model.mac import MacAddress
from scopion.model.text import joined

# Another adapter at an address is a difference of its own: it needs no event of two adapters at once.
OTHER_MAC = "other-mac"
DESCRIBED = "described"
# In the order of importance.
ORDER = (
    str(EventKind.GATEWAY_CHANGED), str(EventKind.CONTESTED), str(EventKind.UNWANTED_PRESENT),
    str(EventKind.GUEST_OVERSTAYED), str(EventKind.JOINED), OTHER_MAC, str(EventKind.READDRESSED),
    str(EventKind.RENAMED), DESCRIBED, str(EventKind.RETURNED), str(EventKind.LEFT),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Seen:
    """A device at one moment."""

    macs: frozenset[MacAddress]
    holds: Mapping[Address, MacAddress | None]  # the addresses at which it was present, and with which adapter
    name: str = ""  # its best host name then
    said: Mapping[str, str] | None = None  # label, standing and so on; None if they are not known of that time

    @property
    def present(self) -> bool:
        """Tell whether it was present at any address."""
        return bool(self.holds)

    @property
    def ipv4(self) -> set[Address]:
        """Return those of its addresses that do not change by themselves."""
        return {address for address in self.holds if address.version == 4}

    @property
    def places(self) -> list[Address]:
        """Return its IPv4 addresses, or those of IPv6 if it had no other."""
        every = sorted(self.holds, key=by_number)
        return [address for address in every if address.version == 4] or every


Snapshot = Mapping[int, Seen]  # by device; those that were not known then are missing


@dataclass(frozen=True, slots=True)
class Speech:
    """How moments and adapters are worded."""

    told: Callable[[datetime], str]
    named: Callable[[MacAddress | None], str]


@dataclass(frozen=True, slots=True)
class Difference:
    """One thing that is different."""

    kind: str  # one of ORDER
    device: int
    text: str  # a sentence without its subject
    at: datetime | None = None  # when it happened, if that is known
    address: Address | None = None
    was_address: Address | None = None


def differences(before: Snapshot, after: Snapshot, events: Sequence[Event], speech: Speech) -> list[Difference]:
    """Return all differences, the most important first; ``speech`` words moments and adapters."""
    of_device: dict[int, list[Event]] = {}
    for event in events:
        of_device.setdefault(event.device_id, []).append(event)
    found: list[Difference] = []
    for device in sorted(before.keys() | after.keys()):
        found += _of_device(device, before.get(device), after.get(device), of_device.get(device, ()), speech)
    found += _other_macs(before, after, {(each.device, each.kind) for each in found})
    return sorted(found, key=lambda each: (ORDER.index(each.kind), each.at is None, each.at, each.device))


def _of_device(
    device: int, was: Seen | None, now: Seen | None, events: Sequence[Event], speech: Speech
) -> list[Difference]:
    """Return what became of one device: first what happened, then what is different."""
    alarms = [_alarm(device, event, speech) for event in _first_of_kind(events)]
    found = [each for each in alarms if each is not None]
    if was is None:
        joining = next((event for event in events if event.kind is EventKind.JOINED), None)
        return found + ([_joined(device, now, joining, events, speech)] if now and (now.present or joining) else [])
    if now is None:
        return [*found, Difference(EventKind.LEFT, device, "is no longer in the roster")]
    for difference in (
        _moved(device, was, now, events, speech),
        _renamed(device, was, now),
        _described(device, was, now),
    ):
        found += [difference] if difference is not None else []
    if was.present and not now.present:
        left = _last(events, EventKind.LEFT)
        since = f" since {speech.told(left.at)}" if left else ""
        at = left.at if left else None
        found.append(Difference(EventKind.LEFT, device, f"is gone{_from(was)}{since}", at, _first(was)))
    elif now.present and not was.present:
        back = _last(events, EventKind.RETURNED)
        since = f" since {speech.told(back.at)}" if back else ""
        text = f"is back{since}{_where(now)}"
        found.append(Difference(EventKind.RETURNED, device, text, back.at if back else None, _first(now)))
    return found


def _alarm(device: int, event: Event, speech: Speech) -> Difference | None:
    texts = {
        EventKind.GATEWAY_CHANGED: f"answers for the gateway {event.address} as {event.mac}, it was {event.other_mac}",
        EventKind.CONTESTED: f"claimed {event.address}, which {speech.named(event.other_mac)} used",
        EventKind.UNWANTED_PRESENT: f"is unwanted and came to {event.address}",
        EventKind.GUEST_OVERSTAYED: f"was still here at {event.address} when its time as a guest had ended",
    }
    text = texts.get(event.kind)
    return Difference(event.kind, device, f"{text}, {speech.told(event.at)}", event.at, event.address) if text else None


def _joined(
    device: int, now: Seen | None, joining: Event | None, events: Sequence[Event], speech: Speech
) -> Difference:
    at = joining.at if joining else None
    came = f"joined {speech.told(at)}" if at else "joined"
    address = joining.address if joining else _first(now)
    where = f" at {address}" if address else ""
    left = _last(events, EventKind.LEFT)
    if now is not None and not now.present and left is not None:
        return Difference(EventKind.JOINED, device, f"{came}{where}, gone since {speech.told(left.at)}", at, address)
    moved = _first(now) if now is not None and address not in now.holds else None
    text = f"{came}{where}{f', now at {moved}' if moved else ''}"
    return Difference(EventKind.JOINED, device, text, at, address)


def _moved(device: int, was: Seen, now: Seen, events: Sequence[Event], speech: Speech) -> Difference | None:
    moves = [event for event in events if event.kind is EventKind.READDRESSED]
    if was.ipv4 and now.ipv4 and not was.ipv4 & now.ipv4:
        at = moves[-1].at if moves else None
        when = f", {speech.told(at)}" if at else ""
        text = f"moved from {_listed(was)} to {_listed(now)}{when}"
        return Difference(EventKind.READDRESSED, device, text, at, _first(now), _first(was))
    away = next((event for event in moves if event.address not in was.holds), None)
    if away is None or not now.present or away.address in now.holds:
        return None
    since, back = speech.told(away.at), speech.told(moves[-1].at)
    text = f"was at {away.address} from {since}, is back at {_listed(now)} since {back}"
    return Difference(EventKind.READDRESSED, device, text, away.at, _first(now), away.address)


def _renamed(device: int, was: Seen, now: Seen) -> Difference | None:
    if now.name.casefold() == was.name.casefold() or not now.name or not was.name:
        return None
    return Difference(EventKind.RENAMED, device, f"calls itself {now.name!r}, it was {was.name!r}")


def _described(device: int, was: Seen, now: Seen) -> Difference | None:
    """Return what people say of it that is different; only an export tells what they said before."""
    if was.said is None or now.said is None:
        return None
    parts = [
        f"{key.replace('_', ' ')} {now.said.get(key, '')!r}, it was {was.said[key]!r}"
        for key in was.said
        if now.said.get(key, "") != was.said[key]
    ]
    return Difference(DESCRIBED, device, "; ".join(parts)) if parts else None


def _other_macs(before: Snapshot, after: Snapshot, told: set[tuple[int, str]]) -> list[Difference]:
    """Return addresses at which another device answers than before, unless a contest has told its arrival."""
    holders: dict[Address, list[int]] = {}
    for device, seen in before.items():
        for address in seen.holds:
            holders.setdefault(address, []).append(device)
    found = []
    for device, seen in after.items():
        for address in seen.places if seen.present else ():
            formers = holders.get(address, [])
            if not formers or device in formers or (device, str(EventKind.CONTESTED)) in told:
                continue
            former = formers[0]
            if address in after.get(former, Seen(frozenset(), {})).holds:
                continue
            mac, was = seen.holds[address], before[former].holds[address]
            text = f"answers at {address} as {mac or 'an unknown MAC'}, it was {was or 'another'}"
            found.append(Difference(OTHER_MAC, device, text, None, address))
    return found


def _first_of_kind(events: Sequence[Event]) -> list[Event]:
    first: dict[tuple[EventKind, Address], Event] = {}
    for event in events:
        first.setdefault((event.kind, event.address), event)
    return list(first.values())


def _last(events: Sequence[Event], kind: EventKind) -> Event | None:
    return next((event for event in reversed(events) if event.kind is kind), None)


def _listed(seen: Seen) -> str:
    return joined([str(address) for address in seen.places])


def _where(seen: Seen) -> str:
    return f", at {_listed(seen)}" if seen.places else ""


def _from(seen: Seen) -> str:
    return f" from {_listed(seen)}" if seen.places else ""


def _first(seen: Seen | None) -> Address | None:
    return seen.places[0] if seen is not None and seen.places else None
