"""Devices and scanned hosts as rows: the JSON keys, and the columns of the tables. Shared, so that they agree."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from scopion.cli.table import Column, Row
from scopion.model.clock import Clock, spoken_span
from scopion.model.device import Adapter, EventKind, Standing, short_name
from scopion.model.observation import Medium, Trait

if TYPE_CHECKING:
    from scopion.discovery.kinds import Guess
    from scopion.operations.described import Described
    from scopion.operations.hosts import Host

_TO_THE_SECOND = len("2026-09-14T08:10:00")
HOST_KEYS = (
    "standing", "name", "address", "mac", "vendor", "vendor_place", "vendor_kind", "kind", "kind_evidence", "names",
    "other_addresses", "rtt_ms", "this_machine", "gateway", "news", "device",
)  # fmt: skip
DEVICE_KEYS = (
    "standing", "name", "addresses", "macs", "vendor", "vendor_place", "kind", "kind_evidence", "names", "media",
    "present", "first_seen", "last_seen",
    "owner", "place", "note", "guest_until", "standing_since", "because", "private", "this_machine", "gateway",
    "device",
)  # fmt: skip
_STANDING_STYLE = {Standing.NEW: "yellow", Standing.KNOWN: "green", Standing.GUEST: "cyan", Standing.UNWANTED: "red"}
_NEWS_WORD = {
    EventKind.CONTESTED: "contested",
    EventKind.GATEWAY_CHANGED: "gateway",
    EventKind.JOINED: "joined",
    EventKind.RETURNED: "back",
    EventKind.READDRESSED: "moved",
    EventKind.RENAMED: "renamed",
}


def host_row(host: Host) -> dict[str, Any]:
    """A host of a scan under its JSON keys."""
    return {
        "standing": str(host.device.standing) if host.device else None,
        "name": host.name or None,
        "address": str(host.address),
        "mac": str(host.mac) if host.mac else None,
        "vendor": host.vendor.name if host.vendor else None,
        "vendor_place": (host.vendor.place or None) if host.vendor else None,
        "vendor_kind": str(host.vendor.kind) if host.vendor else None,
        "kind": host.guess.kind or None,
        "kind_evidence": host.guess.evidence or None,
        "names": names_row(host.names),
        "other_addresses": [str(address) for address in host.also],
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
        Column("MAC", lambda row: row["mac"] or "", _emphasis),
        Column("vendor", lambda row: row["vendor"] or "", _vendor_style, shrinks=True),
        Column("may be", _kind, lambda _: "dim", shrinks=True, optional=1),
        Column("registered in", lambda row: row["vendor_place"] or "", lambda _: "dim", optional=3),
        Column("IPv6", _ipv6, lambda _: "dim", optional=4),
        Column("RTT ms", lambda row: "" if row["rtt_ms"] is None else f"{row['rtt_ms']:.1f}", right=True, optional=2),
    ]


def device_row(known: Described, *, whole: bool = True) -> dict[str, Any]:
    """A device under its JSON keys; only half of them, if it is for the table, which shows no more."""
    device, likely = known.device, known.guess
    names, macs = device.host_names, device.macs
    maker = known.vendors[0] if known.vendors else None
    row: dict[str, Any] = {
        "standing": str(device.standing),
        "name": device.label or (short_name(names[0].value) if names else None),
        "addresses": [str(address) for address in device.addresses],
        "macs": [str(mac) for mac in macs],
        "vendor": maker.name if maker else None,
        "vendor_place": (maker.place or None) if maker else None,
        "kind": likely.kind or None,
        "kind_evidence": likely.evidence or None,
        "present": device.present,
        "last_seen": iso(device.last_seen),
        "owner": device.owner or None,
        "place": device.place or None,
        "guest_until": device.guest_until.isoformat() if device.guest_until else None,
        "this_machine": device.own,
        "gateway": device.gateway,
    }
    if whole:
        row["names"] = names_row(names)
        row["media"] = [medium_words(adapter, likely) for adapter in device.adapters]
        row["first_seen"] = iso(device.first_seen)
        row["note"] = device.note or None
        row["standing_since"] = iso(device.standing_since) if device.standing_since else None
        row["because"] = device.because or None
        row["private"] = any([mac.is_private for mac in macs])  # noqa: C419 - mostly one
        row["device"] = device.id
    return row


def device_columns(clock: Clock, rows: Sequence[Row]) -> list[Column]:
    """The columns for a terminal; owner, place and a guest's end only if any device has one."""
    now = clock.now()
    columns = [
        Column("standing", lambda row: row["standing"], _standing_style),
        Column("name", _name, _absent),
        Column("address", _addresses, _absent),
        Column("MAC", lambda row: "\n".join(row["macs"]), _absent),
        Column("vendor", lambda row: row["vendor"] or "", lambda row: _absent(row) or _vendor_style(row), shrinks=True),
        Column("may be", _kind, lambda _: "dim", shrinks=True, optional=2),
        Column("registered in", lambda row: row["vendor_place"] or "", lambda _: "dim", optional=3),
    ]
    if any(row["owner"] for row in rows):
        columns.append(Column("owner", lambda row: row["owner"] or "", _absent, optional=1))
    if any(row["place"] for row in rows):
        columns.append(Column("place", lambda row: row["place"] or "", _absent, optional=1))
    if any(row["guest_until"] for row in rows):
        columns.append(Column("until", lambda row: row["guest_until"] or "", _absent, optional=1))
    columns.append(Column("seen", lambda row: _seen(row, now), _absent, optional=1))
    return columns


def names_row(names: Sequence[Trait]) -> list[str]:
    """Names with their source: ``till.kilnhaven.example (dns)``."""
    return [f"{name.value} ({name.source})" for name in names]


def medium_words(adapter: Adapter, likely: Guess) -> str:
    """An adapter's medium; what is only likely says why."""
    if adapter.medium is not Medium.UNKNOWN:
        return f"{adapter.medium} ({adapter.medium_evidence})" if adapter.medium_evidence else str(adapter.medium)
    guessed = likely.medium is not Medium.UNKNOWN
    return f"{likely.medium}? ({likely.medium_evidence})" if guessed else str(Medium.UNKNOWN)


def iso(moment: datetime) -> str:
    """A moment for machines: UTC, to the second."""
    in_utc = moment if moment.tzinfo is UTC else moment.astimezone(UTC)
    return f"{in_utc.isoformat()[:_TO_THE_SECOND]}Z"


def _name(row: Row) -> str:
    role = "this machine" if row["this_machine"] else "gateway" if row["gateway"] else ""
    return f"{row['name']} ({role})" if row["name"] and role else row["name"] or (f"({role})" if role else "–")


def _kind(row: Row) -> str:
    return f"{row['kind']}: {row['kind_evidence']}" if row["kind"] else ""


def _ipv6(row: Row) -> str:
    first, *more = row["other_addresses"] or [""]
    return f"{first} +{len(more)}" if more else first


def _addresses(row: Row) -> str:
    """All IPv4 addresses, and the first of IPv6 if there is no other; the machine formats have them all."""
    short = [address for address in row["addresses"] if ":" not in address] or row["addresses"][:1]
    return "\n".join(short)


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
