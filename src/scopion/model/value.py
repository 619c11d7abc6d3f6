"""Frozen values of which there are tens of thousands: frozen for the type checker, fast for the interpreter.

``dataclass(frozen=True)`` guards each field while an object is made, which takes four times as long as making it, and a
list of all devices makes sixty thousand. Every line of the project is type-checked, so the checker guards them.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeVar, dataclass_transform

_Class = TypeVar("_Class")


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def value(made: type[_Class]) -> type[_Class]:
    """Return a dataclass with slots that compares and hashes by its fields; assigning to a field is a type error."""
    return dataclass(slots=True, unsafe_hash=True)(made)


@dataclass_transform(frozen_default=True, order_default=True, field_specifiers=(field,))
def ordered_value(made: type[_Class]) -> type[_Class]:
    """Return the same, which also sorts by its fields."""
    return dataclass(slots=True, unsafe_hash=True, order=True)(made)
