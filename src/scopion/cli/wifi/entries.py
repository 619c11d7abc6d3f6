"""Shows the networks and the entries on their lists."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.output import on_clock, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row
from scopion.cli.wifi.network_settings import tell
from scopion.model.band import EVERY_RADIO, spoken_bands
from scopion.model.clock import Clock
from scopion.model.text import counted
from scopion.roster.wifi.lists import ListMode

if TYPE_CHECKING:
    from scopion.operations.wifi.edit_entries import ListedEntry

ENTRY_KEYS = (
    "list", "in_effect", "typed_in", "because", "name", "macs", "vendor", "ssid", "hours", "until", "paused",
    "override", "override_until", "description", "since", "who",
)  # fmt: skip
SSID_KEYS = (
    "ssid", "mode", "allow_entries", "deny_entries", "lists_of", "others_hours", "only_until", "capacity", "notation",
    "radios", "router", "enforcers",
)  # fmt: skip
SSID_COLUMNS = (
    Column("SSID", lambda row: row["ssid"], lambda _: "bold", shrinks=True),
    Column("mode", lambda row: row["mode"], lambda row: "" if row["mode"] == "off" else "bold"),
    Column("allow", lambda row: str(row["allow_entries"]), right=True),
    Column("deny", lambda row: str(row["deny_entries"]), right=True),
    Column("holds", lambda row: str(row["capacity"] or "?"), right=True),
    Column("notation", lambda row: row["notation"]),
    Column("radios", lambda row: spoken_bands(each or EVERY_RADIO for each in row["radios"])),
    Column("held by", lambda row: ", ".join(row["enforcers"]) or f"the page at {row['router'] or '?'}", shrinks=True),
)


@click.command()
@output_format
@pass_session
def ssids(session: Session, format_name: str | None) -> None:
    """The wireless networks, their modes and routers."""
    from scopion.operations.wifi.edit_networks import networks

    known = networks(session.site)
    rows = [
        row_of(each.network, SSID_KEYS, allow_entries=each.allowed, deny_entries=each.denied, enforcers=each.enforcers)
        for each in known
    ]
    show(rows, SSID_KEYS, SSID_COLUMNS, format_name)
    if not rows:
        session.note("No wireless network is known yet: scopion wifi allow or deny makes one.")
    for network in (each.network for each in known):
        if network.lists_of:
            session.note(f"{network.ssid!r} uses the lists of {network.lists_of!r}.")
        if network.only_until and network.only_until > session.site.clock.now():
            until = session.site.clock.local(network.only_until)
            session.note(f"{network.ssid!r} is for some devices only until {until:%a %H:%M}.")


@click.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkParam(), required=False)
@click.option("--lift", metavar="DEVICE", type=options.DeviceParam(), help="Take DEVICE off every deny list.")
@output_format
@pass_session
def entries(session: Session, ssid: str | None, lift: str | None, format_name: str | None) -> None:
    """The entries of a network, or all deny entries of the site."""
    from scopion.operations.wifi.edit_entries import entries as listed
    from scopion.operations.wifi.edit_entries import lift_refusals

    if lift is not None:
        if ssid is not None:
            raise click.UsageError("--lift is for all networks: scopion wifi drop SSID DEVICE is for one")
        name, told = lift_refusals(session.site, lift)
        session.note(f"{name} is on no deny list any more.")
        tell(session, told)
        return
    found = listed(session.site, ssid)
    rows = [_entry_row(session, each) for each in found]
    show(rows, ENTRY_KEYS, _entry_columns(session.site.clock, rows), format_name)
    if rows:
        session.note("")
    session.note(_entries_sentence(session, ssid, found))


def _entry_row(session: Session, each: ListedEntry) -> dict[str, Any]:
    vendor = session.site.vendors.of(each.macs[0]).name if each.macs else None
    judged = row_of(each, ("in_effect", "typed_in", "because", "name", "macs"))
    override = each.entry.override
    instead: dict[str, Any] = {"override": None, "override_until": None}
    if override is not None and session.site.clock.now() < override.until:
        instead = {"override": "on" if override.on else "off", "override_until": override.until}
    return row_of(each.entry, ENTRY_KEYS, vendor=vendor, ssid=each.network.ssid, **judged, **instead)


def _entry_columns(clock: Clock, rows: Sequence[Row]) -> list[Column]:
    """Return the columns: the network only if there are several, descriptions only if there are any."""

    def when(row: Row) -> str:
        said = [row["hours"].removeprefix("@") if row["hours"] else ""]
        said.append(f"until {on_clock(clock, row['until'])}" if row["until"] else "")
        usual = ", ".join(filter(None, said)) or ("paused" if row["paused"] else "always")
        if row["override"]:
            return f"{row['override']} until {on_clock(clock, row['override_until'])}, then {usual}"
        return usual

    title = "typed in" if rows and all(row["typed_in"] is not None for row in rows) else "in effect"
    columns = [
        Column("list", lambda row: row["list"], lambda row: "red" if row["list"] == "deny" else "green"),
        Column(title, _effect, lambda row: "dim" if row["because"] else ""),
        Column("name", lambda row: row["name"] or "–"),
        Column("MAC", lambda row: "\n".join(row["macs"])),
        Column("vendor", lambda row: row["vendor"] or "", shrinks=True, optional=2),
    ]
    if len({row["ssid"] for row in rows}) > 1:
        columns.append(Column("SSID", lambda row: row["ssid"]))
    columns.append(Column("when", when, shrinks=True))
    if any(row["description"] for row in rows):
        columns.append(Column("description", lambda row: row["description"] or "", shrinks=True))
    columns.append(Column("since", lambda row: on_clock(clock, row["since"], "%Y-%m-%d"), optional=1))
    return columns


def _effect(row: Row) -> str:
    if row["because"]:
        return f"no: {row['because']}"
    return "yes, as you said" if row["typed_in"] else "yes"


def _entries_sentence(session: Session, ssid: str | None, found: Sequence[ListedEntry]) -> str:
    from scopion.operations.wifi.edit_networks import networks

    known = networks(session.site)
    if ssid is None:
        effective = sum(each.in_effect is True for each in found)
        typed = sum(each.typed_in is True for each in found)
        also = f", {typed} typed in" if typed else ""
        denied = f"{counted(len(found), 'deny entry', 'deny entries')}, {effective or 'none'} in effect{also}."
        told = [denied if found else "No device is on a deny list of any network."]
        told += [
            f"{each.ssid!r} is in mode allow: all but its {counted(allowed, 'entry', 'entries')} are refused."
            for each, allowed in ((each.network, each.allowed) for each in known)
            if each.mode is ListMode.ALLOW
        ]
        return " ".join(told)
    network = next(each.network for each in known if each.ssid == ssid)
    macs = sum(len(each.macs) for each in found if not each.because)
    how = "typed in" if found and found[0].by_hand else "in effect"
    holds = f", the router holds {network.capacity}" if network.capacity else ""
    addresses = counted(macs, "address", "addresses")
    used = f": {addresses} {how}{holds}" if network.mode is not ListMode.OFF else ""
    return f"{counted(len(found), 'entry', 'entries')} on {ssid!r}, mode {network.mode}{used}."
