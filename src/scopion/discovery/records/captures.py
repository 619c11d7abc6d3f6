"""Capture files: every frame is decoded as if it were heard now, and keeps the time at which it was captured."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import BinaryIO

from scopion.discovery.hearing import Hearing
from scopion.discovery.listening import Gathered
from scopion.discovery.records.reading import Reading, RecordKind, UnreadPart
from scopion.model.observation import Observation, Pair
from scopion.model.text import counted
from scopion.wire.capture import CaptureReader

_CLOCKS_DIFFER = timedelta(days=1)
# Frames between two looks at the clock, for progress.
_TELL_EVERY = 5000


def read_capture(stream: BinaryIO, as_of: datetime, on_progress: Callable[[int], None] = lambda _: None) -> Reading:
    """Return what was heard: for each pair of MAC and address the first and last time, with all that was said."""
    reading = Reading(RecordKind.CAPTURE)
    capture, hearing, gathered = CaptureReader(stream), Hearing(), Gathered()
    first: dict[Pair, datetime] = {}
    dated: set[Pair] = set()
    late, latest = 0, as_of
    for frame in capture:
        at = _moment(frame.at) or as_of
        is_late = at > as_of + _CLOCKS_DIFFER
        if is_late:  # otherwise it would stay present for ever, and nothing seen later would count
            late, latest, at = late + 1, max(latest, at), as_of
        hearing.forget()  # the times matter here, and a capture is not a flood
        for seen in hearing.take(frame.data, at):
            gathered.add(seen)
            pair = (seen.mac, seen.address)
            if not is_late:
                dated.add(pair)
            first[pair] = min(at, first.get(pair, at))
        if capture.frames % _TELL_EVERY == 0:
            on_progress(capture.frames)
    for seen in gathered.observations():
        pair = (seen.mac, seen.address)
        reading.observations += [replace(each, undated=pair not in dated) for each in _ends(seen, first[pair])]
    understood = hearing.decoded.total()
    reading.about = f"a capture of {counted(capture.frames, 'Ethernet frame')}, {understood} told something"
    if hearing.malformed:
        reading.about += f", {hearing.malformed} damaged"
    for link_type, count in sorted(capture.skipped.items()):
        reading.trouble(f"link type {link_type}", f"{counted(count, 'frame')} that are not Ethernet")
    if late:
        when = f"{latest:%Y-%m-%d}, after the file was written"
        reading.trouble("times", f"{counted(late, 'frame')} dated up to {when}: when they were heard is not known")
    if gathered.passed_over:
        reading.trouble("the rest", f"{counted(gathered.passed_over, 'sighting')} of more devices than are kept")
    if capture.problem:
        reading.unread += 1
        reading.problems.append(UnreadPart("the file", capture.problem))
    return reading


def _ends(seen: Observation, first: datetime) -> list[Observation]:
    """Return the first and the last time of one pair, as records; the traits go with the last."""
    last = replace(seen, recorded=True)
    return [last] if first == seen.at else [replace(last, at=first, traits=()), last]


def _moment(seconds: float | None) -> datetime | None:
    try:
        return datetime.fromtimestamp(seconds, UTC) if seconds else None
    except (ValueError, OverflowError, OSError):
        return None
