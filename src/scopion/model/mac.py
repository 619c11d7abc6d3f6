"""MAC addresses in any notation that people meet, and the meaning of their bits.

Parsing is total: it returns a valid address or raises ``InvalidMacAddress``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from enum import StrEnum

from scopion.model.errors import InvalidMacAddress
from scopion.model.value import ordered_value

OCTETS = 6
_USUAL_LENGTH, _USUAL_COLONS = 17, ":::::"
_HEX = re.compile(r"[0-9A-Fa-f]+")
# Blanks, and the typographic hyphens that word processors and web pages put in place of "-".
_HYPHENS = str.maketrans({"‐": "-", "‑": "-", "–": "-", "−": "-", "\u00a0": " "})


class Notation(StrEnum):
    """How a MAC address is written. A router's web page usually accepts only one notation."""

    COLON = "colon"  # 0c:4e:a0:12:34:56
    HYPHEN = "hyphen"  # 0C-4E-A0-12-34-56
    DOT = "dot"  # 0c4e.a012.3456
    BARE = "bare"  # 0c4ea0123456
    COLON_UPPER = "colon-upper"
    HYPHEN_LOWER = "hyphen-lower"
    BARE_UPPER = "bare-upper"
    HYPHEN_FOUR = "hyphen-four"  # 0C4E-A012-3456
    DOT_UPPER = "dot-upper"


_VIRTUAL_ROUTERS = tuple(map(bytes.fromhex, ("00005e0001", "00005e0002", "00000c07ac", "00000c9f")))
_LAYOUT: dict[Notation, tuple[int, str, bool]] = {  # digits in a group, separator, capitals
    Notation.COLON: (2, ":", False),
    Notation.HYPHEN: (2, "-", True),
    Notation.DOT: (4, ".", False),
    Notation.BARE: (12, "", False),
    Notation.COLON_UPPER: (2, ":", True),
    Notation.HYPHEN_LOWER: (2, "-", False),
    Notation.BARE_UPPER: (12, "", True),
    Notation.HYPHEN_FOUR: (4, "-", True),
    Notation.DOT_UPPER: (4, ".", True),
}
# A MAC address in a text: six groups of one or two digits (some systems leave leading zeros out), or three of four. A
# longer row of groups (EUI-64, IPv6) is none; a label may stand before it without a blank (MAC:0c:4e:...).
_SIGNS = ":.\\-\u2010\u2011\u2013\u2212"
_IN_TEXT = re.compile(
    rf"(?<![0-9A-Fa-f])(?<!::)(?<![^0-9A-Za-z][0-9A-Fa-f][{_SIGNS}])(?<![^0-9A-Za-z][0-9A-Fa-f]{{2}}[{_SIGNS}])"
    rf"(?<![0-9A-Fa-f]{{4}}[{_SIGNS}])"
    r"(?:[0-9A-Fa-f]{1,2}([:\-\u2010\u2011\u2013\u2212])(?:[0-9A-Fa-f]{1,2}\1){4}[0-9A-Fa-f]{1,2}"
    r"|[0-9A-Fa-f]{4}([:.\-\u2010\u2011\u2013\u2212])[0-9A-Fa-f]{4}\2[0-9A-Fa-f]{4})"
    rf"(?![0-9A-Za-z])(?![{_SIGNS}][0-9A-Fa-f]{{1,4}}(?![0-9A-Za-z]))"
)
# Notations that may as well be a serial number or a row of numbers.
_PERHAPS = re.compile(
    r"(?<![0-9A-Za-z:.\-_])(?:[0-9A-Fa-f]{12}|[0-9A-Fa-f]{6}[\-:][0-9A-Fa-f]{6}|(?:[0-9A-Fa-f]{2}\x20){5}[0-9A-Fa-f]{2})"
    r"(?![0-9A-Za-z:.\-_])"
)


@ordered_value
class MacAddress:
    """A 48-bit MAC address (IEEE Std 802-2014, 8.2). ``str()`` gives lower case with colons."""

    octets: bytes

    def __post_init__(self) -> None:
        if len(self.octets) != OCTETS:
            raise InvalidMacAddress(f"a MAC address has {OCTETS} octets, not {len(self.octets)}")

    @classmethod
    def parse(cls, text: str) -> MacAddress:
        """Read a MAC address in any notation: ``0c:4e:a0:1:2:3``, ``0C-4E-...``, ``0c4e.a001.0203``, or bare digits.

        Raises InvalidMacAddress with the text and the reason.
        """
        if len(text) == _USUAL_LENGTH and text[2::3] == _USUAL_COLONS:  # the form that we write: ten times faster
            try:
                return cls(bytes.fromhex(text.replace(":", "")))
            except ValueError:
                return cls._spelled_out(text)  # it raises the error that says what is wrong
        return cls._spelled_out(text)

    @classmethod
    def _spelled_out(cls, text: str) -> MacAddress:
        digits = hex_digits(text)
        if len(digits) != 2 * OCTETS:
            raise InvalidMacAddress(
                f"{_quoted(text)} is not a MAC address: it has {len(digits)} hexadecimal digits, 12 are needed"
            )
        return cls(bytes.fromhex(digits))

    def __str__(self) -> str:
        return self.octets.hex(":")

    def written(self, notation: Notation) -> str:
        """Return the address in a notation."""
        size, separator, capitals = _LAYOUT[notation]
        digits = self.octets.hex()
        text = separator.join(digits[at : at + size] for at in range(0, len(digits), size))
        return text.upper() if capitals else text

    @property
    def number(self) -> int:
        """Return the address as a 48-bit number, for prefix look-ups."""
        return int.from_bytes(self.octets)

    @property
    def is_broadcast(self) -> bool:
        """Tell whether it is the broadcast address (all ones)."""
        return self.octets == b"\xff" * OCTETS

    @property
    def is_virtual_router(self) -> bool:
        """Tell whether several routers share it: VRRP (RFC 9568, 7.3) or HSRP (RFC 2281, 5.3; version 2)."""
        return self.octets.startswith(_VIRTUAL_ROUTERS)

    @property
    def is_multicast(self) -> bool:
        """Tell whether it is a group address (lowest bit of the first octet): no single adapter has one."""
        return bool(self.octets[0] & 0x01)

    @property
    def is_private(self) -> bool:
        """Tell whether it is locally administered (second-lowest bit of the first octet): it has no vendor."""
        return self.octets[0] & 0x03 == 0x02


def mac_spans(text: str, *, perhaps: bool = False) -> Iterator[tuple[int, int, MacAddress]]:
    """Yield where MAC addresses stand in a text - begin, end - and which; linear in its length.

    ``perhaps``: in notations, too, that may mean another thing: 12 digits without separators, or with blanks.
    """
    for match in (_PERHAPS if perhaps else _IN_TEXT).finditer(text):
        try:
            yield match.start(), match.end(), MacAddress.parse(match[0])
        except InvalidMacAddress:
            continue


def without_macs(text: str, spans: Sequence[tuple[int, int, MacAddress]], instead: str = " ") -> str:
    """Return a text with another one in place of the MAC addresses that ``mac_spans`` found in it."""
    kept, at = [], 0
    for begin, end, _ in spans:
        kept += [text[at:begin], instead]
        at = end
    return "".join([*kept, text[at:]])


def hex_digits(text: str) -> str:
    """Return the lower-case hexadecimal digits of a MAC address or its beginning, in any notation.

    Single-digit octets (``0:c:29:...``) are filled up. Raises InvalidMacAddress for anything else.
    """
    plain = text.translate(_HYPHENS).strip().strip("\"'").strip()
    words = plain.split()
    parted = plain if len(words) < 2 else re.sub(r" ?([:\-.]) ?", r"\1", " ".join(words))
    groups = re.split(r"[:\-. ]", parted)
    wrong = next((group for group in groups if not _HEX.fullmatch(group)), None)
    if wrong is not None:
        detail = f"{_quoted(wrong)} is not hexadecimal" if wrong else "a group of digits is missing"
        raise InvalidMacAddress(f"{_quoted(text)} is not a MAC address: {detail}")
    if len(set(re.findall(r"[:\-.]", plain))) > 1:
        raise InvalidMacAddress(f"{_quoted(text)} is not a MAC address: it mixes separators")
    if "." in plain and len(groups) == 4 and all(group.isdecimal() for group in groups):
        raise InvalidMacAddress(f"{_quoted(text)} is not a MAC address: it reads as an IPv4 address")
    if len(groups) == 1:
        return groups[0].lower()
    size = _group_size(plain, groups, text)
    filled = [group.rjust(size, "0") for group in groups[:-1]]
    # The last group of a whole address is filled up like the others; the last group of a beginning is not.
    whole = len(groups) * size == 2 * OCTETS
    return "".join([*filled, groups[-1].rjust(size, "0") if whole else groups[-1]]).lower()


def _group_size(plain: str, groups: list[str], text: str) -> int:
    size = next(
        (size for size in (2, 4, 6) if all(len(group) <= size for group in groups)),
        None,
    )
    if "." in plain and size == 2 and len(groups) <= 3:
        size = 4  # dots separate groups of four, unless there are too many groups
    if size is None or len(groups) * size > 2 * OCTETS:
        raise InvalidMacAddress(f"{_quoted(text)} is not a MAC address: its groups of digits do not fit")
    if size > 2 and any(len(group) != size for group in groups[:-1]):
        raise InvalidMacAddress(f"{_quoted(text)} is not a MAC address: its groups differ in length")
    return size


def _quoted(text: str) -> str:
    """Return the text as a message may repeat it: cut, with control characters made visible."""
    return repr(text if len(text) <= 40 else text[:37] + "...")
