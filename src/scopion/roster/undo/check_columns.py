"""What each column of the roster may hold, so that ``roster check`` finds every damaged row.

SQLite keeps what it is given: a text in a column for numbers, a moment of the year 300,000. A row that another program
has written, or a disk has damaged, is found here: texts are read as their readers do, numbers are checked by SQLite.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from datetime import date
from ipaddress import IPv4Address, IPv4Network

from scopion.model.alert import AlertState, Severity
from scopion.model.device import EventKind, Standing
from scopion.model.mac import Notation
from scopion.model.observation import Medium, Source, TraitKind
from scopion.model.text import controls
from scopion.model.usage import UsageSource
from scopion.model.week import Week
from scopion.roster.store.stored_values import NotOurs, as_written, stored_address, stored_mac, stored_words
from scopion.roster.wifi.lists import ListMode
from scopion.roster.wifi.pushes import PushState

Reader = Callable[[object], object]
_LONGEST = 100_000  # of a message with a page of events; all others are much shorter


@dataclass(frozen=True, slots=True)
class Whole:
    """A whole number within limits. SQLite itself finds other values, because a year has hundreds
    of thousands of rows.
    """

    least: int
    most: int
    or_null: bool = False

    def wrong(self, column: str) -> str:
        """Return the SQL condition for rows in which a column holds another value."""
        wrong = f"typeof({column}) <> 'integer' OR {column} NOT BETWEEN {self.least} AND {self.most}"
        return f"{column} IS NOT NULL AND ({wrong})" if self.or_null else wrong

    def holds(self, value: object) -> bool:
        """Tell whether it is one of these."""
        return (value is None and self.or_null) or (type(value) is int and self.least <= value <= self.most)


_LARGEST = 2**63 - 1
_LATEST = 253_402_300_799_999  # the last millisecond that a datetime can hold
NUMBER, _FLAG, _MOMENT = Whole(-_LARGEST, _LARGEST), Whole(0, 1), Whole(0, _LATEST)
_NUMBER_OR_NULL, _FLAG_OR_NULL, _MOMENT_OR_NULL = (replace(each, or_null=True) for each in (NUMBER, _FLAG, _MOMENT))


def _text(value: object) -> str:
    if not isinstance(value, str) or len(value) > _LONGEST:
        raise NotOurs(f"{value!r:.40} is not text")
    if controls(value):
        raise NotOurs(f"{value!r:.40} has control characters")
    return value


def _mac(value: object) -> None:
    stored_mac(_text(value))


def _address(value: object) -> None:
    stored_address(_text(value))


def _subject(value: object) -> None:
    """Check the subject of a trait: an adapter, or a host of a place of which only the address is known."""
    with as_written("the subject of a trait"):
        try:
            _mac(value)
        except NotOurs:
            _address(_text(value).partition("@")[0])


def _list(value: object) -> None:
    with as_written("a list"):
        if not isinstance(json.loads(_lines(value)), list):
            raise NotOurs(f"{value!r:.40} is not a list")


def _object(value: object) -> None:
    with as_written("an object"):
        if not isinstance(json.loads(_lines(value)), dict):
            raise NotOurs(f"{value!r:.40} is not an object")


def _lines(value: object) -> str:
    """Check a document, in which line ends are backslash escapes: it may have no other control characters."""
    if not isinstance(value, str):
        raise NotOurs(f"{value!r:.40} is not text")
    return value


def _hours(value: object) -> None:
    text = _text(value)
    if text and not text.startswith("@"):
        with as_written("hours"):
            Week.parse(text)


def _week(value: object) -> None:
    with as_written("windows"):
        Week.parse(_text(value))


def _day(value: object) -> None:
    with as_written("a day"):
        date.fromisoformat(_text(value))


def _range(value: object) -> None:
    with as_written("a range"):
        IPv4Network(_text(value))


def _gateway(value: object) -> None:
    with as_written("a gateway"):
        IPv4Address(_text(value))


def _or(reader: Reader, *others: object) -> Reader:
    return lambda value: None if value in others else reader(value)


def _words(kind: Callable[[str], object]) -> Reader:
    return stored_words(kind).__getitem__


def require(column: Reader | Whole, value: object) -> None:
    """Raise NotOurs for a value that a column cannot hold."""
    if not isinstance(column, Whole):
        column(value)
    elif not column.holds(value):
        raise no_value(value)


def no_value(value: object) -> NotOurs:
    """Return the error for a wrong number, or for a value that is no number."""
    return NotOurs(f"{value!r:.40} is not a value that this column can hold")


_STANDING, _KIND, _MODE = _words(Standing), _words(EventKind), _words(ListMode)
COLUMNS: Mapping[str, Mapping[str, Reader | Whole]] = {
    "device": {
        "id": NUMBER, "standing": _STANDING, "label": _text, "owner": _text, "place": _text, "note": _text,
        "guest_until": _or(_day, None), "first_seen": _MOMENT, "standing_since": _MOMENT_OR_NULL, "because": _text,
        "revision": NUMBER, "essential": _FLAG,
    },
    "adapter": {
        "mac": _mac, "device": NUMBER, "medium": _words(Medium), "own": _FLAG, "first_seen": _MOMENT,
        "last_seen": _MOMENT, "medium_evidence": _text, "sighted": _FLAG,
    },
    "stay": {
        "mac": _mac, "address": _address, "since": _MOMENT, "until": _MOMENT, "present": _FLAG,
        "source": _or(_words(Source), None), "found": _or(_text, None), "place": _text,
    },
    "unpaired": {
        "place": _text, "address": _address, "device": NUMBER, "since": _MOMENT, "until": _MOMENT, "present": _FLAG,
    },
    "event": {
        "at": _MOMENT, "kind": _KIND, "device": NUMBER, "mac": _or(_mac, ""), "address": _address,
        "was_address": _or(_address, None, ""), "away_since": _MOMENT_OR_NULL, "scan": _NUMBER_OR_NULL,
        "other_mac": _or(_mac, None, ""), "name": _or(_text, None), "was_name": _or(_text, None), "place": _text,
    },
    "trait": {
        "subject": _subject, "place": _text, "kind": _words(TraitKind), "value": _text, "source": _words(Source),
        "first_seen": _MOMENT, "last_seen": _MOMENT,
    },
    "scan": {
        "targets": _text, "subnet": _or(_range, ""), "interface": _text, "method": _text, "started": _MOMENT,
        "ended": _MOMENT_OR_NULL, "asked": NUMBER, "answered": NUMBER, "rounds": NUMBER, "outcome": _text,
        "place": _text,
    },
    "subnet": {
        "place": _text, "range": _range, "gateway": _or(_gateway, None, ""), "gateway_mac": _or(_mac, None, ""),
        "since": _MOMENT, "baseline": _NUMBER_OR_NULL, "learning_until": _MOMENT_OR_NULL,
    },
    "network": {
        "ssid": _text, "mode": _MODE, "notation": _words(Notation), "capacity": _NUMBER_OR_NULL, "radios": _text,
        "router": _text, "since": _MOMENT, "others_hours": _hours, "lists_of": _or(_text, None),
        "only_until": _MOMENT_OR_NULL,
    },
    "entry": {
        "ssid": _text, "list": _MODE, "device": _NUMBER_OR_NULL, "mac": _or(_mac, None), "description": _text,
        "since": _MOMENT, "hours": _hours, "until": _MOMENT_OR_NULL, "paused": _FLAG, "who": _text,
        "override": _FLAG_OR_NULL, "override_until": _MOMENT_OR_NULL,
    },
    "exclusive": {"ssid": _text, "device": _NUMBER_OR_NULL, "mac": _or(_mac, None)},
    "association": {
        "mac": _mac, "ssid": _text, "access_point": _text, "radio": _text, "since": _MOMENT_OR_NULL,
        "seen": _MOMENT, "signal": _NUMBER_OR_NULL,
    },
    "alert": {
        "identity": _text, "channel": _text, "severity": _words(Severity), "gathers": _text, "gathering": _FLAG,
        "made": _MOMENT, "due": _MOMENT, "state": _words(AlertState), "attempts": NUMBER, "again": _MOMENT,
        "ended": _MOMENT_OR_NULL, "problem": _text, "more": _object, "message": _or(_lines, None),
        "examples": _list,
    },
    "alert_event": {"alert": NUMBER, "at": _MOMENT, "kind": _KIND, "device": NUMBER, "event": _object},
    "follow": {
        "alert": NUMBER, "every": _NUMBER_OR_NULL, "times": NUMBER, "told": _MOMENT_OR_NULL, "second": _text,
        "after": NUMBER,
    },
    "seen": {"alert": NUMBER, "at": _MOMENT, "who": _text, "note": _text},
    "mute": {"device": _NUMBER_OR_NULL, "kind": _or(_KIND, None), "since": _MOMENT, "until": _MOMENT},
    "change": {
        "at": _MOMENT, "kind": _text, "says": _text, "who": _text, "undoes": _NUMBER_OR_NULL,
        "undone": _MOMENT_OR_NULL,
    },
    "change_row": {"relation": _text, "before": _or(_object, None), "after": _or(_object, None)},
    "push": {
        "ssid": _text, "enforcer": _text, "at": _MOMENT, "ended": _MOMENT_OR_NULL, "who": _text, "because": _text,
        "state": _words(PushState), "problem": _text, "radios": _object, "policy": _or(_object, "null"),
        "revert_at": _MOMENT_OR_NULL, "reverted_by": _NUMBER_OR_NULL,
    },
    "verification": {"ssid": _text, "at": _MOMENT, "met": _FLAG_OR_NULL, "unmet": _list},
    "posture": {"ssid": _text, "question": _text, "answer": _text, "at": _MOMENT},
    "timetable": {"name": _text, "windows": _week, "since": _MOMENT},
    "switch": {
        "name": _text, "read": _MOMENT_OR_NULL, "own_name": _text, "problem": _text, "since": _MOMENT_OR_NULL,
        "remarks": _lines,
    },
    "switch_port": {
        "id": NUMBER, "switch": _text, "name": _text, "number": NUMBER, "alias": _text, "speed": NUMBER,
        "up": _FLAG_OR_NULL, "leads_to": _text, "behind": _text, "radio": _FLAG, "adapters": NUMBER, "seen": _MOMENT,
    },
    "socket": {"switch": _text, "port": _text, "name": _text},
    "wire_stay": {
        "mac": _mac, "port": NUMBER, "vlan": NUMBER, "at_edge": _FLAG, "since": _MOMENT, "until": _MOMENT,
        "present": _FLAG,
    },
    "air_stay": {
        "mac": _mac, "ssid": _text, "access_point": _text, "radio": _text, "since": _MOMENT, "until": _MOMENT,
        "present": _FLAG, "heard": NUMBER, "strength": NUMBER, "weak": NUMBER,
    },
    "counter": {
        "source": _words(UsageSource), "key": _text, "subject": _text, "place": _text, "also": _or(_mac, ""),
        "up": NUMBER, "down": NUMBER, "errors": NUMBER, "mark": _text, "bits": NUMBER, "at": _MOMENT,
    },
    "meter": {"id": NUMBER, "source": _words(UsageSource), "subject": _text, "place": _text},
    "usage": {
        "step": NUMBER, "at": Whole(0, _LATEST // 1000), "meter": NUMBER, "up": NUMBER, "down": NUMBER,
        "errors": NUMBER,
    },
    "sensor": {
        "name": _text, "place": _text, "since": _MOMENT, "heard": _MOMENT, "online": _FLAG, "program": _text,
        "address": _text, "waiting": NUMBER, "oldest": _MOMENT_OR_NULL, "offset": _NUMBER_OR_NULL,
        "told": _MOMENT_OR_NULL, "lost": _MOMENT_OR_NULL, "subnets": _object, "troubles": _list,
    },
    "sensor_life": {"sensor": _text, "life": _text, "number": NUMBER, "at": _MOMENT},
    "sensor_boot": {"sensor": _text, "boot": _text, "epoch": NUMBER, "at": _MOMENT},
    "kept_document": {
        "sensor": _text, "place": _text, "at": _MOMENT, "closed": _MOMENT, "ahead": NUMBER, "form": _text,
        "document": _object,
    },
    "meta": {"key": _text, "value": _text},
}  # fmt: skip
