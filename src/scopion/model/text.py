"""The one function that cleans text from the network, from files and from people, and small helpers for sentences.

Text is cleaned where it enters. Each output also escapes for itself.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from typing import Any

from scopion.model.errors import UsageError

# Longer than any label, host name (255, RFC 1035) or SSID (32 octets), and short enough for one table row.
MAX_TEXT = 255
# Control, format (direction overrides among them), surrogate, private use and unassigned characters, line and paragraph
# separators.
_UNWANTED = frozenset({"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"})


# Characters that no terminal, log, table or header may get. Line ends are made by the output itself. The expression is
# compiled when it is first needed: that takes some milliseconds, and most texts are printable.
UNSHOWN = (
    "[\x00-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb\U000e0000-\U000e007f]"
)
_IN_JSON = rf"(?!\n){UNSHOWN}"
# A spreadsheet reads a cell that begins with one of these as a formula; some also read the wide East Asian signs.
FORMULA_SIGNS = ("=", "+", "-", "@", "\t", "\r", "\uff1d", "\uff0b", "\uff0d", "\uff20")
_JOINERS = "\u200c\u200d"  # joiners that some scripts and emoji need


def clean(text: str, limit: int = MAX_TEXT) -> str:
    """Return ``text`` in one line: no control characters, no terminal escapes, single blanks, limited length."""
    if text.isascii() and text.isprintable():  # most texts are: a tenth of the time
        return " ".join(text.split())[:limit]
    kept = "".join(" " if character.isspace() else character for character in text)
    kept = "".join(character for character in kept if unicodedata.category(character) not in _UNWANTED)
    return " ".join(kept.split())[:limit]


def plain(text: str) -> str:
    """Return a text for one line of output: characters that could control it or turn its direction are shown as �."""
    return text if text.isprintable() else re.sub(UNSHOWN, "�", text)


def escaped_json(document: str) -> str:
    """Return JSON in which such characters are escaped (RFC 8259, 7): its values stay the same."""
    import json  # few texts are in a document, and this file is loaded at every start

    # Line ends belong to the document; DEL is ASCII, so that no encoder escapes it.
    return re.sub(_IN_JSON, lambda match: json.dumps(match[0])[1:-1] if match[0] != "\x7f" else "\\u007f", document)


def plain_value(value: Any) -> Any:
    """Return a template's value with its texts made plain; marked-up text stays as it is."""
    if type(value) is str:
        return plain(value)
    if isinstance(value, Mapping):
        return {plain_value(key): plain_value(each) for key, each in value.items()}
    return tuple(map(plain_value, value)) if isinstance(value, list | tuple) else value


def controls(text: str) -> bool:
    """Tell whether a text has control characters, line ends, or characters that turn the direction of text."""
    return any(
        unicodedata.category(each) in _UNWANTED - {"Cn"} and each not in _JOINERS for each in text if not each.isalnum()
    )


def entered(text: str, what: str, limit: int = MAX_TEXT) -> str:
    """Return a text that a person typed, cleaned. Raises UsageError if it is too long: it is never cut."""
    whole = clean(text, len(text))
    if len(whole) > limit:
        raise UsageError(f"{what} has at most {limit} characters, this one has {len(whole)}: {whole[:20]!r}...")
    return whole


def lines_of(text: str) -> list[str]:
    """Return the lines of a file with their ends, as daemons read them: only a line feed ends a line."""
    return re.findall(r"[^\n]*\n|[^\n]+", text)


def whole_number(text: str | None, most: int) -> int | None:
    """Read a number that another program wrote, in plain digits and at most ``most``; None for anything else."""
    plain = (text or "").strip()
    sign = -1 if plain.startswith("-") else 1
    digits = plain.removeprefix("-")
    if not digits.isascii() or not digits.isdecimal() or len(digits) > len(str(most)):
        return None
    return sign * int(digits) if int(digits) <= most else None


def closed(text: str) -> str:
    """Return a sentence with its full stop, unless it ends with a question mark or the like."""
    return text if text.endswith((".", "?", "!")) else f"{text}."


def capitalised(text: str) -> str:
    """Return the text with a capital at its beginning; names within it stay as they are."""
    return text[:1].upper() + text[1:]


def uncapitalised(text: str) -> str:
    """Return the text with a small letter at its beginning, to go on after a colon."""
    return text[:1].lower() + text[1:]


def counted(count: int, noun: str, plural: str | None = None) -> str:
    """Return a count in words: ``1 device``, ``2 devices``, ``no devices``."""
    word = noun if count == 1 else plural or noun + "s"
    return f"{count if count else 'no'} {word}"


def spoken_size(octets: int) -> str:
    """Return a number of octets for people: ``2.4 MB``."""
    if octets < 100_000:
        return f"{octets / 1e3:.0f} kB"
    return f"{octets / 1e6:.1f} MB" if octets < 1_000_000_000 else f"{octets / 1e9:.1f} GB"


def joined(parts: list[str], last: str = "and") -> str:
    """Return a list in words: ``a, b and c``."""
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} {last} {parts[-1]}" if parts else ""
