"""Values of which there are ten thousands: frozen for the type checker, quick to make for the interpreter.

``dataclass(frozen=True)`` guards each field while an object is made, which takes four times as long as making it; a
list of all devices makes sixty thousand. Every line of the project is type-checked, so the checker is the guard here.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeVar, dataclass_transform

_Class = TypeVar("_Class")


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def value(made: type[_Class]) -> type[_Class]:
    """A dataclass with slots that compares and hashes by its fields; assigning to one is an error of types."""
    return dataclass(slots=True, unsafe_hash=True)(made)


@dataclass_transform(frozen_default=True, order_default=True, field_specifiers=(field,))
def ordered_value(made: type[_Class]) -> type[_Class]:
    """The same, and it sorts by its fields."""
    return dataclass(slots=True, unsafe_hash=True, order=True)(made)
