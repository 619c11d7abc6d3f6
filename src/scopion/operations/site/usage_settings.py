"""What ``site.toml`` says of who uses the line: routers that count, and what is too much. Validated elsewhere."""

from __future__ import annotations

from typing import Annotated

from annotated_types import Ge, Le, MaxLen

from scopion.model.settings_table import settings_table
from scopion.wireless.enforcer_settings import Interface, Name, SshSettings


@settings_table
class MeterSettings:
    """A Linux router, or this machine where it forwards, whose firewall counts octets by MAC address.

    It counts once ``scopion usage --set-up NAME`` has asked it to.
    """

    name: Name
    interface: Interface  # the one on which the devices are
    ssh: SshSettings | None = None  # how to reach the router; None: it is this machine


@settings_table
class MuchSettings:
    """When a device uses too much: that is told once. The first entry that fits a device counts."""

    devices: Annotated[tuple[str, ...], MaxLen(64)] = ()  # labels or MACs; empty: all
    mb: Annotated[float, Ge(1), Le(100_000_000)] | None = None  # both ways together, in millions of octets...
    # ...or so many times the most that it used in such a time in the last four weeks
    times: Annotated[float, Ge(1.5), Le(1000)] | None = None
    within_h: Annotated[float, Ge(1), Le(31 * 24)] = 24
