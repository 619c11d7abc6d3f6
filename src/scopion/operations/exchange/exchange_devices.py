"""Import and export of devices: sheets, documents, lists of other programs; with a plan before anything changes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from scopion.discovery.records.reading import RecordKind
from scopion.discovery.records.registry import MAX_PASTE_BYTES, decoded_text, detect
from scopion.model.device import Device
from scopion.model.errors import NotFound, Refused, StorageFailed, UsageError
from scopion.model.text import clean, counted
from scopion.operations.devices.compare_moments import Compared, changes_since_export
from scopion.operations.devices.compare_snapshots import Seen
from scopion.operations.devices.identify_device import described
from scopion.operations.devices.list_devices import devices
from scopion.operations.exchange.own_list import OwnColumn, is_own_list, own_records, read_own_list
from scopion.operations.exchange.read_input import Input, read_input
from scopion.operations.exchange.take_over import Plan, planned, taken_over
from scopion.operations.intake.pasted_lists import record_context
from scopion.operations.site.change_roster import change
from scopion.operations.site.open_site import Site
from scopion.roster.exchange import device_sheet as sheet
from scopion.roster.exchange import host_lists
from scopion.roster.exchange.record import DeviceRecord, Records, record_of
from scopion.roster.read_devices import all_devices
from scopion.roster.resolve import resolve
from scopion.roster.store.write_files import write_atomically

OWN = ("csv", "json", "jsonl")
NOTES = "notes"  # a list that a person keeps, in whatever form
KINDS = (*OWN, *host_lists.KINDS)  # that can be written
LISTS = (*KINDS, NOTES)  # that can be read
_BY_SUFFIX = {".csv": "csv", ".json": "json", ".jsonl": "jsonl", ".ethers": "ethers", ".hosts": "hosts"}
_BY_NAME = {"ethers": "ethers", "hosts": "hosts"}
_ENCODINGS = ((b"\xff\xfe", "UTF-16"), (b"\xfe\xff", "UTF-16"), (b"\x00", "no text at all"))


@dataclass(frozen=True, slots=True)
class Exported:
    """An export, ready to be written."""

    text: str
    kind: str
    count: int
    left_out: tuple[str, ...] = ()

    @property
    def data(self) -> bytes:
        """Return the file's content: a sheet begins with the mark by which spreadsheets recognise UTF-8."""
        return self.text.encode("utf-8-sig" if self.kind == "csv" else "utf-8")


def kind_of(path: str) -> str | None:
    """Return the kind that a file's name tells."""
    name = Path(path).name.casefold()
    return _BY_NAME.get(name) or _BY_SUFFIX.get(Path(name).suffix)


def export(site: Site, kind: str, which: Sequence[str] = (), standings: Sequence[str] = ()) -> Exported:
    """Return devices, all or some, in one of KINDS. Raises NotFound if there are none."""
    everybody = devices(site)
    chosen = list(dict.fromkeys(resolve(everybody, text) for text in which)) if which else everybody
    chosen = [device for device in chosen if not standings or device.standing in standings]
    if not chosen:
        raise NotFound("there is no device to export")
    if kind in host_lists.KINDS:
        written = host_lists.write_list(kind, map(record_of, chosen))
        return Exported(written.text, kind, len(chosen), written.left_out)
    rows = [(record_of(device), _looked_up(site, device)) for device in chosen]
    if kind == "csv":
        return Exported(sheet.write_sheet(rows), kind, len(rows))
    from scopion.roster.exchange.document import write_document

    text = write_document(rows, site.name, site.clock.now(), lines=kind == "jsonl")
    return Exported(text, kind, len(rows))


def told_kind(path: str, data: bytes) -> str | None:
    """Return the kind of a file, by its content, else by its name; None if it is none of them."""
    begin = data[:4096].lstrip(b"\xef\xbb\xbf").lstrip()
    if begin.startswith(b"{"):
        return _told_json(begin, data)
    first = begin.decode("utf-8", "replace").split("\n", 1)[0]
    if sheet.is_sheet(first):
        return "csv"
    if b"\ndhcp-host=" in b"\n" + data:
        return "dnsmasq-hosts"
    if b"hardware ethernet" in data and b"lease {" not in data and b"\nlease " not in b"\n" + data:
        return "isc-hosts"
    return _BY_NAME.get(Path(path).name.casefold()) or {
        ".ethers": "ethers", ".hosts": "hosts"}.get(Path(path).suffix.casefold())  # fmt: skip


def list_kind(site: Site, given: Input, kind: str | None) -> str | None:
    """Return the kind of list that a file is, as it was named or by its content; None for a record.

    Raises UsageError for a whole site.
    """
    if kind is not None or given.capture is not None:
        return kind if kind in LISTS else None
    from scopion.operations.exchange.export_site import is_archive  # it loads the model of all settings

    if is_archive(given.data):
        raise UsageError(f"{given.path} is a whole site: scopion import --site {given.path} takes it in")
    told = told_kind(given.path, given.data)
    if told is not None or len(given.data) > MAX_PASTE_BYTES or b"\0" in given.data[:1024]:
        return told
    text = decoded_text(given.data)
    is_plain = detect(text) == RecordKind.CLIENT_LIST
    return NOTES if is_plain and is_own_list(text, record_context(site, site.clock.now())) else None


def _told_json(begin: bytes, data: bytes) -> str | None:
    if b'"scopion-devices"' in begin:
        return "json"
    if b'"reservations"' in data:
        return "kea-hosts"
    return "jsonl" if b'"adapters"' in begin.split(b"\n", 1)[0] else None


@dataclass(frozen=True, slots=True)
class TakeOverRequest:
    """How a list is taken over."""

    kind: str
    insist: bool = False
    columns: tuple[str, ...] = ()  # what the columns of a person's list are; empty: as proposed


def proposed_columns(given: Input) -> tuple[OwnColumn, ...]:
    """Return the columns of a person's list, and what each is taken for."""
    return read_own_list(decoded_text(given.data)).columns


def plan_import(site: Site, given: Input, request: TakeOverRequest) -> Plan:
    """Return what a file would change; nothing is changed yet."""
    read = _records(given, request)
    return planned(site, devices(site), read, foreign=request.kind in host_lists.KINDS, insist=request.insist)


def take_over(site: Site, given: Input, request: TakeOverRequest) -> Plan:
    """Take a file over: all of it, or nothing. Raises Refused if any part of it cannot be taken over."""
    read = _records(given, request)
    path = given.path
    name = clean(Path(path).name, 80)
    with change(site, "import", f"taken over from {name}") as (roster, described_as):
        # Once more under the lock: another process may have changed something since the preview.
        foreign = request.kind in host_lists.KINDS
        plan = planned(site, all_devices(roster), read, foreign=foreign, insist=request.insist)
        if plan.problems:
            raise Refused(f"{path}: {counted(len(plan.problems), 'line')} cannot be taken over; nothing was changed")
        taken_over(site, roster, plan)
        described_as.says = f"{counted(len(plan.changes), 'device')} taken over from {name}"
    return plan


def write(path: str, exported: Exported, *, force: bool = False) -> None:
    """Write an export into a file, whole or not at all. Raises Refused for an existing file, StorageFailed."""
    if Path(path).exists() and not force:
        raise Refused(f"{path} is there already: --force writes over it")
    if not Path(path).parent.is_dir():
        raise StorageFailed(f"{path} cannot be written: there is no such folder")
    write_atomically(Path(path), exported.data)


def compared_with(site: Site, path: str) -> Compared:
    """Return what differs between an export and now. Raises UsageError, StorageFailed."""
    data = read_input(path).data
    kind = told_kind(path, data)
    if kind not in OWN:
        raise UsageError(f"{path} is not an export of devices: scopion export {Path(path).stem}.json writes one")
    read, exported = _read(path, data, kind)
    if read.problems:
        raise UsageError(f"{path}, {read.problems[0]}")
    at = exported or datetime.fromtimestamp(Path(path).stat().st_mtime, UTC)
    return changes_since_export(site, [(_seen(record), record.label or "") for record in read.records], at)


def decoded(path: str, data: bytes) -> str:
    """Return a file as text. Raises UsageError that names the line that is not UTF-8."""
    for mark, what in _ENCODINGS:
        if data.startswith(mark) or (mark == b"\x00" and mark in data[:1024]):
            raise UsageError(f"{path} is {what}, UTF-8 is needed: save it as CSV UTF-8")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise UsageError(f"{path}, line {line}: not UTF-8 text: save it as CSV UTF-8; nothing was changed") from None


def _records(given: Input, request: TakeOverRequest) -> Records:
    if request.kind != NOTES:
        return _read(given.path, given.data, request.kind)[0]
    listed = read_own_list(decoded_text(given.data))
    if not listed.rows:
        raise NotFound(f"{given.path} has no MAC address of a device beside any words")
    return own_records(listed.with_columns(request.columns) if request.columns else listed)


def _read(path: str, data: bytes, kind: str) -> tuple[Records, datetime | None]:
    text = decoded(path, data)
    if kind == "csv":
        return sheet.read_sheet(text), None
    if kind in host_lists.KINDS:
        return host_lists.read_list(kind, text), None
    from scopion.roster.exchange.document import read_document, read_lines

    return read_document(text) if kind == "json" else (read_lines(text), None)


def _looked_up(site: Site, device: Device) -> dict[str, str]:
    known = described(device, site.vendors, site.kinds)
    vendor = known.vendors[0].name if known.vendors else ""
    return {"vendor": vendor, "kind": known.guess.kind}


def _seen(record: DeviceRecord) -> Seen:
    holds = {
        address: adapter.mac
        for adapter in record.adapters
        for address in adapter.addresses
        if record.present is not False
    }
    name = next((name.value for name in record.names), "")
    said = {
        "label": record.label or "",
        "standing": str(record.standing or "new"),
        "owner": record.owner or "",
        "place": record.place or "",
        "note": record.note or "",
        "guest_until": record.guest_until.isoformat() if record.guest_until else "",
    }
    return Seen(frozenset(record.macs), holds, name, said)
