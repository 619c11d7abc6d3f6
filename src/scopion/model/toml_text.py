"""Reads TOML from any origin: every defect is a ValueError, and the depth of nesting is limited."""

from __future__ import annotations

import tomllib
from typing import Any

_MOST_CHARACTERS = 4 * 1024**2  # site.toml with a thousand subnets has 100 KB
_DEEPEST = 32  # the settings have four levels


def parse_toml(text: str) -> dict[str, Any]:
    """Return the document. Raises ValueError with what is wrong and where."""
    if len(text) > _MOST_CHARACTERS:
        raise ValueError(f"too large for a TOML file of Scopion: more than {_MOST_CHARACTERS // 1024**2} MB")
    try:
        document = tomllib.loads(text)
        deep = _is_deep(document, _DEEPEST)
    except RecursionError:
        deep = True
    except tomllib.TOMLDecodeError as error:
        raise ValueError(f"not TOML: {error}") from None
    except ValueError:  # a number with thousands of digits
        raise ValueError("not TOML: a number in it is too long") from None
    if deep:
        raise ValueError(f"nested too deeply for a TOML file of Scopion: more than {_DEEPEST} deep")
    return document


def _is_deep(value: Any, left: int) -> bool:
    if not isinstance(value, dict | list):
        return False
    return left == 0 or any(_is_deep(each, left - 1) for each in (value.values() if isinstance(value, dict) else value))
