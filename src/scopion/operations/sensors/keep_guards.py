"""The pushes that a sensor takes back by itself unless a person keeps them: in a file, so that a restart loses none.

A deadline is kept by the time since the machine was started, which cannot be set; after a restart the time of day
counts, up to the whole span.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from scopion.attachment.orders.order import Guard
from scopion.attachment.orders.order_documents import guard_of
from scopion.model.batch import SensorClocks
from scopion.model.errors import MalformedFrame
from scopion.roster.store.write_files import write_atomically

FILE = "guards.json"
_FORM = "guards/1"


@dataclass(frozen=True, slots=True)
class Kept:
    """A guard, and by which clocks its time runs."""

    enforcer: str
    guard: Guard
    since: SensorClocks  # when it was ordered

    def left_s(self, now: SensorClocks) -> float:
        """Return the seconds until the push is to be taken back; zero or less: it is due."""
        if now.boot == self.since.boot:
            return self.guard.left_s - (now.seconds - self.since.seconds)
        # Started again: at least as long ago as it runs now.
        return self.guard.left_s - max((now.at - self.since.at).total_seconds(), now.seconds)


class Guards:
    """The guards of a sensor."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / FILE
        self._kept = _read(self._path)

    def all(self) -> Sequence[Kept]:
        """Return them, in the order in which they came."""
        return tuple(self._kept)

    def settle(self, enforcer: str, waiting: Sequence[int], new: Kept | None) -> Sequence[int]:
        """Keep of an enforcer only the guards of some pushes, and one more. Returns which had a guard before.

        Raises StorageFailed.
        """
        before = [each.guard.push for each in self._kept if each.enforcer == enforcer]
        kept = [each for each in self._kept if each.enforcer != enforcer or each.guard.push in waiting]
        if new is not None:
            kept = [each for each in kept if (each.enforcer, each.guard.push) != (enforcer, new.guard.push)]
            kept.append(new)
        self._write(kept)
        return before

    def done(self, ended: Kept) -> None:
        """Forget one whose push was taken back, and those of later pushes: these went with it. Raises StorageFailed."""
        name, number = ended.enforcer, ended.guard.push
        self._write([each for each in self._kept if each.enforcer != name or each.guard.push < number])

    def _write(self, kept: Sequence[Kept]) -> None:
        if list(kept) == list(self._kept):
            return
        document = {"form": _FORM, "guards": list(map(_document, kept))}
        write_atomically(self._path, json.dumps(document).encode(), 0o600)
        self._kept = tuple(kept)


def _document(each: Kept) -> dict[str, Any]:
    guard, since = each.guard, each.since
    return {
        "enforcer": each.enforcer, "push": guard.push, "left_s": guard.left_s, "before": dict(guard.before),
        "first": list(map(str, guard.first)), "at": since.at.isoformat(), "boot": since.boot, "seconds": since.seconds,
    }  # fmt: skip


def _read(path: Path) -> tuple[Kept, ...]:
    """Return what was kept; what is damaged is not: the roster's side takes its pushes back, too."""
    try:
        document = json.loads(path.read_text(encoding="utf-8"))
        if document["form"] != _FORM:
            return ()
        return tuple(map(_kept_of, document["guards"]))
    except (OSError, ValueError, KeyError, TypeError, AttributeError, MalformedFrame):
        return ()


def _kept_of(read: dict[str, Any]) -> Kept:
    at = datetime.fromisoformat(read["at"]).astimezone(UTC)
    return Kept(read["enforcer"], guard_of(read), SensorClocks(at, str(read["boot"]), float(read["seconds"])))
