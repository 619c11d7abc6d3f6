"""The one cleaning function for text that comes from the network, from files, and from people.

It is applied at the edge where a text enters; each output still escapes for itself.
"""

from __future__ import annotations

import unicodedata

from scopion.model.errors import UsageError

# Longer than any label, host name (255, RFC 1035) or SSID (32 octets); short enough for one table row.
MAX_TEXT = 255
# Control, format (direction overrides among them), surrogate, private use, unassigned, line and paragraph ends.
_UNWANTED = frozenset({"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"})


def clean(text: str, limit: int = MAX_TEXT) -> str:
    """Return ``text`` in one line: no control characters, no terminal escapes, single blanks, bounded length."""
    kept = "".join(" " if character.isspace() else character for character in text)
    kept = "".join(character for character in kept if unicodedata.category(character) not in _UNWANTED)
    return " ".join(kept.split())[:limit]


def entered(text: str, what: str, limit: int = MAX_TEXT) -> str:
    """A text that a person has typed, cleaned; one that is too long is refused, not cut. Raises UsageError."""
    whole = clean(text, len(text))
    if len(whole) > limit:
        raise UsageError(f"{what} has at most {limit} characters, this one has {len(whole)}: {whole[:20]!r}...")
    return whole


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
