"""The countries that the registry names: ``data/countries.txt`` has a line for each, as ``AD Andorra``."""

from __future__ import annotations

from functools import cache
from pathlib import Path

_FILE = Path(__file__).parent / "data" / "countries.txt"


@cache
def countries() -> dict[str, str]:
    """Return the short English names by their ISO 3166-1 code."""
    lines = _FILE.read_text(encoding="utf-8").splitlines()
    return {code: name for code, _, name in (line.partition(" ") for line in lines)}
