"""Devices and scanned hosts as rows: the JSON keys, and the columns of the tables. Several commands share them, so that
they agree.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from operator import attrgetter
from typing import TYPE_CHECKING, Any

from scopion.cli.parts.output import iso, iso_or_never, spoken_ago
from scopion.cli.parts.table import Column, Row
from scopion.discovery.port_task import OPEN
from scopion.model.address import written
from scopion.model.clock import Clock
from scopion.model.device import Adapter, Device, EventKind, Standing, short_name
from scopion.model.observation import Medium, Trait

if TYPE_CHECKING:
    from scopion.discovery.kinds import Guess
    from scopion.operations.devices.identify_device import Described
    from scopion.operations.scan.describe_hosts import Host

HOST_KEYS = (
    "standing", "name", "address", "mac", "vendor", "vendor_place", "vendor_kind", "kind", "kind_evidence", "names",
    "other_addresses", "rtt_ms", "ports", "this_machine", "gateway", "news", "device",
)  # fmt: skip
DEVICE_KEYS = (
    "standing", "name", "addresses", "macs", "vendor", "vendor_place", "kind", "kind_evidence", "names", "media",
    "present", "first_seen", "last_seen",
    "where", "socket", "owner", "place", "note", "guest_until", "standing_since", "because", "essential", "private",
    "this_machine", "gateway", "places", "device",
)  # fmt: skip
_LONGEST_ADDRESS = 20  # half of the longest IPv6 address; an IPv4 address has fifteen characters at most
_UNKNOWN = Medium.UNKNOWN  # a member is looked up slowly through its class, and a list asks for each device
_IS_PRIVATE = attrgetter("is_private")
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
    """Return a host of a scan under its JSON keys."""
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
        "ports": list(host.ports),
        "this_machine": host.own,
        "gateway": host.gateway,
        "news": str(host.news) if host.news else None,
        "device": host.device.id if host.device else None,
    }


def port_key(port: int) -> str:
    """Return the key of a port that was tried, in the row of a host."""
    return f"port_{port}"


def _port_column(port: int) -> Column:
    def state(row: Row) -> str:
        return str(row.get(port_key(port)) or "")

    return Column(f"{port}", state, lambda row: "green bold" if state(row) == OPEN else "dim")


def host_columns(ports: Sequence[int] = ()) -> list[Column]:
    """Return the columns of a scan for a terminal, with one for each of the ``ports`` that were tried."""
    return [
        Column("standing", _host_standing, _standing_style),
        Column("name", lambda row: _named(row["name"] or "", row["this_machine"], row["gateway"]), _emphasis),
        Column("address", lambda row: folded_address(row["address"] or ""), _emphasis),
        Column("MAC", lambda row: row["mac"] or "", _emphasis),
        *map(_port_column, ports),
        Column("vendor", lambda row: row["vendor"] or "", lambda row: _vendor_style(row["vendor"]), shrinks=True),
        Column("may be", _kind, lambda _: "dim", shrinks=True, optional=1),
        Column("registered in", lambda row: row["vendor_place"] or "", lambda _: "dim", optional=3),
        Column("IPv6", _ipv6, lambda _: "dim", optional=4),
        Column("RTT ms", lambda row: "" if row["rtt_ms"] is None else f"{row['rtt_ms']:.1f}", right=True, optional=2),
    ]


def device_row(known: Described) -> dict[str, Any]:
    """Return a device under its JSON keys."""
    device, likely = known.device, known.guess
    names, macs = device.host_names, device.macs
    maker = known.vendors[0] if known.vendors else None
    return {
        "standing": str(device.standing),
        "name": device.label or (short_name(names[0].value) if names else None),
        "addresses": list(map(written, device.addresses)),
        "macs": list(map(str, macs)),
        "vendor": maker.name if maker else None,
        "vendor_place": (maker.place or None) if maker else None,
        "kind": likely.kind or None,
        "kind_evidence": likely.evidence or None,
        "names": names_row(names),
        "media": [medium_words(*each) for each in zip(device.adapters, known.media, strict=True)],
        "present": device.present,
        "first_seen": iso(device.first_seen),
        "last_seen": iso_or_never(device.last_seen),
        "where": known.where or None,
        "socket": known.socket or None,
        "owner": device.owner or None,
        "place": device.place or None,
        "note": device.note or None,
        "guest_until": device.guest_until.isoformat() if device.guest_until else None,
        "standing_since": iso(device.standing_since) if device.standing_since else None,
        "because": device.because or None,
        "essential": device.essential,
        "private": any(map(_IS_PRIVATE, macs)),
        "this_machine": device.own,
        "gateway": device.gateway or bool(device.gateway_in),
        "places": list(device.places),
        "device": device.id,
    }


def device_columns(clock: Clock, known: Sequence[Described]) -> list[Column]:
    """Return the columns for a terminal; owner, place, socket and a guest's end only if any device has one.

    The places of the site are among them if the devices are in several.
    """
    now, devices = clock.now(), [each.device for each in known]
    columns = [
        Column("standing", lambda each: str(each.device.standing), lambda each: _style_of(each.device.standing)),
        Column("name", _device_name, _absent),
        Column("address", _device_addresses, _absent),
        Column("MAC", lambda each: "\n".join([str(mac) for mac in each.device.macs]), _absent),
        Column(
            "vendor", _device_vendor, lambda each: _absent(each) or _vendor_style(_device_vendor(each)), shrinks=True
        ),
        Column("may be", lambda each: str(each.guess), lambda _: "dim", shrinks=True, optional=2),
        Column(
            "registered in", lambda each: each.vendors[0].place if each.vendors else "", lambda _: "dim", optional=3
        ),
    ]
    if any(device.owner for device in devices):
        columns.append(Column("owner", lambda each: each.device.owner, _absent, optional=1))
    apart = len({place for device in devices for place in device.places}) > 1
    place = Column("place", lambda each: _place(each.device, apart=apart), _absent, optional=0 if apart else 1)
    if apart:  # without it, equal addresses could not be told apart
        columns.insert(4, place)
    elif any(device.place for device in devices):
        columns.append(place)
    if any(each.socket for each in known):
        columns.append(Column("socket", lambda each: each.socket, _absent, optional=1))
    if any(device.guest_until for device in devices):
        columns.append(Column("until", lambda each: str(each.device.guest_until or ""), _absent, optional=1))
    columns.append(Column("seen", lambda each: _seen(each.device, now), _absent, optional=1))
    return columns


def _place(device: Device, *, apart: bool) -> str:
    """Return in which places of the site it is, if that matters, and where it stands there."""
    places = ", ".join(device.places) if apart else ""
    return f"{places}: {device.place}" if places and device.place else places or device.place


def names_row(names: Sequence[Trait]) -> list[str]:
    """Return names with their source: ``till.kilnhaven.example (dns)``."""
    return [f"{name.value} ({name.source})" for name in names]


def medium_words(adapter: Adapter, likely: Guess) -> str:
    """Return an adapter's medium; one that is only likely comes with the reason."""
    if adapter.medium is not _UNKNOWN:
        return f"{adapter.medium} ({adapter.medium_evidence})" if adapter.medium_evidence else str(adapter.medium)
    return f"{likely.medium}? ({likely.medium_evidence})" if likely.medium is not _UNKNOWN else str(_UNKNOWN)


def _named(name: str, this_machine: bool, gateway: bool) -> str:
    role = "this machine" if this_machine else "gateway" if gateway else ""
    return f"{name} ({role})" if name and role else name or (f"({role})" if role else "–")


def _device_name(each: Described) -> str:
    return _named(each.device.name, each.device.own, each.device.gateway or bool(each.device.gateway_in))


def _kind(row: Row) -> str:
    return f"{row['kind']}: {row['kind_evidence']}" if row["kind"] else ""


def _ipv6(row: Row) -> str:
    first, *more = row["other_addresses"] or [""]
    return f"{first} +{len(more)}" if more else first


def _device_addresses(each: Described) -> str:
    """Return all IPv4 addresses, and the first of IPv6 if there is no other; the machine formats have them all."""
    addresses = each.device.addresses
    short = [address for address in addresses if address.version == 4] or addresses[:1]
    return "\n".join([folded_address(written(address)) for address in short])


def folded_address(text: str) -> str:
    """Return a long IPv6 address in two lines, so that it takes no other column's room; a short one as it is."""
    if len(text) <= _LONGEST_ADDRESS:
        return text
    middle = text.rfind(":", 0, _LONGEST_ADDRESS + 1) + 1
    return f"{text[:middle]}\n{text[middle:]}" if middle else text


def _device_vendor(each: Described) -> str:
    return each.vendors[0].name if each.vendors else ""


def _host_standing(row: Row) -> str:
    news = _NEWS_WORD.get(EventKind(row["news"])) if row["news"] else None
    return f"{row['standing'] or '–'}{', ' + news if news else ''}"


def _standing_style(row: Row) -> str:
    style = _style_of(Standing(row["standing"])) if row["standing"] else "dim"
    return f"bold {style}" if row["news"] else style


def _style_of(standing: Standing) -> str:
    return "bold red" if standing is Standing.UNWANTED else _STANDING_STYLE[standing]


def _emphasis(row: Row) -> str:
    return "bold" if row["news"] else ""


def _vendor_style(name: str | None) -> str:
    return "dim" if name and name.startswith("(") else ""


def _absent(each: Described) -> str:
    return "" if each.device.present else "dim"


def _seen(device: Device, now: datetime) -> str:
    return "present" if device.present else spoken_ago(device.last_seen, now)
