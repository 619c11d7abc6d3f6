"""Tables of ``site.toml`` as frozen dataclasses: made by keyword, and checked where the file is read."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, TypeVar, dataclass_transform

_Class = TypeVar("_Class")


@dataclass_transform(frozen_default=True, kw_only_default=True, field_specifiers=(field,))
def settings_table(made: type[_Class]) -> type[_Class]:
    """Return a frozen dataclass for a table; a key in the file that it does not have is a mistake."""
    checks: Any = made
    checks.__pydantic_config__ = {"extra": "forbid"}
    return dataclass(frozen=True, kw_only=True)(made)
