"""Single fields of sheets and documents: from text to value, each with one sentence about a mistake."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime

from scopion.model.address import Address, parse_address
from scopion.model.device import Standing
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Source, Trait, TraitKind
from scopion.model.place import is_place_name
from scopion.model.text import clean

_NAME = re.compile(r"(?P<value>.+) \((?P<source>[a-z-]+)\)")
# A name from the network may have the characters that separate names here.
_TO_ESCAPE, _WITH_ESCAPE, _ESCAPED = re.compile(r"([;\\])"), r"\\\1", re.compile(r"\\([;\\])")
_PARTING = re.compile(r"(?<=\));\s*")
_GROUPS = "|"
_NEVER = "never"  # of an adapter that was never seen, beside one that was


def mac(text: str) -> MacAddress:
    """Return a MAC address of one adapter, in any notation. Raises ValueError."""
    found = MacAddress.parse(text)
    if found.is_multicast or not found.number:
        raise ValueError(
            f"{text!r} is not an adapter's address: it is the address of {'many' if found.number else 'none'}"
        )
    return found


def macs(text: str) -> tuple[MacAddress, ...]:
    """Return several, with blanks or commas between. Raises ValueError."""
    return tuple(mac(part) for part in re.split(r"[\s,;]+", text.strip()) if part)


def standing(text: str) -> Standing:
    """Return a standing. Raises ValueError."""
    try:
        return Standing(text.strip().casefold())
    except ValueError:
        raise ValueError(f"{text!r} is not a standing: write one of {', '.join(Standing)}") from None


def day(text: str) -> date:
    """Return a day. Raises ValueError."""
    try:
        return date.fromisoformat(text.strip())
    except ValueError:
        raise ValueError(f"{text!r} is not a date: write it as 2026-12-31") from None


def moment(text: str) -> datetime:
    """Return a moment with its zone. Raises ValueError."""
    try:
        found = datetime.fromisoformat(text.strip())
    except ValueError:
        raise ValueError(f"{text!r} is not a moment: write it as 2026-12-31T14:00:00Z") from None
    try:
        return (found if found.tzinfo else found.replace(tzinfo=UTC)).astimezone(UTC)
    except OverflowError:
        raise ValueError(f"{text!r} is not a moment: its year cannot be right") from None


def moments(text: str) -> tuple[datetime | None, ...]:
    """Return several, with blanks between; None for ``never``. Raises ValueError."""
    return tuple(None if part == _NEVER else moment(part) for part in text.split())


def written_moments(moments: Sequence[datetime | None]) -> str:
    """Return the text that ``moments`` reads; empty if there is none at all."""
    return " ".join(iso(each) if each else _NEVER for each in moments) if any(moments) else ""


def media(text: str) -> tuple[Medium, ...]:
    """Return media with blanks between. Raises ValueError."""
    found = []
    for part in text.split():
        if part not in list(Medium):
            raise ValueError(f"{part!r} is not a medium: write one of {', '.join(Medium)}")
        found.append(Medium(part))
    return tuple(found)


def address(text: str) -> Address:
    """Return an IP address. Raises ValueError."""
    try:
        return parse_address(text.strip())
    except ValueError:
        raise ValueError(f"{text!r} is not an IP address") from None


def address_groups(text: str) -> tuple[tuple[Address, ...], ...]:
    """Return the addresses of each adapter; adapters are separated by a bar. Raises ValueError."""
    return tuple(tuple(map(address, group.split())) for group in text.split(_GROUPS)) if text.strip() else ()


def written_groups(groups: tuple[tuple[Address, ...], ...]) -> str:
    """Return the text that ``address_groups`` reads."""
    if not any(groups):
        return ""
    return f" {_GROUPS} ".join(" ".join(map(str, group)) for group in groups)


def names(text: str) -> tuple[Trait, ...]:
    """Read ``till.example (dns); TILL (netbios)``. Raises ValueError."""
    found = []
    for part in filter(None, map(str.strip, _PARTING.split(text))):
        match = _NAME.fullmatch(part)
        if match is None or match["source"] not in list(Source):
            raise ValueError(f"{part!r} is not a name with its source: write it as till.example (dns)")
        value = _ESCAPED.sub(r"\1", match["value"])
        found.append(Trait(TraitKind.NAME, clean(value), Source(match["source"])))
    return tuple(found)


def written_names(traits: tuple[Trait, ...]) -> str:
    """Return the text that ``names`` reads."""
    return "; ".join(f"{_TO_ESCAPE.sub(_WITH_ESCAPE, name.value)} ({name.source})" for name in traits)


def places(text: str) -> dict[Address, str]:
    """Read ``192.0.2.44@branch; 192.0.2.45@branch``. Raises ValueError."""
    found = {}
    for part in filter(None, map(str.strip, text.split(";"))):
        at, _, place = part.partition("@")
        if not is_place_name(place):
            raise ValueError(f"{part!r} is not an address and its place: write it as 192.0.2.44@branch")
        found[address(at)] = place
    return found


def written_places(placed: Mapping[Address, str]) -> str:
    """Return the text that ``places`` reads."""
    return "; ".join(f"{at}@{place}" for at, place in placed.items())


def iso(value: datetime) -> str:
    """Return a moment for files, to the millisecond, as the roster keeps it."""
    text = value.astimezone(UTC).isoformat(timespec="milliseconds")
    return text.replace(".000", "").replace("+00:00", "Z")
