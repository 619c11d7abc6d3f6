"""Rows for machines: what an object has under documented keys, as JSON and tables hold it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import date, datetime
from typing import Any

# Octets are for the writer to refuse: only a damaged roster has them where a text should be.
_AS_IT_IS = (type(None), bool, int, float, bytes)


def row_of(source: object, keys: Sequence[str], moment: Callable[[datetime], Any], /, **others: Any) -> dict[str, Any]:
    """Return a row with these keys, in their order: ``others``, and else the object's attributes of the same name.

    ``moment`` writes moments. Empty texts become None, and what JSON does not know becomes text.
    """
    return {key: _held(others[key] if key in others else getattr(source, key), moment) for key in keys}


def _held(value: Any, moment: Callable[[datetime], Any]) -> Any:
    if isinstance(value, str):
        return str(value) or None
    if isinstance(value, _AS_IT_IS):
        return value
    if isinstance(value, datetime):
        return moment(value)
    if isinstance(value, Mapping):
        return dict(value)
    if isinstance(value, list | tuple):
        return [_held(each, moment) for each in value]
    return value.isoformat() if isinstance(value, date) else str(value) or None
