"""Which devices may be the same thing under another MAC address: proposals with evidence, never a decision.

A phone makes up private addresses, one for each network or each day; a laptop has one adapter for cable and one for the
air. Evidence for it has weights. Two devices with made-up addresses that were here at the same time are certainly two.
Pure: devices and their stays go in, proposals come out.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import combinations

from scopion.model.device import NAME_ORDER, Device, Stay, short_name
from scopion.model.observation import Source, TraitKind
from scopion.model.text import joined

# The weight of each piece of evidence alone; together they leave (1 - a)(1 - b)... of the doubt.
CLIENT_ID, NAME, NEVER_TOGETHER, SAME_REQUESTS, NEIGHBOURS, SAME_MODEL, SAME_ADDRESS = 0.9, 0.7, 0.4, 0.3, 0.3, 0.2, 0.2
LEAST = 0.5  # less is no proposal
# Two devices with assigned addresses that were here together and share a name are more often two of a kind than one
# thing.
TOGETHER = 0.5
# A name that many devices have says nothing.
_COMMON = frozenset({"localhost", "android", "iphone", "ipad", "unknown", "espressif", "phone", "tablet", "laptop"})
_MANY = 5
_COMPARED = 50  # of devices with equal DHCP requests, this many of the latest are compared
_NAMING = frozenset(NAME_ORDER) - {Source.LISTING}
_ONE_LOOK = timedelta(seconds=3)  # two devices that one scan has seen were here together
_NEAR = 4  # makers give the ports of one device addresses this close together


@dataclass(frozen=True, slots=True)
class LookAlike:
    """Two devices that may be one."""

    devices: tuple[int, int]  # the older one first
    confidence: float  # from LEAST up to, but never, 1
    evidence: tuple[str, ...]

    @property
    def words(self) -> str:
        """Return the confidence in words."""
        return "very likely" if self.confidence >= 0.85 else "likely" if self.confidence >= 0.65 else "possibly"

    def other(self, device: int) -> int:
        """Return the number of the other device."""
        return self.devices[1] if self.devices[0] == device else self.devices[0]


Pair = tuple[int, int]


def candidate_pairs(devices: Sequence[Device], about: Collection[int]) -> set[Pair]:
    """Return pairs of devices that share something with one of ``about``, or with each other's match: only these are
    compared.
    """
    wanted = set(about)
    by_key: dict[tuple[str, object], list[int]] = defaultdict(list)
    for device in devices:
        if not device.own:
            for key in _Profile.of(device, ()).keys:
                by_key[key].append(device.id)
    pairs: set[Pair] = set()
    for (kind, _), sharing in by_key.items():
        # A name that many devices have is the name of a product; of many phones with equal requests the latest are
        # compared.
        if kind == "name" and len(sharing) >= _MANY:
            continue
        if not wanted.isdisjoint(sharing):
            latest = (wanted & set(sharing)) | set(sharing[-_COMPARED:])
            pairs.update((min(pair), max(pair)) for pair in combinations(latest, 2))
    return pairs


def look_alikes(
    devices: Sequence[Device], pairs: Collection[Pair], stays: Mapping[int, Sequence[Stay]]
) -> list[LookAlike]:
    """Return the proposals among some pairs, the surest first; ``stays`` are all known stays of their devices."""
    wanted = {number for pair in pairs for number in pair}
    profiles = {device.id: _Profile.of(device, stays.get(device.id, ())) for device in devices if device.id in wanted}
    found = [_weighed(profiles[first], profiles[second]) for first, second in sorted(pairs)]
    return sorted((each for each in found if each is not None), key=lambda each: (-each.confidence, each.devices))


def family(device: int, proposals: Iterable[LookAlike]) -> list[int]:
    """Return devices that may all be one thing: each is a look-alike of every other, the surest first."""
    known = list(proposals)
    pairs = {each.devices for each in known}
    found: list[int] = []
    for other in (each.other(device) for each in known if device in each.devices):
        if all((other, each) in pairs or (each, other) in pairs for each in found):
            found.append(other)
    return found


@dataclass(frozen=True, slots=True)
class _Profile:
    """What can be compared of one device."""

    device: Device
    stays: tuple[Stay, ...]
    names: Mapping[str, str]  # casefolded, with their sources
    client_ids: frozenset[str]
    requests: frozenset[tuple[str, ...]]
    models: frozenset[str]

    @classmethod
    def of(cls, device: Device, stays: Sequence[Stay]) -> _Profile:
        said: dict[TraitKind, set[str]] = defaultdict(set)
        names: dict[str, str] = {}
        for known in device.traits:
            trait = known.trait
            said[trait.kind].add(trait.value)
            if trait.kind is TraitKind.NAME and trait.source in _NAMING:
                names.setdefault(short_name(trait.value).casefold(), str(trait.source))
        hardware = {f"01{mac.octets.hex()}" for mac in device.macs}
        requests = {(options, *sorted(said[TraitKind.VENDOR_CLASS])) for options in said[TraitKind.REQUESTED_OPTIONS]}
        return cls(
            device=device,
            stays=tuple(stay for stay in stays if stay.dated),
            names={name: source for name, source in names.items() if name not in _COMMON},
            client_ids=frozenset(said[TraitKind.CLIENT_ID]) - hardware,
            requests=frozenset(requests),
            models=frozenset(said[TraitKind.MODEL]),
        )

    @property
    def keys(self) -> list[tuple[str, object]]:
        """Return what a look-alike would share."""
        keys: list[tuple[str, object]] = [("name", name) for name in self.names]
        keys += [("client id", value) for value in self.client_ids]
        return keys + [("requests", value) for value in self.requests if self.private]

    @property
    def private(self) -> bool:
        """Tell whether all of its addresses are made up."""
        return bool(self.device.macs) and all(mac.is_private for mac in self.device.macs)


def _weighed(first: _Profile, second: _Profile) -> LookAlike | None:
    labels = {profile.device.label for profile in (first, second) if profile.device.label}
    if len(labels) == 2:  # a person has told them apart
        return None
    together = _together(first, second)
    if together and (first.private or second.private):
        return None
    evidence = _evidence(first, second, together)
    doubt = 1.0
    for weight, _ in evidence:
        doubt *= 1 - weight
    confidence = (1 - doubt) * (TOGETHER if together and not _neighbours(first, second) else 1)
    if confidence < LEAST:
        return None
    older, newer = sorted((first.device, second.device), key=lambda device: (device.first_seen, device.id))
    return LookAlike((older.id, newer.id), round(confidence, 2), tuple(words for _, words in evidence))


def _evidence(first: _Profile, second: _Profile, together: bool) -> list[tuple[float, str]]:
    found: list[tuple[float, str]] = []
    if first.client_ids & second.client_ids:
        found.append((CLIENT_ID, "the same DHCP client identifier"))
    names = sorted(first.names.keys() & second.names.keys())
    if names:
        sources = sorted({first.names[names[0]], second.names[names[0]]})
        found.append((NAME, f"both are called {names[0]!r} ({joined(sources)})"))
    if not together and first.stays and second.stays and (first.private or second.private):
        found.append((NEVER_TOGETHER, _never_together(first, second)))
    if first.requests & second.requests:
        found.append((SAME_REQUESTS, "they ask the DHCP server for the same options in the same order"))
    if names and _neighbours(first, second):
        found.append((NEIGHBOURS, "their MAC addresses are neighbours"))
    if first.models & second.models:
        found.append((SAME_MODEL, f"both are a {min(first.models & second.models)}"))
    shared = {(stay.place, stay.address) for stay in first.stays} & {
        (stay.place, stay.address) for stay in second.stays
    }
    given = sorted(address for _, address in shared if address.version == 4)
    if given and not together:
        found.append((SAME_ADDRESS, f"both were given {given[0]}, one after the other"))
    return found


def _never_together(first: _Profile, second: _Profile) -> str:
    ends = (max(stay.until for stay in first.stays), max(stay.until for stay in second.stays))
    begins = (min(stay.since for stay in first.stays), min(stay.since for stay in second.stays))
    if ends[0] <= begins[1] or ends[1] <= begins[0]:
        return "one came after the other had gone for good"
    return "never here together, though both come and go"


def _together(first: _Profile, second: _Profile) -> bool:
    """Tell whether they were ever here at the same time. A year of stays is read once."""
    both = [(stay.since, stay.until + _ONE_LOOK, 0) for stay in first.stays]
    both += [(stay.since, stay.until + _ONE_LOOK, 1) for stay in second.stays]
    latest: list[datetime | None] = [None, None]
    for since, until, whose in sorted(both):
        other = latest[1 - whose]
        if other is not None and since < other:
            return True
        mine = latest[whose]
        latest[whose] = until if mine is None else max(mine, until)
    return False


def _neighbours(first: _Profile, second: _Profile) -> bool:
    return any(
        0 < abs(one.number - other.number) <= _NEAR and not one.is_private
        for one in first.device.macs
        for other in second.device.macs
    )
