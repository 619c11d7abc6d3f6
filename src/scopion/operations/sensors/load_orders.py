"""Reads ``orders.toml``: the enforcers on which a sensor carries out orders. Without that file it carries out none."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

from annotated_types import MaxLen, MinLen

from scopion.model.errors import InvalidSettings
from scopion.model.settings_table import settings_table
from scopion.operations.folder.read_secret import read_secret
from scopion.operations.sensors.sensor_site import ORDERS_FILE
from scopion.operations.site.load_settings import checked, document_of, text_of
from scopion.operations.site.site_settings import ByType
from scopion.wireless.enforcer_settings import EnforcerSettings, enforcer_problem
from scopion.wireless.enforcers.registry import enforcer_types

if TYPE_CHECKING:
    from pydantic import TypeAdapter

KEY_FILE = "orders-key"


@settings_table
class OrdersFile:
    """The whole of ``orders.toml``."""

    enforcer: Annotated[tuple[Annotated[EnforcerSettings, ByType(enforcer_types)], ...], MinLen(1), MaxLen(64)]


@dataclass(frozen=True, slots=True)
class Permitted:
    """On what a sensor carries out orders, and the key by which these are sealed."""

    enforcers: tuple[EnforcerSettings, ...]
    key: str = field(repr=False)


@cache
def _adapter() -> TypeAdapter[OrdersFile]:
    from pydantic import TypeAdapter

    return TypeAdapter(OrdersFile)


def load_orders(folder: Path) -> Permitted | None:
    """Return what the sensor in a folder may be ordered; None if nothing. Raises InvalidSettings."""
    path = folder / ORDERS_FILE
    text = text_of(path)
    if text is None:
        return None
    read = checked(_adapter(), path, text, document_of(path, text))
    if problem := enforcer_problem(read.enforcer):
        raise InvalidSettings(f"{path}: {problem}")
    for each in read.enforcer:
        if each.via:
            raise InvalidSettings(f"{path}: {each.name!r} has a via: that belongs into site.toml, where the roster is")
        if each.type in {entry.name for entry in enforcer_types() if not entry.by_order}:
            raise InvalidSettings(f"{path}: {each.name!r} is of the type {each.type}, which no sensor can carry out")
    return Permitted(read.enforcer, read_secret(f"file:{KEY_FILE}", folder, "the key for orders"))
