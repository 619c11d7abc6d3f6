"""Guesses what a device may be - a printer, a phone, a camera - from what is known of it, always with the evidence.

The rules are data (``data/kinds.toml``), and a site may add its own. A guess is never certain: it is the kind of the
rule with the most weight, with that rule's words. Pure.
"""

from __future__ import annotations

import re
from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache, lru_cache
from pathlib import Path
from typing import Any

from scopion.model.errors import InvalidSettings
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Trait, TraitKind
from scopion.model.toml_text import parse_toml

DATA = Path(__file__).parent / "data" / "kinds.toml"
SITE_FILE = "kinds.toml"
# The keys of a rule that name a pattern, and the trait that each is compared with.
_OF_TRAITS = {
    "service": TraitKind.SERVICE,
    "model": TraitKind.MODEL,
    "software": TraitKind.SOFTWARE,
    "vendor_class": TraitKind.VENDOR_CLASS,
    "requested_options": TraitKind.REQUESTED_OPTIONS,
    "name": TraitKind.NAME,
    "port": TraitKind.PORT,
    "role": TraitKind.ROLE,
}
_KEY_OF = {kind: key for key, kind in _OF_TRAITS.items()}
_GUESSES_KEPT = 4096
_PATTERNS = {*_OF_TRAITS, "vendor", "mac"}
_WEIGHTS = range(1, 101)
_WHOLE = ("mac", "port", "requested_options", "role")
_SHORT = 4
_LETTERS = "abcdefghijklmnopqrstuvwxyz0123456789"
_WORD = frozenset(_LETTERS)
_SAID_IN_FULL = ("model", "software", "vendor_class", "vendor", "name")


@dataclass(frozen=True, slots=True)
class Guess:
    """A kind and its evidence: ``printer``, ``announces ipp``. Both are empty if no rule fits."""

    kind: str = ""
    evidence: str = ""
    medium: Medium = Medium.UNKNOWN
    medium_evidence: str = ""

    def __str__(self) -> str:
        return f"{self.kind}: {self.evidence}" if self.kind else ""


@dataclass(frozen=True, slots=True)
class KindRule:
    """One rule: if every key fits, this kind or medium is likely."""

    kind: str
    weight: int
    says: str  # {match} stands for what fitted
    medium: Medium
    wanted: Mapping[str, tuple[str, ...]]  # by key, beginnings of words or whole texts; one of them has to fit

    def evidence(self, said: Mapping[str, tuple[str, ...]]) -> str | None:
        """Return the rule's words if it fits what is known, by key; else None."""
        matches = []
        for key, wanted in self.wanted.items():
            match = self._match(key, wanted, said[key])
            if match is None:
                return None
            matches.append(match)
        return self.says.replace("{match}", matches[0])

    @staticmethod
    def _match(key: str, wanted: Sequence[str], texts: Sequence[str]) -> str | None:
        for text in texts:
            small = text.casefold()
            for each in wanted:
                if small == each if key in _WHOLE else _begins_a_word(small, each):
                    # The text that fitted; a service without its underscores.
                    whole = text if key in _SAID_IN_FULL else each
                    return whole.strip("_ ").removesuffix("._tcp").removesuffix("._udp").removesuffix(".local")
        return None


class Kinds:
    """The rules in the order of their weight."""

    def __init__(self, rules: Iterable[KindRule]) -> None:
        self.rules = sorted(rules, key=lambda rule: -rule.weight)
        self._patterns: dict[str, re.Pattern[str]] = {}  # by key, made when it is first needed
        self._may_fit = lru_cache(_GUESSES_KEPT)(self._looked_for)
        self._rules_for = lru_cache(_GUESSES_KEPT)(self._rules_of)
        self._macs = tuple(sorted({each for rule in self.rules for each in rule.wanted.get("mac", ())}))
        self._guesses: dict[Hashable, Guess] = {}

    def guess(self, mac: MacAddress | None = None, vendor: str = "", traits: Iterable[Trait] = ()) -> Guess:
        """Return the likeliest kind and medium of a device; ``vendor`` is empty if it is not known."""
        # No rule uses most of what a device says. Without that, many devices are equal, and are guessed once.
        said: dict[str, tuple[str, ...]] = {}
        if vendor and self._may_fit("vendor", vendor):
            said["vendor"] = (vendor,)
        if mac and (fitting := self._fitting_macs(mac)):
            said["mac"] = fitting
        for trait in traits:
            key = _KEY_OF.get(trait.kind)
            # A name belongs to one device: remembering the result would only take time.
            if key and (self._looked_for if key == "name" else self._may_fit)(key, trait.value):
                said[key] = (*said.get(key, ()), trait.value)
        alike = tuple(said.items())
        found = self._guesses.get(alike)
        if found is None:
            if len(self._guesses) >= _GUESSES_KEPT:
                self._guesses.clear()
            found = self._guesses[alike] = self._guessed(said)
        return found

    def _fitting_macs(self, mac: MacAddress) -> tuple[str, ...]:
        """Return the rules' beginnings that fit a MAC address: with the address itself, every
        private one would differ.
        """
        text = str(mac)
        sort = "virtual-router" if mac.is_virtual_router else "private" if mac.is_private else ""
        if not sort and not text.startswith(self._macs):
            return ()
        return tuple([each for each in self._macs if text.startswith(each) or f"{sort} {text}".startswith(each)])

    def _looked_for(self, key: str, text: str) -> bool:
        """Tell whether some rule may look for a text: one of the rules' words is in it, at the beginning of a word."""
        pattern = self._patterns.get(key)
        if pattern is None:
            words = sorted({word for rule in self.rules for word in rule.wanted.get(key, ())})
            begins = f"(?<![{_LETTERS}])(?:{'|'.join(map(re.escape, words))})" if words else "(?!)"
            pattern = self._patterns[key] = re.compile(begins)
        return pattern.search(text.casefold()) is not None

    def _rules_of(self, keys: frozenset[str]) -> list[KindRule]:
        """Return the rules that use only these keys."""
        return [rule for rule in self.rules if rule.wanted.keys() <= keys]

    def _guessed(self, said: Mapping[str, tuple[str, ...]]) -> Guess:
        kind = evidence = medium_evidence = ""
        medium = Medium.UNKNOWN
        for rule in self._rules_for(frozenset(said)):
            if (kind or not rule.kind) and (medium is not Medium.UNKNOWN or rule.medium is Medium.UNKNOWN):
                continue
            words = rule.evidence(said)
            if words is None:
                continue
            if rule.kind and not kind:
                kind, evidence = rule.kind, words
            if rule.medium is not Medium.UNKNOWN and medium is Medium.UNKNOWN:
                medium, medium_evidence = rule.medium, words
        return Guess(kind, evidence, medium, medium_evidence)


def load_kinds(folder: Path | None = None) -> Kinds:
    """Return the packaged rules, after a site's own if it has any. Raises InvalidSettings."""
    own = read_rules(folder / SITE_FILE) if folder is not None and (folder / SITE_FILE).exists() else ()
    return Kinds((*own, *_packaged()))


@cache
def _packaged() -> tuple[KindRule, ...]:
    return read_rules(DATA)


def read_rules(path: Path) -> tuple[KindRule, ...]:
    """Return the rules of a file. Raises InvalidSettings with the number of the rule that is wrong."""
    try:
        document = parse_toml(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise InvalidSettings(f"{path} cannot be read: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise InvalidSettings(f"{path} is not UTF-8 text at byte {error.start}") from None
    except ValueError as error:
        raise InvalidSettings(f"{path}: {error}") from None
    if not isinstance(document.get("rule", []), list) or document.keys() - {"rule"}:
        raise InvalidSettings(f"{path}: a file of rules has [[rule]] tables and nothing else")
    return tuple(_rule(path, number, table) for number, table in enumerate(document.get("rule", ()), 1))


def _rule(path: Path, number: int, table: dict[str, Any]) -> KindRule:
    where = f"{path}, rule {number}"
    unknown = table.keys() - _PATTERNS - {"kind", "weight", "says", "medium"}
    if unknown:
        raise InvalidSettings(
            f"{where}: there is no key {sorted(unknown)[0]!r}; keys are {', '.join(sorted(_PATTERNS))}"
        )
    weight, medium, says = table.get("weight", 50), table.get("medium", "unknown"), table.get("says", "")
    if not isinstance(weight, int) or weight not in _WEIGHTS:
        raise InvalidSettings(f"{where}: weight is a number from 1 to 100")
    if medium not in [str(each) for each in Medium]:
        raise InvalidSettings(f"{where}: medium is wireless or cable, not {medium!r}")
    wanted = {key: _checked(where, key, table[key]) for key in table if key in _PATTERNS}
    if not wanted or not says or not (table.get("kind") or medium != "unknown"):
        raise InvalidSettings(f"{where}: a rule needs a kind or a medium, words (says), and something to look for")
    return KindRule(str(table.get("kind", "")), weight, str(says), Medium(medium), wanted)


def _checked(where: str, key: str, texts: object) -> tuple[str, ...]:
    """Return plain texts: a file may not bring its own expressions, which could run for ever."""
    if not isinstance(texts, list) or not all(isinstance(text, str) and text for text in texts):
        raise InvalidSettings(f"{where}: {key} is a list of texts")
    return tuple(text.casefold() for text in texts)


def _begins_a_word(text: str, beginning: str) -> bool:
    """Tell whether a word of ``text`` begins so. A short beginning fits too many: it has to be a
    word, as in ap-2, tv7.
    """
    at = text.find(beginning)
    while at >= 0:
        end = at + len(beginning)
        inside = at > 0 and text[at - 1] in _WORD
        goes_on = len(beginning) <= _SHORT and text[end : end + 1].isalpha()
        if not inside and not goes_on:
            return True
        at = text.find(beginning, at + 1)
    return False
