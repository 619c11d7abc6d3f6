"""``scopion wifi``: wireless allow and deny lists."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from scopion.cli import options
from scopion.cli.output import iso, output_format, show
from scopion.cli.session import Session, pass_session, shell_word
from scopion.cli.table import Column
from scopion.cli.wifi_network import ask_settings, network_settings, said_of, settings_of
from scopion.model.text import counted, joined
from scopion.roster.lists import ListMode

if TYPE_CHECKING:
    from scopion.operations.wifi import ListedEntry

ENTRY_KEYS = ("list", "in_effect", "name", "macs", "vendor", "ssid", "description", "since")
ENTRY_COLUMNS = (
    Column("list", lambda row: row["list"], lambda row: "red" if row["list"] == "deny" else "green"),
    Column("in effect", lambda row: "yes" if row["in_effect"] else "no", lambda row: "" if row["in_effect"] else "dim"),
    Column("name", lambda row: row["name"] or "–"),
    Column("MAC", lambda row: "\n".join(row["macs"])),
    Column("vendor", lambda row: row["vendor"] or "", shrinks=True),
    Column("SSID", lambda row: row["ssid"]),
    Column("description", lambda row: row["description"] or "", shrinks=True),
    Column("since", lambda row: row["since"][:10]),
)
SSID_KEYS = ("ssid", "mode", "allow_entries", "deny_entries", "capacity", "notation", "radios", "router")
SSID_COLUMNS = (
    Column("SSID", lambda row: row["ssid"], lambda _: "bold", shrinks=True),
    Column("mode", lambda row: row["mode"], lambda row: "" if row["mode"] == "off" else "bold"),
    Column("allow", lambda row: str(row["allow_entries"]), right=True),
    Column("deny", lambda row: str(row["deny_entries"]), right=True),
    Column("holds", lambda row: str(row["capacity"] or "?"), right=True),
    Column("notation", lambda row: row["notation"]),
    Column("radios", lambda row: " ".join(row["radios"]) + " GHz"),
    Column("router", lambda row: row["router"] or "?"),
)


class InOrder(click.Group):
    """Lists its commands in the order of the work, as they stand in this file."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names in the order of their definition."""
        return list(self.commands)


@click.group(cls=InOrder, no_args_is_help=True)
def wifi() -> None:
    """Allow and deny lists, and the sheet to type them in.

    Each network (SSID) has a mode - off, allow: only the listed may associate, deny: all but the listed - and
    entries. The first allow or deny makes the network. A list is a convenience, not a lock: encryption and a changed
    passphrase are.
    """


@wifi.command()
@output_format
@pass_session
def ssids(session: Session, format_name: str | None) -> None:
    """The wireless networks, their modes and routers."""
    from scopion.operations.wifi_networks import networks

    rows = [
        {
            "ssid": network.ssid,
            "mode": str(network.mode),
            "allow_entries": allowed,
            "deny_entries": denied,
            "capacity": network.capacity,
            "notation": str(network.notation),
            "radios": list(network.radios),
            "router": network.router or None,
        }
        for network, allowed, denied in networks(session.site)
    ]
    show(rows, SSID_KEYS, SSID_COLUMNS, format_name)
    if not rows:
        session.note("No wireless network is known yet: scopion wifi allow or deny makes one.")


@wifi.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkName(), required=False)
@output_format
@pass_session
def entries(session: Session, ssid: str | None, format_name: str | None) -> None:
    """The entries of a network, or all that is refused anywhere."""
    from scopion.operations.wifi import entries as listed

    found = listed(session.site, ssid)
    rows = [_entry_row(session, each) for each in found]
    show(rows, ENTRY_KEYS, ENTRY_COLUMNS, format_name)
    if rows:
        session.note("")
    session.note(_entries_sentence(session, ssid, found))


@wifi.command()
@options.ssid
@options.some_devices
@click.option("--description", metavar="TEXT", default="", help="Why, or whose it is.")
@network_settings
@options.insist
@pass_session
def allow(session: Session, /, ssid: str, devices: tuple[str, ...], **rest: Any) -> None:
    """Put devices on a network's allow list."""
    _list(session, ListMode.ALLOW, ssid, devices, **rest)


@wifi.command()
@options.ssid
@options.some_devices
@click.option("--description", metavar="TEXT", default="", help="Why, or whose it is.")
@network_settings
@options.insist
@pass_session
def deny(session: Session, /, ssid: str, devices: tuple[str, ...], **rest: Any) -> None:
    """Put devices on a network's deny list."""
    _list(session, ListMode.DENY, ssid, devices, **rest)


@wifi.command()
@options.ssid
@options.some_devices
@options.insist
@pass_session
def drop(session: Session, ssid: str, devices: tuple[str, ...], insist: bool) -> None:
    """Take devices off a network's lists."""
    from scopion.operations.wifi import drop_from_lists

    names = drop_from_lists(session.site, ssid, devices, insist=insist)
    session.note(f"{joined(names)} {'is' if len(names) == 1 else 'are'} on no list of {ssid!r} any more.")
    _next(session, ssid)


@wifi.command()
@options.ssid
@click.argument("mode", type=click.Choice([str(each) for each in ListMode]), required=False)
@network_settings
@options.insist
@pass_session
def mode(session: Session, /, ssid: str, mode: str | None, insist: bool, **settings: Any) -> None:
    """Say what the lists do: off, allow or deny.

    Without a mode, only the router's settings are changed.
    """
    from scopion.operations.wifi import set_mode

    chosen = ListMode(mode) if mode else None
    network, sentence = set_mode(session.site, ssid, chosen, settings_of(**settings), insist=insist)
    session.note(sentence)
    if network.mode is not ListMode.OFF or mode:
        _next(session, ssid)


@wifi.command()
@options.ssid
@pass_session
def sheet(session: Session, ssid: str) -> None:
    """Numbered steps to type a list into the router's web page."""
    from scopion.operations.wifi import make_sheet

    click.echo(make_sheet(session.site, ssid), nl=False)


def _list(
    session: Session,
    which: ListMode,
    ssid: str,
    devices: Sequence[str],
    *,
    description: str,
    insist: bool,
    **settings: Any,
) -> None:
    from scopion.operations.wifi import put_on_list
    from scopion.operations.wifi_networks import is_known

    chosen = settings_of(**settings)
    if session.can_ask and not is_known(session.site, ssid):
        chosen = ask_settings(session.site, ssid, chosen)
    done = put_on_list(session.site, ssid, which, devices, description=description, settings=chosen, insist=insist)
    if done.created:
        session.note(said_of(done.network))
    for caution in done.cautions:
        session.note(f"{click.style('Caution:', fg='yellow')} {caution}.")
    moved = f" ({joined(done.moved)} moved there from the other list)" if done.moved else ""
    verb = "is" if len(done.names) == 1 else "are"
    total = counted(len(done.lines), "entry", "entries")
    session.note(f"{joined(done.names)} {verb} on the {which} list of {ssid!r}{moved}: {total} in all.")
    if done.network.mode is which:
        _next(session, ssid)
    else:
        step = f"scopion wifi mode {shell_word(ssid)} {which}"
        session.note(f"The mode of {ssid!r} is {done.network.mode}, so this has no effect yet: {step}")


def _entry_row(session: Session, each: ListedEntry) -> dict[str, Any]:
    return {
        "list": str(each.entry.list),
        "in_effect": each.in_effect,
        "name": each.name or None,
        "macs": [str(mac) for mac in each.macs],
        "vendor": session.site.vendors.of(each.macs[0]).name if each.macs else None,
        "ssid": each.entry.ssid,
        "description": each.entry.description or None,
        "since": iso(each.entry.since),
    }


def _entries_sentence(session: Session, ssid: str | None, found: Sequence[ListedEntry]) -> str:
    from scopion.operations.wifi_networks import networks

    known = networks(session.site)
    if ssid is None:
        effective = sum(each.in_effect for each in found)
        denied = f"{counted(len(found), 'deny entry', 'deny entries')}, {effective or 'none'} in effect."
        told = [denied if found else "Nobody is on a deny list of any network."]
        told += [
            f"{each.ssid!r} is in mode allow: all but its {counted(allowed, 'entry', 'entries')} are refused."
            for each, allowed, _ in known
            if each.mode is ListMode.ALLOW
        ]
        return " ".join(told)
    network = next(each for each, _, _ in known if each.ssid == ssid)
    macs = sum(len(each.macs) for each in found if each.in_effect)
    holds = f", the router holds {network.capacity}" if network.capacity else ""
    addresses = counted(macs, "address", "addresses")
    used = f": {addresses} in effect{holds}" if network.mode is not ListMode.OFF else ""
    return f"{counted(len(found), 'entry', 'entries')} on {ssid!r}, mode {network.mode}{used}."


def _next(session: Session, ssid: str) -> None:
    session.note(f"Nothing has been sent to the router. To type it in: scopion wifi sheet {shell_word(ssid)}")
