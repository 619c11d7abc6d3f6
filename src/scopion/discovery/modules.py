"""Makers of radio modules: what their parts are usually built into, because the maker alone tells little. Pure.

The makers are data (``data/modules.toml``), in the words of the registry of assigned prefixes.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path

from scopion.model.toml_text import parse_toml

DATA = Path(__file__).parent / "data" / "modules.toml"


def built_into(vendor: str) -> str:
    """Return what the parts of a maker are usually built into; empty for one that makes whole devices."""
    name = vendor.casefold()
    return next((things for part, things in _makers() if part in name), "")


@cache
def _makers() -> tuple[tuple[str, str], ...]:
    """Return the parts of makers' names, and into what their modules are built."""
    return tuple((each["vendor"], each["built_into"]) for each in parse_toml(DATA.read_text(encoding="utf-8"))["maker"])
