"""Devices and scanned hosts as rows: the JSON keys, and the columns of the tables. Shared, so that they agree."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from scopion.cli.output import Column, Row
from scopion.model.clock import Clock, spoken_span
from scopion.model.device import Device, EventKind, Standing
from scopion.operations.scan_result import Host
from scopion.vendors.registry import Vendors

HOST_KEYS = (
    "standing", "name", "address", "mac", "vendor", "vendor_place", "vendor_kind", "rtt_ms",
    "this_machine", "gateway", "news", "device",
)  # fmt: skip
DEVICE_KEYS = (
    "standing", "name", "addresses", "macs", "vendor", "vendor_place", "present", "first_seen", "last_seen",
    "owner", "place", "note", "guest_until", "this_machine", "gateway", "device",
)  # fmt: skip
_STANDING_STYLE = {Standing.NEW: "yellow", Standing.KNOWN: "green", Standing.GUEST: "cyan", Standing.UNWANTED: "red"}
_NEWS_WORD = {EventKind.JOINED: "joined", EventKind.RETURNED: "back", EventKind.READDRESSED: "moved"}


def host_row(host: Host) -> dict[str, Any]:
    """A host of a scan under its JSON keys."""
    return {
        "standing": str(host.device.standing) if host.device else None,
        "name": (host.device.label if host.device else "") or None,
        "address": str(host.address),
        "mac": str(host.mac),
        "vendor": host.vendor.name,
        "vendor_place": host.vendor.place or None,
        "vendor_kind": str(host.vendor.kind),
        "rtt_ms": round(host.rtt_s * 1000, 2) if host.rtt_s is not None else None,
        "this_machine": host.own,
        "gateway": host.gateway,
        "news": str(host.news) if host.news else None,
        "device": host.device.id if host.device else None,
    }


def host_columns() -> list[Column]:
    """The columns of a scan for a terminal."""
    return [
        Column("standing", _host_standing, _standing_style),
        Column("name", _name, _emphasis),
        Column("address", lambda row: row["address"], _emphasis),
        Column("MAC", lambda row: row["mac"]),
        Column("vendor", lambda row: row["vendor"], _vendor_style, shrinks=True),
        Column("registered in", lambda row: row["vendor_place"] or "", lambda _: "dim", optional=2),
        Column("RTT ms", lambda row: "" if row["rtt_ms"] is None else f"{row['rtt_ms']:.1f}", right=True),
    ]


def device_row(device: Device, vendors: Vendors) -> dict[str, Any]:
    """A device under its JSON keys."""
    makers = [vendors.of(mac) for mac in device.macs]
    maker = makers[0] if makers else None
    return {
        "standing": str(device.standing),
        "name": device.label or None,
        "addresses": [str(address) for address in device.addresses],
        "macs": [str(mac) for mac in device.macs],
        "vendor": maker.name if maker else None,
        "vendor_place": (maker.place or None) if maker else None,
        "present": device.present,
        "first_seen": iso(device.first_seen),
        "last_seen": iso(device.last_seen),
        "owner": device.owner or None,
        "place": device.place or None,
        "note": device.note or None,
        "guest_until": device.guest_until.isoformat() if device.guest_until else None,
        "this_machine": device.own,
        "gateway": device.gateway,
        "device": device.id,
    }


def device_columns(clock: Clock, rows: Sequence[Row]) -> list[Column]:
    """The columns for a terminal; owner and place only if any device has one."""
    now = clock.now()
    columns = [
        Column("standing", lambda row: row["standing"], _standing_style),
        Column("name", _name, _absent),
        Column("address", lambda row: "\n".join(row["addresses"]), _absent),
        Column("MAC", lambda row: "\n".join(row["macs"]), _absent),
        Column("vendor", lambda row: row["vendor"] or "", lambda row: _absent(row) or _vendor_style(row), shrinks=True),
        Column("registered in", lambda row: row["vendor_place"] or "", lambda _: "dim", optional=2),
    ]
    if any(row["owner"] for row in rows):
        columns.append(Column("owner", lambda row: row["owner"] or "", _absent, optional=1))
    if any(row["place"] for row in rows):
        columns.append(Column("place", lambda row: row["place"] or "", _absent, optional=1))
    columns.append(Column("seen", lambda row: _seen(row, now), _absent))
    return columns


def iso(moment: datetime) -> str:
    """A moment for machines: UTC, to the second."""
    return moment.strftime("%Y-%m-%dT%H:%M:%SZ")


def _name(row: Row) -> str:
    role = "this machine" if row["this_machine"] else "gateway" if row["gateway"] else ""
    return f"{row['name']} ({role})" if row["name"] and role else row["name"] or (f"({role})" if role else "–")


def _host_standing(row: Row) -> str:
    news = _NEWS_WORD.get(EventKind(row["news"])) if row["news"] else None
    return f"{row['standing'] or '–'}{', ' + news if news else ''}"


def _standing_style(row: Row) -> str:
    style = _STANDING_STYLE[Standing(row["standing"])] if row["standing"] else "dim"
    return f"bold {style}" if row.get("news") or row["standing"] == Standing.UNWANTED else style


def _emphasis(row: Row) -> str:
    return "bold" if row["news"] else ""


def _vendor_style(row: Row) -> str:
    return "dim" if (row["vendor"] or "").startswith("(") else ""


def _absent(row: Row) -> str:
    return "" if row["present"] else "dim"


def _seen(row: Row, now: datetime) -> str:
    if row["present"]:
        return "present"
    return f"{spoken_span(now - datetime.fromisoformat(row['last_seen']))} ago"
