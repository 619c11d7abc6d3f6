"""Scopion for scripts: a site, what can be done with it, and the values that it returns.

The names of this module stay as they are; the rooms below it may change. Everything that can go wrong is a
``ScopionError``, whose text says what is wrong, where, and what to do. docs/api.md has examples.

- ``site``: the site and its methods.
- ``values``: what the methods return and take.
- ``convert``: makes these values of the core's.
"""

from scopion.api.site import Site, open_site
from scopion.api.values import (
    Check,
    Device,
    Entry,
    Event,
    Host,
    Import,
    Listed,
    Push,
    Report,
    Scan,
    Sighting,
    SubnetUse,
    Vendor,
    Verification,
)
from scopion.model.device import EventKind, Standing
from scopion.model.errors import (
    AmbiguousDevice,
    Divided,
    EnforcerUnreachable,
    NotFound,
    NotPermitted,
    Refused,
    ScopionError,
    StorageFailed,
    UsageError,
)
from scopion.model.mac import MacAddress, Notation
from scopion.roster.wifi.lists import ListMode

__all__ = [
    "AmbiguousDevice", "Check", "Device", "Divided", "EnforcerUnreachable", "Entry", "Event", "EventKind", "Host",
    "Import", "ListMode", "Listed", "MacAddress", "NotFound", "NotPermitted", "Notation", "Push", "Refused",
    "Report", "Scan", "ScopionError", "Sighting", "Site", "Standing", "StorageFailed", "SubnetUse", "UsageError",
    "Vendor", "Verification", "open_site",
]  # fmt: skip
