"""Makes the registry's text readable: blanks, capitals, and the town within an address.

It is used when a listing is read, never when a vendor is looked up. A name keeps all of its letters: only case and
blanks change.
"""

from __future__ import annotations

import re

from scopion.model.text import clean
from scopion.vendors.countries import countries

MAX_NAME = 200
_WORD = re.compile(r"[^\W\d_]+(?:['’][^\W\d_]+)*")
_KEPT_SMALL = frozenset("and of the de du des et for".split())
# Names of up to three letters are usually initials (IBM, LG), except these.
_SHORT_WORDS = frozenset(
    "co ltd inc the and of de du des et for new old air van von les las los san son one two sun sky sea".split()
)
_INITIALS = frozenset("gmbh iiyama".split())
# Words that end the street, in the languages that fill most of the registry.
_STREET = re.compile(
    r"""(?:road|rd|street|st|str|avenue|ave|av|drive|dr|lane|ln|boulevard|blvd|way|court|ct|park|parkway|pkwy|
    highway|hwy|plaza|place|pl|circle|suite|ste|floor|fl|building|bldg|district|dist|center|centre|zone|tower|
    square|estate|strasse|straße|weg|rue|via|box|unit|room|trail|terrace|close|loop|broadway|drove)""",
    re.VERBOSE,
)


def tidy_name(name: str) -> str:
    """Return an organisation's name with single blanks and, if it is all capitals, in ordinary case."""
    text = clean(name, MAX_NAME)
    if text != text.upper() or len(re.findall(r"[^\W\d_]", text)) <= 4:
        return text
    first = True

    def lowered(match: re.Match[str]) -> str:
        nonlocal first
        opening, first = first, False
        return _ordinary(match.group(), opening)

    return _WORD.sub(lowered, text)


def _ordinary(word: str, opening: bool) -> str:
    small = word.lower()
    if small.upper() != word:  # a letter that does not survive the change of case, as some alphabets have: leave it
        return word
    if small in _INITIALS:
        return "GmbH" if small == "gmbh" else word
    unspeakable = len(word) <= 5 and not re.search(r"[aeiouyäöüáéíóúàèâêåæø]", small)
    if small not in _SHORT_WORDS and (len(word) <= 3 or unspeakable):
        return word
    return small if small in _KEPT_SMALL and not opening else small[0].upper() + small[1:]


def place_of(address: str) -> tuple[str, str]:
    """Return the town (with its state, if it can be found) and the country code of a registered address.

    The registry writes street, town, state, country and postcode with only blanks between: the town is taken to be what
    stands between the last word of a street and the country, which is right for most. Texts that cannot be found are
    empty.
    """
    words = clean(address, 400).split()
    at = _country_at(words)
    if at is None:
        return "", ""
    town = _after_street(words[:at])
    return tidy_name(" ".join(_once(town))), words[at]


def _country_at(words: list[str]) -> int | None:
    found = [at for at in range(max(0, len(words) - 3), len(words)) if words[at] in countries()]
    if not found:
        return None
    # Dutch postcodes end in two letters, which may be another country's code.
    return next((at for at in found if words[at] == "NL"), found[-1])


def _after_street(words: list[str]) -> list[str]:
    start = 0
    for at, word in enumerate(words[:-1]):
        bare = word.strip(".,;()").lower()
        comma = word.endswith((",", ";"))
        if comma or re.search(r"\d|#|:", word) or _STREET.fullmatch(bare) or bare.endswith(("strasse", "straße")):
            start = at + 1
    town = re.split(r"[,;]", " ".join(words[start:]))[-1].split()
    return [word for word in town if not re.search(r"\d", word)][-4:]


def _once(words: list[str]) -> list[str]:
    """Drop the repetition in towns that have the name of their province (``Shanghai Shanghai``)."""
    kept: list[str] = []
    for word in words:
        if word.strip(".,-") and word.lower().strip(".,") not in {known.lower().strip(".,") for known in kept}:
            kept.append(word.strip(","))
    return kept
