"""The one cleaning function for text that comes from the network, from files, and from people.

It is applied at the edge where a text enters; each output still escapes for itself.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from typing import Any

from scopion.model.errors import UsageError

# Longer than any label, host name (255, RFC 1035) or SSID (32 octets); short enough for one table row.
MAX_TEXT = 255
# Control, format (direction overrides among them), surrogate, private use, unassigned, line and paragraph ends.
_UNWANTED = frozenset({"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"})


# What no terminal, log, table or header may be given, though a text has it: line ends are for the output to make.
# An expression, made when it is first needed: that takes some milliseconds, and most texts are printable.
UNSHOWN = (
    "[\x00-\x1f\x7f-\x9f\u061c\u200b\u200e\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb\U000e0000-\U000e007f]"
)
_IN_JSON = rf"(?!\n){UNSHOWN}"
# A spreadsheet takes a cell that begins so for a formula; some read the wide signs of East Asian writing as well.
FORMULA_SIGNS = ("=", "+", "-", "@", "\t", "\r", "\uff1d", "\uff0b", "\uff0d", "\uff20")
_JOINERS = "\u200c\u200d"  # part of how some scripts, and some signs, are written


def clean(text: str, limit: int = MAX_TEXT) -> str:
    """Return ``text`` in one line: no control characters, no terminal escapes, single blanks, bounded length."""
    kept = "".join(" " if character.isspace() else character for character in text)
    kept = "".join(character for character in kept if unicodedata.category(character) not in _UNWANTED)
    return " ".join(kept.split())[:limit]


def plain(text: str) -> str:
    """A text for one line of any output: what would control something in it, or turn its direction, shows as �."""
    return text if text.isprintable() else re.sub(UNSHOWN, "�", text)


def escaped_json(document: str) -> str:
    """JSON in which what would control something stands as an escape (RFC 8259, 7): its values are the same."""
    import json  # most texts are in no document, and this file at every start

    # Line ends are the document's own; DEL is ASCII and escaped by nobody.
    return re.sub(_IN_JSON, lambda match: json.dumps(match[0])[1:-1] if match[0] != "\x7f" else "\\u007f", document)


def plain_value(value: Any) -> Any:
    """A value of a template or a document with its texts as ``plain`` makes them; marked-up text is left alone."""
    if type(value) is str:
        return plain(value)
    if isinstance(value, Mapping):
        return {plain_value(key): plain_value(each) for key, each in value.items()}
    return tuple(map(plain_value, value)) if isinstance(value, list | tuple) else value


def controls(text: str) -> bool:
    """Whether a text has control characters, line ends among them, or such as turn the direction of what follows."""
    return any(
        unicodedata.category(each) in _UNWANTED - {"Cn"} and each not in _JOINERS for each in text if not each.isalnum()
    )


def entered(text: str, what: str, limit: int = MAX_TEXT) -> str:
    """A text that a person has typed, cleaned; one that is too long is refused, not cut. Raises UsageError."""
    whole = clean(text, len(text))
    if len(whole) > limit:
        raise UsageError(f"{what} has at most {limit} characters, this one has {len(whole)}: {whole[:20]!r}...")
    return whole


def lines_of(text: str) -> list[str]:
    """The lines of a file with their ends, as daemons read them: nothing but a line feed ends one."""
    return re.findall(r"[^\n]*\n|[^\n]+", text)


def whole_number(text: str | None, most: int) -> int | None:
    """A number that somebody else has written, in plain digits and no larger than it can be; None for all else."""
    plain = (text or "").strip()
    sign = -1 if plain.startswith("-") else 1
    digits = plain.removeprefix("-")
    if not digits.isascii() or not digits.isdecimal() or len(digits) > len(str(most)):
        return None
    return sign * int(digits) if int(digits) <= most else None


def closed(text: str) -> str:
    """A sentence with its full stop, unless it ends already, as a question does."""
    return text if text.endswith((".", "?", "!")) else f"{text}."


def capitalised(text: str) -> str:
    """The text as a sentence begins; names within stay as they are."""
    return text[:1].upper() + text[1:]


def counted(count: int, noun: str, plural: str | None = None) -> str:
    """``1 device``, ``2 devices``, ``no devices``: a count in a sentence."""
    word = noun if count == 1 else plural or noun + "s"
    return f"{count if count else 'no'} {word}"


def joined(parts: list[str], last: str = "and") -> str:
    """``a, b and c``."""
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} {last} {parts[-1]}" if parts else ""
