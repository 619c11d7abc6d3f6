"""The documents that sensors and the roster's side exchange, as JSON: batches, notes of what is folded, states.

Each names its form and version; what stands inside of a batch does, too. A reader does not trust what it reads, as in
``serial``. A part of a form that is not known is handed on as it is. docs/formats.md describes them.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from datetime import datetime, timedelta
from ipaddress import IPv4Network, IPv6Address
from typing import Any

from scopion.model.address import parse_address
from scopion.model.batch import Batch, Folded, ScanFacts, SensorClocks, SensorState, Sighting, UnknownDocument
from scopion.model.errors import InvalidTarget, MalformedFrame
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source
from scopion.model.place import is_place_name
from scopion.model.targets import Targets
from scopion.model.text import clean
from scopion.wire.serial import OBSERVATION, Fields, moment_text, observation_from_json, observation_to_json

BATCH, SCAN, SEEN, FOLDED, STATE = "batch/1", "scan-record/1", "seen/1", "folded/1", "state/1"
READABLE = (OBSERVATION, SEEN, SCAN)  # what may stand in a batch
# A day of 250 devices takes about 60 kB; what does not fit goes into the next batch. A broker takes this without being
# told, and a reader needs a few megabytes for it.
MAX_OCTETS = 256 * 1024
_MOST_DOCUMENTS, _MOST_ROWS = 8_192, 8_192
_MOST_STEPS = 1 << 20
_MOST_OWN, _MOST_SILENT, _MOST_TROUBLES, _MOST_DROPPED = 64, 1_024, 16, 8
# A batch covers at most so long a time; longer can only be a mistake or a lie.
_LONGEST = timedelta(days=400)
_DEEPEST = 24  # levels of a document: ours have five


def batch_to_json(batch: Batch) -> bytes:
    """Return a batch as it is sent."""
    documents = list[dict[str, Any]]()
    rows: dict[str | None, list[list[Any]]] = {}
    for each in batch.sightings:
        if _is_plain(each.seen):
            rows.setdefault(_text(each.seen.subnet), []).append(_row(each, batch.clocks.at))
        else:
            documents.append({**observation_to_json(each.seen), "step": each.step})
    documents += [_known(form=SEEN, subnet=subnet, rows=some) for subnet, some in rows.items()]
    documents += [_scan(each) for each in batch.scans]
    whole = _known(
        form=BATCH, sensor=batch.sensor, place=batch.place, life=batch.life, number=batch.number, after=batch.after,
        **_clocks(batch.clocks), program=batch.program, own=[str(each) for each in batch.own],
        dropped=dict(batch.dropped), documents=documents,
    )  # fmt: skip
    return _written(whole)


def batch_from_json(octets: bytes) -> Batch:
    """Return the batch that was sent. Raises MalformedFrame, never anything else."""
    fields = _read(octets, BATCH)
    clocks = _clocks_of(fields)
    sightings: list[Sighting] = []
    scans: list[ScanFacts] = []
    unknown: list[UnknownDocument] = []
    for document in fields.objects("documents", _MOST_DOCUMENTS):
        form = document.get("form")
        if form in (OBSERVATION, SEEN):
            sightings += _seen(document, clocks.at)
        elif form == SCAN:
            scans.append(_scan_of(Fields(document, SCAN), clocks.at))
        else:
            text = json.dumps(document, ensure_ascii=False)
            unknown.append(UnknownDocument(clean(str(form), 60) or "without a form", text))
    if len(sightings) > _MOST_ROWS + _MOST_DOCUMENTS:
        raise MalformedFrame("it tells more than any batch does")
    number = fields.count("number") or fields.lacks("number")
    after = fields.count("after")
    if after >= number:
        raise MalformedFrame("a batch follows an earlier one")
    return Batch(
        sensor=_name(fields, "sensor"),
        place=_name(fields, "place"),
        life=_word(fields, "life"),
        number=number,
        after=after,
        clocks=clocks,
        program=clean(fields.text("program"), 40),
        sightings=tuple(sightings),
        scans=tuple(scans),
        unknown=tuple(unknown),
        own=tuple(_macs(fields.texts("own", _MOST_OWN))),
        dropped=fields.counts("dropped", _MOST_DROPPED),
    )


def sightings_of(texts: Iterable[str], at: datetime) -> Iterator[Sighting]:
    """Yield what was seen by parts of a batch that was closed at a moment; a part that is malformed says nothing."""
    for text in texts:
        with suppress(ValueError, MalformedFrame):
            document = json.loads(text)
            if isinstance(document, dict) and document.get("form") in (OBSERVATION, SEEN):
                yield from _seen(document, at)


def folded_to_json(note: Folded) -> bytes:
    """Return a note as it is kept at the broker."""
    return _written(
        _known(form=FOLDED, life=note.life, number=note.number, patience_s=note.patience_s, nonce=note.nonce)
    )


def folded_from_json(octets: bytes) -> Folded:
    """Return the note. Raises MalformedFrame, never anything else."""
    fields = _read(octets, FOLDED)
    patience = fields.number("patience_s") or 0.0
    return Folded(
        life=clean(fields.text("life"), 40),
        number=fields.count("number"),
        patience_s=patience if 0 <= patience <= 90 * 86_400 else 0.0,
        nonce=clean(fields.text("nonce"), 40),
    )


def state_to_json(state: SensorState) -> bytes:
    """Return what a sensor says of itself."""
    clocks = _clocks(state.clocks) if state.clocks is not None else {}
    return _written(
        _known(
            form=STATE, sensor=state.sensor, online=state.online, **clocks, place=state.place, life=state.life,
            program=state.program, waiting=state.waiting, address=state.address, nonce=state.nonce,
            oldest=moment_text(state.oldest) if state.oldest is not None else None, troubles=list(state.troubles),
        )
    )  # fmt: skip


def state_from_json(octets: bytes) -> SensorState:
    """Return what a sensor says of itself. Raises MalformedFrame, never anything else."""
    fields = _read(octets, STATE)
    return SensorState(
        sensor=_name(fields, "sensor"),
        online=fields.flag("online"),
        clocks=_clocks_of(fields) if fields.moment("at") is not None else None,
        place=clean(fields.text("place"), 60),
        life=clean(fields.text("life"), 40),
        program=clean(fields.text("program"), 40),
        waiting=fields.count("waiting"),
        oldest=fields.moment("oldest"),
        address=clean(fields.text("address"), 60),
        nonce=clean(fields.text("nonce"), 40),
        troubles=tuple(clean(each, 200) for each in fields.texts("troubles", _MOST_TROUBLES)),
    )


def _written(document: Mapping[str, Any]) -> bytes:
    return json.dumps(document, ensure_ascii=False, separators=(",", ":")).encode()


def _read(octets: bytes, form: str) -> Fields:
    """Return the fields of a document of a form. Raises MalformedFrame."""
    if len(octets) > MAX_OCTETS:
        raise MalformedFrame(f"{len(octets)} octets are more than any document has")
    if max(map(octets.count, (b"[", b"{"))) > _MOST_DOCUMENTS + _MOST_ROWS * 2:
        raise MalformedFrame("it has more parts than any document")
    try:
        document = json.loads(octets)
    except (ValueError, RecursionError):
        raise MalformedFrame("it is no JSON") from None
    if not isinstance(document, dict) or _depth(document, _DEEPEST) > _DEEPEST:
        raise MalformedFrame("it is no document of ours")
    return Fields(document, form)


def _depth(part: Any, most: int) -> int:
    """Return how many levels a document has, one more than ``most`` if they are more."""
    if most < 0 or not isinstance(part, dict | list):
        return 0 if most >= 0 else 1
    inner: Iterable[Any] = part.values() if isinstance(part, dict) else part
    return 1 + max((_depth(each, most - 1) for each in inner), default=0)


def _known(**fields: Any) -> dict[str, Any]:
    return {key: value for key, value in fields.items() if value not in (None, "", [], {}, ())}


def _text(value: object) -> str | None:
    return str(value) if value is not None else None


def _clocks(clocks: SensorClocks) -> dict[str, Any]:
    return {"at": moment_text(clocks.at), "boot": clocks.boot, "seconds": round(clocks.seconds, 3)}


def _clocks_of(fields: Fields) -> SensorClocks:
    seconds = fields.number("seconds")
    if seconds is None or not 0 <= seconds < 1e11:
        raise MalformedFrame("the seconds since its start are missing, or cannot be")
    return SensorClocks(fields.moment("at") or fields.lacks("at"), clean(fields.text("boot"), 60), float(seconds))


def _is_plain(seen: Observation) -> bool:
    """Tell whether a sighting is only that a pair was there: most are."""
    return not seen.traits and seen.medium is Medium.UNKNOWN and seen.mac is not None and seen.address is not None


def _row(each: Sighting, at: datetime) -> list[Any]:
    seen = each.seen
    return [
        each.step,
        str(seen.mac),
        str(seen.address),
        _before(seen.began, at),
        _before(seen.at, at),
        str(seen.source),
    ]


def _before(moment: datetime, at: datetime) -> int:
    """Return by how many milliseconds a moment is before the end of the batch."""
    return round((at - moment) / timedelta(milliseconds=1))


def _seen(document: dict[str, Any], at: datetime) -> list[Sighting]:
    """Return what one part of a batch says was seen. Raises MalformedFrame."""
    if document["form"] == SEEN:
        return _rows(Fields(document, SEEN), at)
    seen = observation_from_json(document)
    if seen.recorded or seen.undated:
        raise MalformedFrame("a sensor tells what it saw itself, no record")
    return [Sighting(_step(Fields(document, OBSERVATION)), _in_time(seen, at))]


def _rows(fields: Fields, at: datetime) -> list[Sighting]:
    subnet = fields.optional("subnet", IPv4Network)
    found = []
    for row in fields.lists("rows", _MOST_ROWS):
        if len(row) != 6 or not all(isinstance(each, str) for each in (row[1], row[2], row[5])):
            raise MalformedFrame("a row has six parts: step, MAC, address, since, until, source")
        step, mac, address, since, until, source = row
        numbers = [each for each in (step, since, until) if isinstance(each, int) and not isinstance(each, bool)]
        if len(numbers) != 3 or not 0 <= step < _MOST_STEPS or not 0 <= until <= since:
            raise MalformedFrame("a row has a step, and a time before the end of the batch")
        try:
            began, last = (at - timedelta(milliseconds=each) for each in (since, until))
            seen = Observation(
                MacAddress.parse(mac), parse_address(address), last, Source(source), since=began, subnet=subnet
            )
        except (ValueError, OverflowError):
            raise MalformedFrame("a row has no MAC, address or source") from None
        found.append(Sighting(step, _in_time(seen, at)))
    return found


def _in_time(seen: Observation, at: datetime) -> Observation:
    """Return a sighting that can be one of a batch that was closed at a moment. Raises MalformedFrame."""
    if seen.at > at or seen.began > seen.at or seen.began < at - _LONGEST:
        raise MalformedFrame("it was seen before the batch was closed, and not years before")
    return seen


def _scan(each: ScanFacts) -> dict[str, Any]:
    return _known(
        form=SCAN, step=each.step, began=moment_text(each.began), ended=moment_text(each.ended),
        subnet=str(each.subnet), targets=str(each.targets), interface=each.interface, method=each.method,
        asked=each.asked, answered=each.answered, rounds=each.rounds, completed=each.completed, times=each.times,
        span_s=round(each.span_s, 3), silent=list(map(str, each.silent)), gateway=_text(each.gateway),
        gateway_mac=_text(each.gateway_mac), is_question=each.is_question or None,
        looking_since=moment_text(each.looking_since) if each.looking_since is not None else None,
    )  # fmt: skip


def _scan_of(fields: Fields, at: datetime) -> ScanFacts:
    began, ended = fields.moment("began") or fields.lacks("began"), fields.moment("ended") or fields.lacks("ended")
    if not at - _LONGEST < began <= ended <= at:
        raise MalformedFrame("a scan ends after it began, and before the batch was closed")
    try:
        targets = Targets.parse([fields.text("targets")])
    except InvalidTarget:
        raise MalformedFrame("targets is not a list of ranges") from None
    subnet: IPv4Network = fields.required("subnet", IPv4Network)
    first, last = int(subnet.network_address), int(subnet.broadcast_address)
    if any(low < first or high > last for low, high in targets.ranges):
        raise MalformedFrame("the targets are not in the subnet")
    span = fields.number("span_s") or 0.0
    gateway = fields.address("gateway")
    silent = [each for each in map(_ipv6, fields.texts("silent", _MOST_SILENT)) if each is not None]
    return ScanFacts(
        step=_step(fields),
        began=began,
        ended=ended,
        subnet=subnet,
        targets=targets,
        interface=clean(fields.text("interface"), 40),
        method=clean(fields.text("method"), 20),
        asked=fields.count("asked"),
        answered=fields.count("answered"),
        rounds=fields.count("rounds"),
        completed=fields.flag("completed"),
        times=fields.count("times"),
        span_s=span if 0 <= span <= 86_400 else 0.0,
        silent=tuple(silent),
        gateway=gateway if gateway is not None and gateway.version == 4 else None,
        gateway_mac=fields.mac("gateway_mac"),
        is_question=fields.flag("is_question"),
        looking_since=fields.moment("looking_since"),
    )


def _ipv6(text: str) -> IPv6Address | None:
    try:
        address = parse_address(text)
    except ValueError:
        raise MalformedFrame("silent is a list of addresses") from None
    return address if isinstance(address, IPv6Address) else None


def _macs(texts: Iterable[str]) -> list[MacAddress]:
    try:
        return [MacAddress.parse(each) for each in texts]
    except ValueError:
        raise MalformedFrame("own is a list of MAC addresses") from None


def _step(fields: Fields) -> int:
    step = fields.count("step")
    if step >= _MOST_STEPS:
        raise MalformedFrame("no batch has so many steps")
    return step


def _name(fields: Fields, key: str) -> str:
    name = fields.text(key)
    if not is_place_name(name):
        raise MalformedFrame(f"{key} is no name")
    return name


def _word(fields: Fields, key: str) -> str:
    return clean(fields.text(key), 40) or str(fields.lacks(key))
