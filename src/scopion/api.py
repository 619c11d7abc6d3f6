"""Scopion for scripts: a few functions on an open site, and the values that they give.

These names stay; what is below them may move. Everything that can go wrong is a ``ScopionError``, whose text says what,
where, and what to do. docs/api.md has examples.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from os import PathLike

from scopion.alerts.news import sentence
from scopion.model.device import Device, Event, EventKind, Standing
from scopion.model.errors import ScopionError
from scopion.model.mac import MacAddress, Notation
from scopion.model.observation import Medium, Observation, Source, Trait, TraitKind
from scopion.operations.devices.find_devices import DeviceFilter, find
from scopion.operations.devices.identify_device import Described
from scopion.operations.devices.list_devices import described_devices, find_device
from scopion.operations.devices.list_events import LoggedEvent, event_log
from scopion.operations.devices.map_addresses import AddressMap, address_maps
from scopion.operations.intake.take_in import take_in
from scopion.operations.report.make_report import ReportRequest
from scopion.operations.report.make_report import report as look_back
from scopion.operations.scan.prepare_scan import ScanRequest, prepare_scan
from scopion.operations.scan.run_scan import run_prepared
from scopion.operations.scan.scan_result import ScanResult
from scopion.operations.site.find_folder import site_folder
from scopion.operations.site.open_site import Site
from scopion.reports.content import Part, Report
from scopion.vendors.registry import Vendor

__all__ = [
    "AddressMap",
    "Described",
    "Device",
    "Event",
    "EventKind",
    "LoggedEvent",
    "MacAddress",
    "Medium",
    "Notation",
    "Observation",
    "Part",
    "Report",
    "ScanResult",
    "ScopionError",
    "Site",
    "Source",
    "Standing",
    "Trait",
    "TraitKind",
    "Vendor",
    "address_maps",
    "device",
    "devices",
    "events",
    "observe",
    "open_site",
    "report",
    "scan",
    "sentence",
    "vendor",
]  # fmt: skip


@contextmanager
def open_site(folder: str | PathLike[str] | None = None) -> Iterator[Site]:
    """A site's folder, opened; without one that which the commands would take. Closed at the end of the block."""
    site = Site(site_folder(str(folder) if folder is not None else None))
    try:
        yield site
    finally:
        site.close()


def scan(site: Site, targets: Sequence[str] = (), *, names: bool = True, method: str = "auto") -> ScanResult:
    """Scan as ``scopion scan`` does, and remember what came of it.

    ``targets`` are written as for the command; without any the attached subnet is scanned. Raises InvalidTarget,
    NoInterface, NotPermitted, StorageFailed.
    """
    return run_prepared(site, prepare_scan(site, ScanRequest(tuple(targets), method=method, no_names=not names)))


def devices(site: Site, *words: str, present: bool | None = None, standing: Standing | None = None) -> list[Described]:
    """The devices that the site remembers, or those that fit all words, as ``scopion devices`` finds them."""
    wanted = DeviceFilter(words, standings=(standing,) if standing else (), present=present)
    return find(described_devices(site), wanted)


def device(site: Site, which: str) -> Device:
    """The one device that is meant by a MAC address, an address, a label, a name. Raises NotFound, AmbiguousDevice."""
    return find_device(site, which)


def events(
    site: Site, since: datetime | None = None, until: datetime | None = None, kinds: Iterable[EventKind] = ()
) -> list[LoggedEvent]:
    """What happened, in the order of time, each with its sentence. Moments have a time zone."""
    return event_log(site, since=since, until=until, kinds=tuple(kinds)).told


def observe(site: Site, seen: Sequence[Observation]) -> list[Event]:
    """Take in observations of a source of your own: they are folded as those of a scan, and alerts are queued.

    An observation with ``recorded`` tells of the past and makes nobody present. Returns the events. Raises
    StorageFailed.
    """
    return list(take_in(site, seen).events)


def vendor(site: Site, mac: str) -> Vendor:
    """Who made an adapter. Raises InvalidMacAddress."""
    return site.vendors.of(MacAddress.parse(mac))


def report(
    site: Site, since: datetime | None = None, until: datetime | None = None, parts: Iterable[Part] = tuple(Part)
) -> Report:
    """Look back on a period, by default four weeks; the values that the page and the tables show.

    Raises NotFound, UsageError.
    """
    return look_back(site, ReportRequest(since, until, tuple(parts)))
