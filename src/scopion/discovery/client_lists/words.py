"""What words on a router's page say: the field that a heading names, and the kind of a piece of text.

A piece has a kind only if all of its words are known: ``Offline since 12:40`` is a state, ``offline-box`` a word, which
may be a name. The words themselves are data, in ``data/client-list-words.toml``.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cache, lru_cache
from pathlib import Path
from typing import TypeVar

_WORDS = Path(__file__).parent.parent / "data" / "client-list-words.toml"
# A phrase of the vocabulary has at most three words; a longer piece than this is a sentence and no field.
_MOST_IN_PHRASE, _MOST_TOKENS = 3, 24
# Stems this short count as whole words only: "no" is not the beginning of "nombre".
_WHOLE_UP_TO = 3
# Endings of plurals, which words of states have in titles; shorter words are left as they are.
_ENDINGS, _LONG = ("s", "e", "en", "es"), 5
_KEY = 2  # letters of a word by which stems are found
# States and headings repeat from row to row; a hostile list repeats nothing.
_REMEMBERED = 4_096


class Field(StrEnum):
    """The field that a heading, or a label before a value, names. The values are the keys of the vocabulary."""

    MAC = "mac"
    OTHER = "other"  # one that says nothing of interest: traffic, row numbers, buttons, another device's address
    SSID = "ssid"
    MAKER = "maker"
    SIGNAL = "signal"
    RATE = "rate"
    BAND = "band"
    INTERFACE = "interface"
    STATE = "state"
    LEASE_LENGTH = "lease_length"
    LEASE = "lease"
    SEEN = "seen"
    SINCE = "since"
    KIND = "kind"
    ADDRESS = "address"
    NAME = "name"


class Kind(StrEnum):
    """What a piece of text is by its words. The order is that of weight: the first that occurs decides."""

    AWAY = "away"
    HERE = "here"
    RESERVED = "reserved"
    SIGNAL = "signal"
    RATE = "rate"
    WIRELESS = "wireless"
    CABLE = "cable"
    BAND = "band"
    FOREVER = "forever"
    NONE = "none"
    TIME = "time"
    NUMBER = "number"
    FILLER = "filler"
    WORD = "word"  # something else: a name, a maker, a remark


# What columns of people's lists may be; of equals the first counts.
_OWN_USES = ("mac", "owner", "place", "note", "kind", "label")
Use = TypeVar("Use", bound=str)
_Stems = dict[str, list[tuple[tuple[str, ...], Use]]]


@dataclass(frozen=True, slots=True)
class _Vocabulary:
    headings: _Stems[Field]
    own: _Stems[str]  # of headings of people's lists, by what their column is
    kinds: dict[tuple[str, ...], Kind]  # phrases
    units: dict[str, int]  # seconds
    months: dict[str, int]
    ago: frozenset[str]
    yes: frozenset[str]
    no: frozenset[str]
    amounts: frozenset[str]
    filters: frozenset[tuple[str, ...]]  # phrases


# Letters of one script; figures with their points; any other sign. CJK words have no blanks: each letter is a token.
_TOKENS = re.compile(r"[\u3040-\u30ff\u3400-\u9fff]|[^\W\d_\u3040-\u30ff\u3400-\u9fff]+|\d+(?:[.,:/]\d+)*|[^\w\s]|_")
_CAMEL = re.compile(r"(?<=[a-z])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])|_")
_CJK = re.compile(r"[\u3040-\u30ff\u3400-\u9fff]")


def tokens(text: str) -> list[str]:
    """Return the words, figures and signs of a text, in small letters; ``Wi-Fi`` is one word."""
    return _TOKENS.findall(re.sub(r"b(?:it)?s?/s", "bps", text.casefold().replace("wi-fi", "wifi")))


@cache
def _vocabulary() -> _Vocabulary:
    document = tomllib.loads(_WORDS.read_text(encoding="utf-8"))
    kinds: dict[tuple[str, ...], Kind] = {}
    rest, measures = document["rest"], document["measures"]
    sources = (  # the first that has a phrase decides
        (Kind.AWAY, document["states"]["away"]), (Kind.HERE, document["states"]["here"]),
        (Kind.RESERVED, document["states"]["reserved"]), (Kind.RESERVED, document["titles"]["filters"]),
        (Kind.SIGNAL, measures["signal"]), (Kind.RATE, measures["rate"]),
        (Kind.WIRELESS, document["media"]["wireless"]), (Kind.CABLE, document["media"]["cable"]),
        (Kind.FOREVER, rest["forever"]), (Kind.NONE, rest["none"]), (Kind.FILLER, measures["ago"]),
        (Kind.FILLER, document["media"]["beside"]), (Kind.FILLER, rest["filler"]),
    )  # fmt: skip
    for kind, phrases in sources:
        for phrase in phrases:
            kinds.setdefault(tuple(tokens(phrase)), kind)
    return _Vocabulary(
        headings=_stems(document["headings"], Field),
        own=_stems(document["own"], _OWN_USES),
        kinds=kinds,
        units={word: int(seconds) for seconds, words in measures["time"].items() for word in words},
        months={word: int(number) for number, words in measures["month"].items() for word in words},
        ago=frozenset(measures["ago"]),
        yes=frozenset(rest["yes"]),
        no=frozenset(rest["no"]),
        amounts=frozenset((*measures["amount"], *measures["band"])),
        filters=frozenset(tuple(tokens(phrase)) for phrase in document["titles"]["filters"]),
    )


@lru_cache(_REMEMBERED)
def heading_field(text: str) -> Field | None:
    """Return the field that a heading or a label names, in any of the languages; None if it names none.

    ``macAddress``, ``mac_addr`` and ``MAC-Adresse`` are the same.
    """
    if not 0 < len(text) <= 40:
        return None
    words = [word for word in tokens(_CAMEL.sub(" ", text)) if word.isalnum()] or [text.strip()]
    order = list(Field)
    headings = _vocabulary().headings
    found = [each for at in range(len(words)) for each in _stems_at(words, at, headings)]
    return min(found, key=lambda each: (-each[0], order.index(each[1])))[1] if found else None


@lru_cache(_REMEMBERED)
def own_heading(text: str) -> str:
    """Return what a heading of a person's own list says of its column: ``label``, ``owner``, ``place``, ``note``,
    ``kind`` or ``mac``; empty if it says nothing.
    """
    words = [word for word in tokens(text) if word.isalnum()]
    own = _vocabulary().own
    found = [each for at in range(len(words)) for each in _stems_at(words, at, own)]
    order = list(_OWN_USES)
    return min(found, key=lambda each: (-each[0], order.index(each[1])))[1] if found else ""


def begins_heading(text: str) -> bool:
    """Tell whether the first words of a text name a field."""
    words = [word for word in tokens(_CAMEL.sub(" ", text)) if word.isalnum()][:_MOST_IN_PHRASE]
    return bool(words) and any(True for _ in _stems_at(words, 0, _vocabulary().headings))


def _stems_at(words: list[str], at: int, stems: _Stems[Use]) -> Iterator[tuple[int, Use]]:
    """Yield the stems that stand at a word: how many words they have, and what they mean."""
    for stem, use in stems.get(words[at][:_KEY], ()):
        if len(stem) <= len(words) - at and all(
            word == part or (len(part) > _WHOLE_UP_TO and word.startswith(part))
            for part, word in zip(stem, words[at:], strict=False)
        ):
            yield (len(stem) if not _CJK.match(stem[0]) else 2), use


def _stems(headings: Mapping[str, Sequence[str]], uses: Iterable[Use]) -> _Stems[Use]:
    """Return stems as their words, by the first two letters of the first one."""
    found: _Stems[Use] = {}
    for use in uses:
        for stem in headings[str(use)]:
            words = tuple(each for each in tokens(stem) if each.isalnum()) or (stem,)
            found.setdefault(words[0][:_KEY], []).append((words, use))
    return found


def says_yes(text: str) -> bool | None:
    """Return whether a text says yes or no; None if neither."""
    plain, words = text.strip().casefold(), _vocabulary()
    return True if plain in words.yes else False if plain in words.no else None


@lru_cache(_REMEMBERED)
def names_filter(text: str) -> bool:
    """Tell whether a title is that of a list of who may, or may not, come in."""
    words, filters = tokens(text), _vocabulary().filters
    if len(words) > _MOST_TOKENS:
        return False
    most = max(map(len, filters))
    return any(tuple(words[at : at + length]) in filters for at in range(len(words)) for length in range(1, most + 1))


@lru_cache(_REMEMBERED)
def kind_of(text: str) -> Kind:
    """Return what a piece of text is by its words; ``WORD`` if one of them is not known."""
    found = kinds_in(text)
    if found is None:
        return Kind.WORD
    return min(found, key=list(Kind).index, default=Kind.NONE)


@lru_cache(_REMEMBERED)
def kinds_in(text: str) -> frozenset[Kind] | None:
    """Return the kinds of all words of a piece; None if one of them is not known; empty for signs only."""
    words, vocabulary = tokens(text), _vocabulary()
    if len(words) > _MOST_TOKENS:
        return None
    found: set[Kind] = set()
    at, before_is_number = 0, False
    while at < len(words):
        word = words[at]
        number_next = at + 1 < len(words) and words[at + 1][0].isdecimal()
        length, kind = _phrase(words, at)
        if word.startswith("802.11"):
            found.add(Kind.WIRELESS)
        elif word[0].isdecimal():
            found.add(Kind.TIME if ":" in word else Kind.NUMBER)
        elif kind is not None and not (
            len(word) <= 2 and length == 1 and before_is_number and word in vocabulary.units
        ):
            found.add(kind)
        elif before_is_number and word in vocabulary.units:
            found.add(Kind.TIME)
        elif before_is_number and word in vocabulary.amounts:
            found.add(Kind.BAND if word in ("ghz", "g") else Kind.FILLER)
        elif (before_is_number or number_next) and word in vocabulary.months:
            found.add(Kind.TIME)
        elif word.isalnum():
            return None
        before_is_number = word[0].isdecimal() or (before_is_number and word in ".,-")
        at += max(length, 1)
    return frozenset(found)


def _phrase(words: list[str], at: int) -> tuple[int, Kind | None]:
    """Return the longest known phrase that begins here: how many words it has, and its kind."""
    vocabulary = _vocabulary()
    most = _MOST_IN_PHRASE if not _CJK.match(words[at]) else 5
    for length in range(min(most, len(words) - at), 0, -1):
        kind = vocabulary.kinds.get(tuple(words[at : at + length]))
        if kind is not None:
            return length, kind
    word = words[at]
    for ending in _ENDINGS:  # conectados, connectés, verbundene
        if len(word) > _LONG and word.endswith(ending):
            kind = vocabulary.kinds.get((word.removesuffix(ending),))
            if kind is not None:
                return 1, kind
    return 0, None


def units() -> dict[str, int]:
    """Return how many seconds each word for a unit of time has."""
    return _vocabulary().units


def months() -> dict[str, int]:
    """Return the numbers of the months' names."""
    return _vocabulary().months


def says_ago(text: str) -> bool:
    """Tell whether a text is about how long ago something was: ``4d ago``, ``vor 3 Stunden``, ``hace 2 días``."""
    found = " ".join(tokens(text))
    return any(re.search(rf"(?<!\S){re.escape(each)}(?!\S)", found) for each in _vocabulary().ago)
