"""Makes the API's values of the core's. Nothing is read or decided here."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields
from datetime import datetime
from ipaddress import ip_address
from typing import Any, TypeVar

from scopion.api import values
from scopion.model.errors import UsageError
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source, Trait, TraitKind
from scopion.model.text import clean
from scopion.operations.devices.identify_device import Described
from scopion.operations.devices.list_events import LoggedEvent
from scopion.operations.devices.map_addresses import AddressMap
from scopion.operations.exchange.import_records import Imported
from scopion.operations.exchange.take_over import Plan
from scopion.operations.scan.describe_hosts import Host
from scopion.operations.scan.scan_result import ScanResult, notes
from scopion.operations.wifi.edit_entries import EntryChange, ListedEntry
from scopion.operations.wifi.explain_effects import NetworkEffect
from scopion.operations.wifi.send_push import Pushed
from scopion.reports.address_use import Use
from scopion.reports.content import Report
from scopion.vendors.registry import Vendor
from scopion.wireless.verdict import Verdict

_Value = TypeVar("_Value")
_LONGEST_NAME = 255  # RFC 1035, 2.3.4
_MEDIUM = {None: Medium.UNKNOWN, True: Medium.WIRELESS, False: Medium.CABLE}


def _same(kind: type[_Value], source: object, /, **others: Any) -> _Value:
    """Return a value with the fields that ``source`` calls the same, and ``others``."""
    names = [each.name for each in fields(kind) if each.name not in others]  # type: ignore[arg-type]
    return kind(**{name: getattr(source, name) for name in names}, **others)


def moment(at: datetime | None) -> datetime | None:
    """Return a moment as it is. Raises UsageError for one without a time zone, which could mean any hour."""
    if at is not None and at.utcoffset() is None:
        raise UsageError(f"{at} has no time zone: write datetime(..., tzinfo=UTC), or site.now")
    return at


def vendor(found: Vendor) -> values.Vendor:
    """Return the vendor of a MAC address."""
    return values.Vendor(found.name, str(found.kind), found.prefix)


def device(known: Described) -> values.Device:
    """Return a device with its vendor and its guessed kind."""
    return _same(
        values.Device,
        known.device,
        host_names=tuple(name.value for name in known.device.host_names),
        vendor=known.vendors[0].name if known.vendors else "",
        kind=known.guess.kind,
    )


def event(logged: LoggedEvent) -> values.Event:
    """Return an event with its sentence."""
    it = logged.event
    return values.Event(it.at, it.kind, logged.sentence, it.device_id, it.mac, it.address)


def scan(result: ScanResult, events: Sequence[LoggedEvent]) -> values.Scan:
    """Return the result of a scan."""
    return _same(
        values.Scan,
        result,
        method=str(result.method),
        hosts=tuple(map(_host, result.hosts)),
        events=tuple(map(event, events)),
        notes=tuple(notes(result)),
        remembered=result.folded and not result.not_remembered,
    )


def _host(it: Host) -> values.Host:
    vendor = it.vendor.name if it.vendor is not None else ""
    return _same(
        values.Host, it, vendor=vendor, kind=it.guess.kind, device_id=it.device.id if it.device is not None else None
    )


def observation(seen: values.Sighting, now: datetime) -> Observation:
    """Return what the roster takes in; ``now`` is for what has no moment. Raises InvalidMacAddress, UsageError."""
    name = clean(seen.name, _LONGEST_NAME)
    try:
        address = ip_address(seen.address) if isinstance(seen.address, str) else seen.address
    except ValueError:
        raise UsageError(f"{seen.address!r} is not an IP address: write it as 192.0.2.7 or 2001:db8::7") from None
    return Observation(
        seen.mac if isinstance(seen.mac, MacAddress) else MacAddress.parse(seen.mac),
        address,
        moment(seen.at) or now,
        Source.LISTING,
        medium=_MEDIUM[seen.wireless],
        traits=(Trait(TraitKind.NAME, name, Source.LISTING),) if name else (),
        recorded=seen.at is not None,
    )


def subnet_use(each: AddressMap) -> values.SubnetUse:
    """Return what the addresses of a subnet are used for."""
    return values.SubnetUse(
        name=each.name,
        subnet=each.use.subnet,
        in_use=each.use.in_use,
        counts={str(use): each.use.counts.get(use, 0) for use in Use},
        scanned=each.scanned,
        free=tuple(one.address for one in each.use.addresses if one.use is Use.FREE),
    )


def report(made: Report) -> values.Report:
    """Return what a report says in sentences."""
    return values.Report(made.since, made.until, made.summary, tuple(each.says for each in made.attention))


def planned(kind: str, plan: Plan) -> values.Import:
    """Return what a list changed, or would change."""
    called = {
        action: tuple(each.called for each in plan.intents if each.action == action) for action in ("added", "changed")
    }
    return values.Import(
        kind=kind,
        added=called["added"],
        changed=called["changed"],
        unchanged=len(plan.intents) - len(plan.changes),
        problems=tuple(map(str, plan.problems)),
        left_out=tuple(map(str, plan.left_out)),
    )


def recorded(imported: Imported) -> values.Import:
    """Return what a record told; it changes no label and no standing, so that only new adapters count."""
    return values.Import(
        kind=imported.reading.kind,
        added=tuple(str(mac) for mac in sorted(imported.added)),
        changed=(),
        unchanged=len(imported.seen) - len(imported.added),
        problems=(),
        left_out=tuple(map(str, imported.reading.problems)),
    )


def listed(change: EntryChange) -> values.Listed:
    """Return what was put on a list."""
    return _listed(change.network.ssid, change.names, change.cautions, change.told)


def dropped(ssid: str, names: Sequence[str], told: Sequence[NetworkEffect]) -> values.Listed:
    """Return what was taken off a network's lists."""
    return _listed(ssid, names, (), told)


def _listed(ssid: str, names: Sequence[str], cautions: Sequence[str], told: Sequence[NetworkEffect]) -> values.Listed:
    says = tuple(said for each in told for said in each.says)
    return values.Listed(ssid, tuple(names), tuple(cautions), says, any(each.to_send for each in told))


def entry(it: ListedEntry) -> values.Entry:
    """Return an entry of a list."""
    known = {key: getattr(it, key) for key in ("name", "macs", "in_effect", "because")}
    return _same(values.Entry, it.entry, ssid=it.network.ssid, **known)


def push(it: Pushed, sheet: str = "") -> values.Push:
    """Return a push that an enforcer has taken, or that waits for a person with its ``sheet``."""
    held = it.read_back
    return values.Push(
        id=it.push.id,
        ssid=it.push.ssid,
        enforcer=it.push.enforcer,
        radios=tuple(plan.radio for plan in it.plans),
        entries={radio: each.entries for radio, each in held.items()},
        problem=it.problem,
        sheet=sheet,
    )


def verification(it: Verdict) -> values.Verification:
    """Return the result of a verification."""
    checks = tuple(values.Check(each.where, each.what, each.met, each.says) for each in it.checks)
    return values.Verification(it.network.ssid, it.met, checks, tuple(it.notes))
