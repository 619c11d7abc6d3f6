"""Observations and events as JSON: the form in which the outbox keeps them and machines exchange them.

Each object names its form and version, ``observation/1`` or ``event/1``. A reader refuses other versions and does not
trust what it reads: texts are cleaned and cut, addresses and moments are checked. docs/formats.md describes the form.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from ipaddress import IPv4Network
from typing import Any, TypeVar

from scopion.model.address import Address, parse_address
from scopion.model.device import Event, EventKind
from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source, Trait, TraitKind
from scopion.model.text import clean

OBSERVATION, EVENT = "observation/1", "event/1"
_MOST_TRAITS = 64  # traits of one observation: the longest list of services seen in practice has a dozen
_T = TypeVar("_T")


def observation_to_json(seen: Observation) -> dict[str, Any]:
    """Return an observation under the keys of its form; unknown values are left out."""
    return _known(
        form=OBSERVATION,
        mac=_text(seen.mac),
        address=_text(seen.address),
        at=_moment(seen.at),
        source=str(seen.source),
        medium=None if seen.medium is Medium.UNKNOWN else str(seen.medium),
        rtt_s=seen.rtt_s,
        traits=[{"kind": str(each.kind), "value": each.value, "source": str(each.source)} for each in seen.traits],
        recorded=seen.recorded or None,
        undated=seen.undated or None,
        subnet=_text(seen.subnet),
    )


def observation_from_json(read: Mapping[str, Any]) -> Observation:
    """Return the observation that was written. Raises MalformedFrame, never anything else."""
    fields = _Fields(read, OBSERVATION)
    mac, address = fields.mac("mac"), fields.address("address")
    if mac is None and address is None:
        raise MalformedFrame("an observation has a MAC or an address")
    rtt = fields.number("rtt_s")
    return Observation(
        mac=mac,
        address=address,
        at=fields.moment("at") or fields.lacks("at"),
        source=fields.required("source", Source),
        medium=fields.optional("medium", Medium) or Medium.UNKNOWN,
        rtt_s=rtt if rtt is not None and 0 <= rtt < 3600 else None,
        traits=fields.traits(),
        recorded=read.get("recorded") is True,
        undated=read.get("undated") is True,
        subnet=fields.optional("subnet", IPv4Network),
    )


def event_to_json(event: Event) -> dict[str, Any]:
    """Return an event under the keys of its form; keys that its kind does not use are left out."""
    return _known(
        form=EVENT,
        id=event.id or None,
        kind=str(event.kind),
        at=_moment(event.at),
        device=event.device_id,
        mac=_text(event.mac),
        address=str(event.address),
        was_address=_text(event.was_address),
        away_since=_moment(event.away_since) if event.away_since else None,
        other_mac=_text(event.other_mac),
        name=event.name,
        was_name=event.was_name,
        place=event.place,
    )


def event_from_json(read: Mapping[str, Any]) -> Event:
    """Return the event that was written. Raises MalformedFrame, never anything else."""
    fields = _Fields(read, EVENT)
    return Event(
        kind=fields.required("kind", EventKind),
        at=fields.moment("at") or fields.lacks("at"),
        device_id=fields.count("device"),
        mac=fields.mac("mac"),
        address=fields.address("address") or fields.lacks("address"),
        was_address=fields.address("was_address"),
        away_since=fields.moment("away_since"),
        other_mac=fields.mac("other_mac"),
        name=fields.text("name"),
        was_name=fields.text("was_name"),
        place=fields.text("place"),
        id=fields.count("id"),
    )


def _known(**fields: Any) -> dict[str, Any]:
    return {key: value for key, value in fields.items() if value is not None and value != "" and value != []}


def _text(value: object) -> str | None:
    return str(value) if value is not None else None


def _moment(at: datetime) -> str:
    """Return a moment to the millisecond, as the roster keeps it."""
    return at.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


class _Fields:
    """The fields of an object that another program may have written."""

    def __init__(self, read: Mapping[str, Any], form: str) -> None:
        if not isinstance(read, Mapping) or read.get("form") != form:
            raise MalformedFrame(f"this is not of the form {form}")
        self._read = read

    def lacks(self, key: str) -> Any:
        raise MalformedFrame(f"{key} is missing")

    def text(self, key: str) -> str:
        value = self._read.get(key, "")
        if not isinstance(value, str):
            raise MalformedFrame(f"{key} is not text")
        return clean(value)

    def number(self, key: str) -> float | None:
        value = self._read.get(key)
        if value is not None and (isinstance(value, bool) or not isinstance(value, int | float)):
            raise MalformedFrame(f"{key} is not a number")
        return value

    def count(self, key: str) -> int:
        value = self._read.get(key, 0)
        if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value < 1 << 53:
            raise MalformedFrame(f"{key} is not a count")
        return value

    def optional(self, key: str, read: Callable[[str], _T]) -> _T | None:
        text = self.text(key)
        if not text:
            return None
        try:
            return read(text)
        except (ValueError, OverflowError):
            raise MalformedFrame(f"{key} is not {text!r}") from None

    def required(self, key: str, read: Callable[[str], _T]) -> _T:
        found = self.optional(key, read)
        return found if found is not None else self.lacks(key)

    def mac(self, key: str) -> MacAddress | None:
        return self.optional(key, MacAddress.parse)

    def address(self, key: str) -> Address | None:
        return self.optional(key, parse_address)

    def moment(self, key: str) -> datetime | None:
        at = self.optional(key, datetime.fromisoformat)
        if at is not None and (at.tzinfo is None or not 1970 <= at.year < 9000):
            raise MalformedFrame(f"{key} needs a time zone and a year that can be")
        return at.astimezone(UTC) if at is not None else None

    def traits(self) -> tuple[Trait, ...]:
        listed = self._read.get("traits", [])
        if not isinstance(listed, list):
            raise MalformedFrame("traits is not a list")
        found = []
        for each in listed[:_MOST_TRAITS]:
            fields = _Fields({"form": "", **each} if isinstance(each, Mapping) else {}, "")
            value = fields.text("value")
            if value:
                found.append(Trait(fields.required("kind", TraitKind), value, fields.required("source", Source)))
        return tuple(found)
