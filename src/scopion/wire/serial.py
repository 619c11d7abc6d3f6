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
        at=moment_text(seen.at),
        source=str(seen.source),
        medium=None if seen.medium is Medium.UNKNOWN else str(seen.medium),
        rtt_s=seen.rtt_s,
        traits=[{"kind": str(each.kind), "value": each.value, "source": str(each.source)} for each in seen.traits],
        recorded=seen.recorded or None,
        undated=seen.undated or None,
        since=moment_text(seen.since) if seen.since is not None else None,
        subnet=_text(seen.subnet),
    )


def observation_from_json(read: Mapping[str, Any]) -> Observation:
    """Return the observation that was written. Raises MalformedFrame, never anything else."""
    fields = Fields(read, OBSERVATION)
    mac, address = fields.mac("mac"), fields.address("address")
    if mac is None and address is None:
        raise MalformedFrame("an observation has a MAC or an address")
    rtt, at = fields.number("rtt_s"), fields.moment("at") or fields.lacks("at")
    since = fields.moment("since")
    if since is not None and since > at:
        raise MalformedFrame("since is after at")
    return Observation(
        mac=mac,
        address=address,
        at=at,
        source=fields.required("source", Source),
        medium=fields.optional("medium", Medium) or Medium.UNKNOWN,
        rtt_s=rtt if rtt is not None and 0 <= rtt < 3600 else None,
        traits=fields.traits(),
        recorded=read.get("recorded") is True,
        undated=read.get("undated") is True,
        since=since,
        subnet=fields.optional("subnet", IPv4Network),
    )


def event_to_json(event: Event) -> dict[str, Any]:
    """Return an event under the keys of its form; keys that its kind does not use are left out."""
    return _known(
        form=EVENT,
        id=event.id or None,
        kind=str(event.kind),
        at=moment_text(event.at),
        device=event.device_id,
        mac=_text(event.mac),
        address=str(event.address),
        was_address=_text(event.was_address),
        away_since=moment_text(event.away_since) if event.away_since else None,
        other_mac=_text(event.other_mac),
        name=event.name,
        was_name=event.was_name,
        place=event.place,
    )


def event_from_json(read: Mapping[str, Any]) -> Event:
    """Return the event that was written. Raises MalformedFrame, never anything else."""
    fields = Fields(read, EVENT)
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


def moment_text(at: datetime) -> str:
    """Return a moment to the millisecond, as the roster keeps it."""
    return at.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


class Fields:
    """The fields of an object that another program may have written. Every method raises MalformedFrame for what is
    of another kind than it should be.
    """

    def __init__(self, read: Mapping[str, Any], form: str) -> None:
        if not isinstance(read, Mapping) or read.get("form") != form:
            raise MalformedFrame(f"this is not of the form {form}")
        self._read = read

    def lacks(self, key: str) -> Any:
        """Raise for a field that has to be there."""
        raise MalformedFrame(f"{key} is missing")

    def text(self, key: str) -> str:
        """Return a text, cleaned; empty if it is missing."""
        value = self._read.get(key, "")
        if not isinstance(value, str):
            raise MalformedFrame(f"{key} is not text")
        return clean(value)

    def number(self, key: str) -> float | None:
        """Return a number; None if it is missing."""
        value = self._read.get(key)
        if value is not None and (isinstance(value, bool) or not isinstance(value, int | float)):
            raise MalformedFrame(f"{key} is not a number")
        return value

    def count(self, key: str) -> int:
        """Return a whole number from zero on; zero if it is missing."""
        value = self._read.get(key, 0)
        if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value < 1 << 53:
            raise MalformedFrame(f"{key} is not a count")
        return value

    def optional(self, key: str, read: Callable[[str], _T]) -> _T | None:
        """Return what is read of a text; None if it is missing."""
        text = self.text(key)
        if not text:
            return None
        try:
            return read(text)
        except (ValueError, OverflowError):
            raise MalformedFrame(f"{key} is not {text!r}") from None

    def required(self, key: str, read: Callable[[str], _T]) -> _T:
        """Return what is read of a text that has to be there."""
        found = self.optional(key, read)
        return found if found is not None else self.lacks(key)

    def mac(self, key: str) -> MacAddress | None:
        """Return a MAC address; None if it is missing."""
        return self.optional(key, MacAddress.parse)

    def address(self, key: str) -> Address | None:
        """Return an address; None if it is missing."""
        return self.optional(key, parse_address)

    def moment(self, key: str) -> datetime | None:
        """Return a moment in UTC; None if it is missing."""
        at = self.optional(key, datetime.fromisoformat)
        if at is not None and (at.tzinfo is None or not 1970 <= at.year < 9000):
            raise MalformedFrame(f"{key} needs a time zone and a year that can be")
        return at.astimezone(UTC) if at is not None else None

    def flag(self, key: str) -> bool:
        """Return a yes or no; no if it is missing."""
        value = self._read.get(key, False)
        if not isinstance(value, bool):
            raise MalformedFrame(f"{key} is neither true nor false")
        return value

    def texts(self, key: str, most: int) -> list[str]:
        """Return a list of texts, as they are."""
        return self._list(key, most, str)

    def lists(self, key: str, most: int) -> list[list[Any]]:
        """Return a list of lists."""
        return self._list(key, most, list)

    def objects(self, key: str, most: int) -> list[dict[str, Any]]:
        """Return a list of objects."""
        return self._list(key, most, dict)

    def counts(self, key: str, most: int) -> dict[str, int]:
        """Return an object of whole numbers, by their names."""
        read = self._read.get(key, {})
        if not isinstance(read, dict) or len(read) > most:
            raise MalformedFrame(f"{key} is not an object of numbers")
        fields = Fields({"form": "", **read}, "")
        return {clean(name, 40): fields.count(name) for name in read}

    def _list(self, key: str, most: int, kind: type[_T]) -> list[_T]:
        read = self._read.get(key, [])
        if not isinstance(read, list) or len(read) > most or not all(isinstance(each, kind) for each in read):
            raise MalformedFrame(f"{key} is not a list of what it should be, or too long")
        return read

    def traits(self) -> tuple[Trait, ...]:
        """Return the traits of an observation."""
        listed = self._read.get("traits", [])
        if not isinstance(listed, list):
            raise MalformedFrame("traits is not a list")
        found = []
        for each in listed[:_MOST_TRAITS]:
            fields = Fields({"form": "", **each} if isinstance(each, Mapping) else {}, "")
            value = fields.text("value")
            if value:
                found.append(Trait(fields.required("kind", TraitKind), value, fields.required("source", Source)))
        return tuple(found)
