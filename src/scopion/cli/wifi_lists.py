"""The lists of wireless networks: who is on them, on what terms, and what a network does with them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any, TypeVar

import click

from scopion.cli import options
from scopion.cli.output import iso, output_format, show
from scopion.cli.session import Session, pass_session, shell_word
from scopion.cli.table import Column
from scopion.cli.wifi_network import ask_settings, network_settings, said_of, settings_of
from scopion.model.text import counted, joined
from scopion.roster.lists import ListMode

if TYPE_CHECKING:
    from scopion.operations.wifi import Listed, ListedEntry, Terms

Command = TypeVar("Command", bound=Callable[..., Any])
ENTRY_KEYS = (
    "list", "in_effect", "name", "macs", "vendor", "ssid", "hours", "until", "paused", "description", "since", "who",
)  # fmt: skip
ENTRY_COLUMNS = (
    Column("list", lambda row: row["list"], lambda row: "red" if row["list"] == "deny" else "green"),
    Column("in effect", lambda row: "yes" if row["in_effect"] else "no", lambda row: "" if row["in_effect"] else "dim"),
    Column("name", lambda row: row["name"] or "–"),
    Column("MAC", lambda row: "\n".join(row["macs"])),
    Column("vendor", lambda row: row["vendor"] or "", shrinks=True),
    Column("SSID", lambda row: row["ssid"]),
    Column("when", lambda row: _when(row), shrinks=True),
    Column("description", lambda row: row["description"] or "", shrinks=True),
    Column("since", lambda row: row["since"][:10]),
)
SSID_KEYS = (
    "ssid", "mode", "allow_entries", "deny_entries", "lists_of", "others_hours", "only_until", "capacity", "notation",
    "radios", "router",
)  # fmt: skip
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


@click.command()
@output_format
@pass_session
def ssids(session: Session, format_name: str | None) -> None:
    """The wireless networks, their modes and routers."""
    from scopion.operations.wifi_networks import networks

    known = networks(session.site)
    rows = [
        {
            "ssid": network.ssid,
            "mode": str(network.mode),
            "allow_entries": allowed,
            "deny_entries": denied,
            "lists_of": network.lists_of,
            "others_hours": network.others_hours or None,
            "only_until": iso(network.only_until) if network.only_until else None,
            "capacity": network.capacity,
            "notation": str(network.notation),
            "radios": list(network.radios),
            "router": network.router or None,
        }
        for network, allowed, denied in known
    ]
    show(rows, SSID_KEYS, SSID_COLUMNS, format_name)
    if not rows:
        session.note("No wireless network is known yet: scopion wifi allow or deny makes one.")
    for network, _, _ in known:
        if network.lists_of:
            session.note(f"{network.ssid!r} uses the lists of {network.lists_of!r}.")
        if network.only_until and network.only_until > session.site.clock.now():
            until = session.site.clock.local(network.only_until)
            session.note(f"{network.ssid!r} is for some devices only until {until:%a %H:%M}.")


@click.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkName(), required=False)
@click.option("--lift", metavar="DEVICE", type=options.DeviceName(), help="Take DEVICE off every deny list.")
@output_format
@pass_session
def entries(session: Session, ssid: str | None, lift: str | None, format_name: str | None) -> None:
    """The entries of a network, or all that is refused anywhere."""
    from scopion.operations.wifi import entries as listed
    from scopion.operations.wifi import lift_refusals

    if lift is not None:
        if ssid is not None:
            raise click.UsageError("--lift is for all networks: scopion wifi drop SSID DEVICE is for one")
        for network in lift_refusals(session.site, lift):
            session.note(f"{lift} is refused on {network.ssid!r} no more.")
            next_step(session, network.ssid)
        return
    found = listed(session.site, ssid)
    rows = [_entry_row(session, each) for each in found]
    show(rows, ENTRY_KEYS, ENTRY_COLUMNS, format_name)
    if rows:
        session.note("")
    session.note(_entries_sentence(session, ssid, found))


def terms(command: Command) -> Command:
    """The options that say on what terms devices are listed, and from where they are taken."""
    for decorate in (
        click.option("--also", "also", metavar="SSID", multiple=True, help="On this network, too."),
        click.option(
            "--from", "source", metavar="FILE", type=click.File("r", errors="replace"), help="MACs of a file."
        ),
        click.option("--associated", is_flag=True, help="Everybody who is associated with it now."),
        click.option(
            "--paused/--on", "paused", default=None, help="Keep the entry without effect, or put it on again."
        ),
        click.option("--until", metavar="WHEN", type=_End(end=True, ahead=True), help="It ends then: friday, never."),
        click.option("--for", "span", metavar="TIME", type=options.Span(), help="It ends after so long: 2h."),
        click.option(
            "--hours", metavar="HOURS", help="At these hours only: 'mon-fri 08:00-18:00', a timetable, always."
        ),
        click.option("--description", metavar="TEXT", default="", help="Why, or whose it is."),
    ):
        command = decorate(command)
    return command


class _End(options.Moment):
    """When an entry ends, or ``never``."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Read either."""
        return value if value == "never" else super().convert(value, param, ctx)


@click.command()
@options.ssid
@options.any_devices
@click.option("--all-known", is_flag=True, help="Everybody who is known or a guest, and not on cable.")
@terms
@network_settings
@options.insist
@pass_session
def allow(session: Session, /, ssid: str, devices: tuple[str, ...], **rest: Any) -> None:
    """Put devices on a network's allow list."""
    _list(session, ListMode.ALLOW, ssid, devices, **rest)


@click.command()
@options.ssid
@options.any_devices
@terms
@network_settings
@options.insist
@pass_session
def deny(session: Session, /, ssid: str, devices: tuple[str, ...], **rest: Any) -> None:
    """Put devices on a network's deny list."""
    _list(session, ListMode.DENY, ssid, devices, **rest)


@click.command()
@options.ssid
@options.some_devices
@options.insist
@pass_session
def drop(session: Session, ssid: str, devices: tuple[str, ...], insist: bool) -> None:
    """Take devices off a network's lists."""
    from scopion.operations.wifi import drop_from_lists

    names = drop_from_lists(session.site, ssid, devices, insist=insist)
    session.note(f"{joined(names)} {'is' if len(names) == 1 else 'are'} on no list of {ssid!r} any more.")
    next_step(session, ssid)


@click.command()
@options.ssid
@options.any_devices
@click.option("--for", "span", metavar="TIME", type=options.Span(), default="1h", show_default=True, help="So long.")
@click.option("--end", is_flag=True, help="Now for all again whom the lists admit.")
@options.insist
@pass_session
def only(session: Session, ssid: str, devices: tuple[str, ...], span: float, end: bool, insist: bool) -> None:
    """Give a network to some devices alone for a while."""
    from datetime import timedelta

    from scopion.operations.wifi_modes import end_exclusive, set_exclusive

    if end == bool(devices):
        raise click.UsageError("say whose the network is, or --end")
    if end:
        end_exclusive(session.site, ssid)
        session.note(f"{ssid!r} is for all again whom its lists admit.")
    else:
        names, until = set_exclusive(session.site, ssid, devices, timedelta(seconds=span), insist=insist)
        said = session.site.clock.local(until)
        session.note(f"Until {said:%A, %H:%M}, {ssid!r} is for {joined(names)} alone; then as before.")
    next_step(session, ssid)


@click.command()
@options.ssid
@click.argument("mode", type=click.Choice([str(each) for each in ListMode]), required=False)
@click.option("--lists-of", metavar="SSID", type=options.NetworkName(), help="Use that network's lists; '' its own.")
@click.option("--others-hours", metavar="HOURS", help="Who is on no list may associate then only; 'always' ends that.")
@network_settings
@options.insist
@pass_session
def mode(
    session: Session,
    /,
    ssid: str,
    mode: str | None,
    lists_of: str | None,
    others_hours: str | None,
    insist: bool,
    **settings: Any,
) -> None:
    """Say what the lists do: off, allow or deny.

    Says in a sentence what that means, for how many of those who are here. Without a mode, only the router's settings
    are changed.
    """
    from scopion.operations.wifi_modes import Lists, set_mode

    wish = Lists(ListMode(mode) if mode else None, lists_of, others_hours)
    network, sentence = set_mode(session.site, ssid, wish, settings_of(**settings), insist=insist)
    session.note(sentence)
    if network.mode is not ListMode.OFF or mode:
        next_step(session, ssid)


def _list(
    session: Session,
    which: ListMode,
    ssid: str,
    devices: Sequence[str],
    *,
    description: str,
    hours: str | None,
    span: float | None,
    until: datetime | str | None,
    paused: bool | None,
    also: Sequence[str],
    source: Any,
    associated: bool,
    insist: bool,
    all_known: bool = False,
    **settings: Any,
) -> None:
    from scopion.operations.wifi import Terms, put_on_list
    from scopion.operations.wifi_networks import is_known

    if span is not None and until is not None:
        raise click.UsageError("--for and --until both say when it ends: give one")
    chosen = _chosen(session, ssid, devices, source, associated, all_known)
    if session.can_ask and not (source or associated or all_known):
        _ask_media(session, chosen)
    ends = _after(session, span) if span is not None else until
    wanted = settings_of(**settings)
    if session.can_ask and not is_known(session.site, ssid):
        wanted = ask_settings(session.site, ssid, wanted)
    on = Terms(description, hours, ends, paused)
    for done in put_on_list(session.site, [ssid, *also], which, chosen, terms=on, settings=wanted, insist=insist):
        _tell(session, which, done, on)


def _tell(session: Session, which: ListMode, done: Listed, on: Terms) -> None:
    ssid = done.network.ssid
    if done.created:
        session.note(said_of(done.network))
    for caution in done.cautions:
        session.note(f"{click.style('Caution:', fg='yellow')} {caution}.")
    moved = f" ({joined(done.moved)} moved there from the other list)" if done.moved else ""
    verb = "is" if len(done.names) == 1 else "are"
    total = counted(len(done.lines), "entry", "entries")
    named = joined(done.names) if len(done.names) <= 6 else counted(len(done.names), "device")
    when = f" at {on.hours}" if on.hours and on.hours != "always" else ""
    if isinstance(on.until, datetime):
        when += f" until {session.site.clock.local(on.until):%a %Y-%m-%d %H:%M}"
    when += ", paused" if on.paused else ""
    session.note(f"{named} {verb} on the {which} list of {ssid!r}{when}{moved}: {total} in all.")
    if done.network.mode is which:
        next_step(session, ssid)
    else:
        step = f"scopion wifi mode {shell_word(ssid)} {which}"
        session.note(f"The mode of {ssid!r} is {done.network.mode}, so this has no effect yet: {step}")


def _chosen(
    session: Session, ssid: str, devices: Sequence[str], source: Any, associated: bool, all_known: bool
) -> list[str]:
    """Whom the options name, together; what of a file could not be read is said."""
    from scopion.operations import wifi as operations
    from scopion.wireless.mac_list import read_mac_list

    chosen = list(devices)
    if all_known:
        known, left = operations.all_known(session.site, ssid)
        chosen += known
        if left:
            session.note(f"Left out, for nobody knows whether they are on the air: {joined(left)}.")
    if associated:
        chosen += operations.associated(session.site, ssid)
    if source is not None:
        read = read_mac_list(source)
        if read.unread:
            more = f" and {len(read.unread) - 3} more" if len(read.unread) > 3 else ""
            session.note(f"Not read as MAC addresses: {', '.join(read.unread[:3])}{more}.")
        if read.repeated:
            session.note(f"{counted(read.repeated, 'line')} repeat an address.")
        if not read.found:
            raise click.UsageError(f"{source.name} holds no MAC address")
        chosen += [str(mac) for mac in read.found]
    if not chosen:
        raise click.UsageError("say which devices: by name, --all-known, --associated or --from FILE")
    return chosen


def _ask_media(session: Session, chosen: Sequence[str]) -> None:
    """Ask about adapters of which nobody knows whether they are wireless: the cable card's MAC is the usual mistake."""
    from scopion.model.observation import Medium
    from scopion.operations.wifi import say_media, unknown_media

    said = {}
    for device, mac in unknown_media(session.site, chosen):
        whose = f" of {device.called}" if device.called != str(mac) else ""
        answer = click.prompt(
            f"Is {mac}{whose} its wireless adapter? (yes, no: cable, ?: not known)",
            "?",
            type=click.Choice(["yes", "no", "?"]),
            show_choices=False,
            err=True,
        )
        if answer != "?":
            said[mac] = Medium.WIRELESS if answer == "yes" else Medium.CABLE
    if said:
        say_media(session.site, said)


def _after(session: Session, span: float) -> datetime:
    from datetime import timedelta

    return session.site.clock.now() + timedelta(seconds=span)


def _entry_row(session: Session, each: ListedEntry) -> dict[str, Any]:
    return {
        "list": str(each.entry.list),
        "in_effect": each.in_effect,
        "name": each.name or None,
        "macs": [str(mac) for mac in each.macs],
        "vendor": session.site.vendors.of(each.macs[0]).name if each.macs else None,
        "ssid": each.network.ssid,
        "hours": each.entry.hours or None,
        "until": iso(each.entry.until) if each.entry.until else None,
        "paused": each.entry.paused,
        "description": each.entry.description or None,
        "since": iso(each.entry.since),
        "who": each.entry.who or None,
    }


def _when(row: dict[str, Any]) -> str:
    """When an entry holds, in short."""
    said = [row["hours"].removeprefix("@") if row["hours"] else ""]
    said.append(f"until {row['until'][:16].replace('T', ' ')}" if row["until"] else "")
    said.append("paused" if row["paused"] else "")
    return ", ".join(filter(None, said)) or "always"


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


def next_step(session: Session, ssid: str) -> None:
    """What has to be done before a change of lists has an effect."""
    from scopion.operations.enforcing import has_enforcer

    if has_enforcer(session.site, ssid):
        session.note(f"Nothing has been sent yet. What would change: scopion wifi preview {shell_word(ssid)}")
    else:
        session.note(f"Nothing has been sent to the router. To type it in: scopion wifi sheet {shell_word(ssid)}")
