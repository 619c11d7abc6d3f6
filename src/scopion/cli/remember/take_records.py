"""Shows what a record of another system says, asks, and takes it in: a part of ``scopion import``."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts.device_rows import HOST_KEYS, host_columns, host_row
from scopion.cli.parts.output import iso, show, spoken_ago
from scopion.cli.parts.session import Session
from scopion.cli.parts.table import Column, Row
from scopion.cli.parts.terminal import prompt, style
from scopion.cli.remember.take_over import TakeOver
from scopion.model.mac import MacAddress
from scopion.model.text import closed, counted

if TYPE_CHECKING:
    from scopion.discovery.client_lists.clients import Client
    from scopion.operations.exchange.import_records import Imported
    from scopion.operations.exchange.read_input import Input
    from scopion.operations.intake.pasted_lists import OnAir

KEYS = (
    "standing", "name", "address", "mac", "vendor", "vendor_place", "kind", "kind_evidence", "names", "medium", "seen",
    "interface", "state", "lease", "ssid", "band", "signal_dbm", "added", "device",
)  # fmt: skip
# A client of which the list tells no address.
_NO_HOST: dict[str, Any] = {**dict.fromkeys((*HOST_KEYS, *KEYS)), "names": [], "ports": [], "other_addresses": []}
# Of a damaged lease file a few lines tell what is wrong; of a pasted list each line counts.
_UNREAD_SHOWN, _UNREAD_OF_A_LIST = 5, 200


@dataclass(frozen=True, slots=True)
class RecordOptions:
    """What a record does not say itself."""

    ssid: str | None = None
    band: str | None = None


def take_records(session: Session, given: Input, kind: str | None, how: TakeOver, said: RecordOptions) -> None:
    """Read a record, show it, ask before a client list is taken in, and fold it."""
    from scopion.operations.exchange.import_records import fold_records, read_given

    imported = read_given(session.site, given, kind)
    asks = bool(imported.reading.clients) and session.can_ask and not how.yes and not how.preview
    if not how.preview and not asks:
        imported = fold_records(session.site, imported, insist=how.insist, where=_where(session, imported, said))
    rows = _rows(session, imported)
    show(rows, KEYS, _columns(session, rows), how.format_name, document=_document(imported, rows, how.preview or asks))
    closing = "A record does not make a device present: only a scan does."
    if how.preview or asks:
        closing = "A preview: nothing was changed." if how.preview else "Nothing was changed yet."
    _tell(session, imported, closing, preview=how.preview or asks)
    if asks:
        session.require_yes("Take this in?")
        fold_records(session.site, imported, insist=how.insist, where=_where(session, imported, said))
        session.note("Taken in. It makes no device present: only a scan does. To take it back: scopion undo")


def _where(session: Session, imported: Imported, said: RecordOptions) -> OnAir:
    """Return the network and band of the wireless clients whose rows do not say it, asked for if need be."""
    from scopion.operations.intake.pasted_lists import OnAir, associations_in
    from scopion.operations.wifi.edit_networks import networks

    given = OnAir(said.ssid or "", said.band or "")
    _, lacking = associations_in(imported.reading, given)
    if not lacking:
        return given
    known = [each.ssid for each in networks(session.site)]
    if not session.can_ask or not known:
        if known:
            session.note(
                f"The list does not say with which network {counted(lacking, 'device')} on the air "
                f"{'is' if lacking == 1 else 'are'} associated: --ssid says it."
            )
        return given
    choices = click.Choice([*known, "?"])
    question = f"With which network are the {lacking} wireless devices associated? ({', '.join(known)}, ?: not known)"
    ssid = prompt(question, known[0] if len(known) == 1 else "?", type=choices, show_choices=False)
    if ssid == "?":
        return given
    told, _ = associations_in(imported.reading, OnAir(ssid))
    if not given.band and not all(each.radio for each in told):
        bands = click.Choice(["2.4", "5", "6", "?"])
        band = prompt("On which band, in GHz? (2.4, 5, 6, ?: not known)", "?", type=bands, show_choices=False)
        return OnAir(ssid, "" if band == "?" else band)
    return OnAir(ssid, given.band)


def _rows(session: Session, imported: Imported) -> list[dict[str, Any]]:
    """Return a row for each pair of address and MAC address, and for each client without an address."""
    media = {seen.mac: seen.medium for seen in imported.reading.observations if seen.medium != "unknown"}
    rows = []
    for host in imported.hosts:
        assert host.mac is not None  # records without a MAC address are not taken in
        rows.append(
            {**dict.fromkeys(KEYS), **host_row(host), "medium": media.get(host.mac), **_said(imported, host.mac)}
        )
    shown = {host.mac for host in imported.hosts}
    for mac, client in imported.reading.clients.items():
        if mac not in shown:
            vendor, device = session.site.vendors.of(mac), imported.devices.get(mac)
            own = {
                "standing": str(device.standing) if device else None,
                "name": (device.called if device and device.called != str(mac) else client.name) or None,
                "mac": str(mac),
                "vendor": vendor.name,
                "vendor_place": vendor.place or None,
                "device": device.id if device else None,
            }
            rows.append({**_NO_HOST, **own, "medium": media.get(mac), **_said(imported, mac)})
    return [{**row, "medium": str(row["medium"]) if row["medium"] else None} for row in rows]


def _said(imported: Imported, mac: MacAddress) -> dict[str, Any]:
    """Return what the record says of an adapter, in its own words where those are short."""
    client: Client | None = imported.reading.clients.get(mac)
    seen = imported.seen[mac]
    return {
        "seen": iso(seen) if seen is not None else None,
        "added": mac in imported.added,
        "interface": (client.interface or None) if client else None,
        "state": (client.state or None) if client else None,
        "lease": (client.lease or None) if client else None,
        "ssid": (client.ssid or None) if client else None,
        "band": (client.band or None) if client else None,
        "signal_dbm": client.signal if client else None,
    }


def _columns(session: Session, rows: list[dict[str, Any]]) -> list[Column]:
    now = session.site.clock.now()

    def seen(row: Row) -> str:
        return spoken_ago(datetime.fromisoformat(row["seen"]), now) if row["seen"] else "not known"

    def of_list(key: str, optional: int) -> list[Column]:
        if not any(row[key] for row in rows):
            return []
        return [Column(key, lambda row: row[key] or "", lambda _: "dim", shrinks=True, optional=optional)]

    hidden = {"RTT ms", "IPv6", "standing"}
    if any(row["interface"] or row["state"] or row["lease"] for row in rows):  # room for what the list says
        hidden |= {"may be", "registered in"}
    if not any(row["address"] for row in rows):
        hidden.add("address")
    kept = [column for column in host_columns() if column.title not in hidden]
    return [
        Column(
            "roster", lambda row: "added" if row["added"] else "has it", lambda row: "yellow" if row["added"] else "dim"
        ),
        *kept,
        *(of_list("interface", 3) or [Column("medium", lambda row: row["medium"] or "", lambda _: "dim", optional=2)]),
        *([Column("signal", lambda row: _signal(row), right=True)] if any(row["signal_dbm"] for row in rows) else []),
        *of_list("state", 2),
        *of_list("lease", 4),
        Column("seen", seen, optional=5),
    ]


def _signal(row: Row) -> str:
    return "" if row["signal_dbm"] is None else f"{row['signal_dbm']} dBm"


def _document(imported: Imported, rows: list[dict[str, Any]], preview: bool) -> dict[str, Any]:
    reading = imported.reading
    return {
        "record": {
            "kind": str(reading.kind),
            "about": reading.about,
            "as_of": iso(imported.as_of),
            "taken_in": not preview,
            "added": len(imported.added),
            "unread": reading.unread,
            "problems": [str(problem) for problem in reading.problems],
        },
        "hosts": [{key: row[key] for key in KEYS} for row in rows],
    }


def _tell(session: Session, imported: Imported, closing: str, *, preview: bool) -> None:
    reading = imported.reading
    if imported.seen:
        session.note("")
    told = session.site.clock.local(imported.as_of).strftime("%Y-%m-%d %H:%M")
    session.note(f"Read as {reading.about}, as of {told}.")
    without = len(imported.seen.keys() - {host.mac for host in imported.hosts} - reading.clients.keys())
    if without:
        session.note(f"{counted(without, 'adapter')} without an address {'is' if without == 1 else 'are'} not shown.")
    shown = reading.problems[: _UNREAD_OF_A_LIST if reading.kind == "client-list" else _UNREAD_SHOWN]
    for problem in shown:
        session.note(f"{style('Not read:', fg='yellow')} {closed(str(problem))}")
    if reading.unread > len(shown):
        session.note(f"{reading.unread - len(shown)} more could not be read.")
    added = len(imported.added)
    counts = (
        f"{counted(len(imported.seen), 'adapter')}: {added or 'none'} {'to be ' if preview else ''}added, "
        f"{len(imported.seen) - added or 'none'} in the roster already; {imported.named or 'none'} named"
    )
    undated = sum(moment is None for moment in imported.seen.values())
    if undated:
        it = "it was" if undated == 1 else "they were"
        session.note(f"Of {counted(undated, 'adapter')} the record does not say when {it} there.")
    session.note(f"{style(counts, bold=True)}. {closing}")
