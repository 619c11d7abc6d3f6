"""How much a client has sent and got, as some pages show it: ``1.2 GB`` below ``Download``, ``7340`` below ``Tx``.

Download is what goes to the client, and so is what the router transmits (Tx). A page that only says received and sent
does not say which end has counted: that is left out.
"""

from __future__ import annotations

import re

_WORD = r"(?<![^\W\d_])(?:{})(?![^\W\d_])"
_DOWN = re.compile(_WORD.format("down(?:load(?:ed)?)?|tx|descarga(?:do)?|téléchargé|heruntergeladen|下载|下り"), re.I)
_UP = re.compile(_WORD.format("up(?:load(?:ed)?)?|rx|subida|envoyé|hochgeladen|上传|上り"), re.I)
_CAMEL = re.compile(r"(?<=[a-z])(?=[A-Z])|_")
_UNIT = r"(?:bytes?|octets?|[kmgt]i?b|b|[kmgt]i?o)"
_AMOUNT = re.compile(rf"(\d{{1,3}}(?:,\d{{3}})+|\d{{1,18}}(?:[.,]\d{{1,3}})?)\s*({_UNIT})?", re.I)
_UNIT_IN_LABEL = re.compile(rf"(?<![^\W\d_])({_UNIT})(?![^\W\d_/])", re.I)
_SIZES = {"k": 1_000, "m": 1_000_000, "g": 10**9, "t": 10**12}
_BINARY = {"k": 1 << 10, "m": 1 << 20, "g": 1 << 30, "t": 1 << 40}


def amount_of(label: str, text: str) -> tuple[bool, int] | None:
    """Return whether it went to the client, and how many octets; None if a cell says no amount, or a rate."""
    label = _CAMEL.sub(" ", label)
    down, up = bool(_DOWN.search(label)), bool(_UP.search(label))
    match = _AMOUNT.fullmatch(text.strip())
    if down == up or match is None or "/" in label or "bps" in label.casefold():
        return None
    named = match[2] or next((found[1] for found in [_UNIT_IN_LABEL.search(label)] if found), None)
    if named is None:
        return None
    digits = match[1].replace(",", "") if re.fullmatch(r"\d{1,3}(,\d{3})+", match[1]) else match[1].replace(",", ".")
    return down, round(float(digits) * _size(named.casefold()))


def _size(unit: str) -> int:
    if unit in ("b", "byte", "bytes", "octet", "octets"):
        return 1
    return (_BINARY if "i" in unit else _SIZES)[unit[0]]
