"""Changes the lists of wireless networks: which devices are on them, on what terms, and what a
network does with them.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.flags import gathered, insist
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import confirm, prompt, style
from scopion.cli.wifi.network_settings import RouterOptions, ask_settings, network_settings, next_step, said_of, tell
from scopion.model.observation import Medium
from scopion.model.text import counted, joined, uncapitalised
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.find_on_device import where_to_find
from scopion.wireless.mac_list import read_mac_list

if TYPE_CHECKING:
    from scopion.operations.wifi.edit_entries import EntryChange, Terms


@dataclass(frozen=True, slots=True)
class EntryOptions:
    """The terms on which devices are listed, and where they are taken from."""

    description: str
    hours: str | None
    span: float | None  # seconds
    until: datetime | str | None
    paused: bool | None
    also: tuple[str, ...]  # more networks
    source: Any  # an open file
    associated: bool
    all_known: bool = False


def _listing(command: Callable[..., Any]) -> Callable[..., Any]:
    """Add the options of a command that puts devices on a list: on what terms, from where, and the network's own."""
    for decorate in (
        gathered("router", RouterOptions),
        gathered("entry", EntryOptions),
        pass_session,
        insist,
        click.option("--new", is_flag=True, help="Make the network, although a known one has nearly this name."),
        network_settings,
        click.option("--also", "also", metavar="SSID", multiple=True, help="Also on this network."),
        click.option(
            "--from",
            "source",
            metavar="FILE",
            type=click.File("r", errors="replace"),
            help="The MAC addresses in a file.",
        ),
        click.option("--associated", is_flag=True, help="All devices that are associated with it now."),
        click.option(
            "--paused/--on", "paused", default=None, help="Keep the entry without effect, or give it effect again."
        ),
        click.option(
            "--until", metavar="WHEN", type=_End(end=True, ahead=True), help="It ends at this moment: friday, never."
        ),
        click.option("--for", "span", metavar="TIME", type=options.SpanParam(), help="It ends after this time: 2h."),
        click.option(
            "--hours", metavar="HOURS", help="At these hours only: 'mon-fri 08:00-18:00', a timetable, always."
        ),
        click.option("--description", metavar="TEXT", default="", help="Why, or who owns it."),
    ):
        command = decorate(command)
    return command


class _End(options.MomentParam):
    """When an entry ends, or ``never``."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Read either."""
        return value if value == "never" else super().convert(value, param, ctx)


@click.command()
@options.ssid
@options.any_devices
@click.option("--all-known", is_flag=True, help="All devices that are known or guests, and not on cable.")
@_listing
def allow(session: Session, /, ssid: str, devices: tuple[str, ...], **rest: Any) -> None:
    """Put devices on a network's allow list."""
    _list(session, ListMode.ALLOW, ssid, devices, **rest)


@click.command()
@options.ssid
@options.any_devices
@_listing
def deny(session: Session, /, ssid: str, devices: tuple[str, ...], **rest: Any) -> None:
    """Put devices on a network's deny list."""
    _list(session, ListMode.DENY, ssid, devices, **rest)


@click.command()
@options.ssid
@options.some_devices
@insist
@pass_session
def drop(session: Session, ssid: str, devices: tuple[str, ...], insist: bool) -> None:
    """Take devices off a network's lists."""
    from scopion.operations.wifi.edit_entries import drop_from_lists

    names, told = drop_from_lists(session.site, ssid, devices, insist=insist)
    session.note(f"{joined(names)} {'is' if len(names) == 1 else 'are'} on no list of {ssid!r} any more.")
    tell(session, told)


@click.command()
@options.ssid
@options.any_devices
@click.option(
    "--for", "span", metavar="TIME", type=options.SpanParam(), default="1h", show_default=True, help="For this time."
)
@click.option("--end", is_flag=True, help="Open it again to every device that its lists admit.")
@insist
@pass_session
def only(session: Session, ssid: str, devices: tuple[str, ...], span: float, end: bool, insist: bool) -> None:
    """Give a network to some devices alone for a while."""
    from scopion.operations.wifi.set_modes import end_exclusive, set_exclusive

    if end == bool(devices):
        raise click.UsageError("name the devices that may use the network, or give --end")
    if end:
        end_exclusive(session.site, ssid)
        session.note(f"{ssid!r} is open again to every device that its lists admit.")
    else:
        names, until = set_exclusive(session.site, ssid, devices, timedelta(seconds=span), insist=insist)
        said = session.site.clock.local(until)
        session.note(f"Until {said:%A, %H:%M}, {ssid!r} is for {joined(names)} alone; then as before.")
    next_step(session, ssid)


@click.command()
@options.ssid
@click.argument("mode", type=options.one_of(ListMode), required=False)
@click.option(
    "--lists-of", metavar="SSID", type=options.NetworkParam(), help="Use this network's lists; '' for its own."
)
@click.option(
    "--others-hours", metavar="HOURS", help="Devices on no list may associate at these hours only; 'always' ends that."
)
@network_settings
@insist
@pass_session
@gathered("router", RouterOptions)
def mode(
    session: Session,
    /,
    ssid: str,
    mode: str | None,
    lists_of: str | None,
    others_hours: str | None,
    insist: bool,
    router: RouterOptions,
) -> None:
    """Set what a network's lists do: off, allow or deny.

    Prints what that means for the devices that are here. Without a mode, only the router's settings are changed.
    """
    from scopion.operations.wifi.set_modes import Lists, set_mode

    wish = Lists(ListMode(mode) if mode else None, lists_of, others_hours)
    network, sentence = set_mode(session.site, ssid, wish, router.settings(), insist=insist)
    session.note(sentence)
    if network.mode is not ListMode.OFF or mode:
        next_step(session, ssid)


def _list(
    session: Session,
    which: ListMode,
    ssid: str,
    devices: Sequence[str],
    *,
    entry: EntryOptions,
    router: RouterOptions,
    insist: bool,
    new: bool,
) -> None:
    from scopion.operations.wifi.edit_entries import Terms, put_on_list
    from scopion.operations.wifi.edit_networks import is_known

    if entry.span is not None and entry.until is not None:
        raise click.UsageError("--for and --until both say when it ends: give one")
    ssid = _meant(session, ssid) if not new else ssid
    chosen = _chosen(session, ssid, devices, entry)
    if session.can_ask and not (entry.source or entry.associated or entry.all_known):
        _ask_media(session, chosen)
    now = session.site.clock.now()
    ends = now + timedelta(seconds=entry.span) if entry.span is not None else entry.until
    wanted = router.settings()
    if session.can_ask and not is_known(session.site, ssid):
        wanted = ask_settings(session.site, ssid, wanted)
    on = Terms(entry.description, entry.hours, ends, entry.paused)
    for done in put_on_list(
        session.site,
        [ssid, *entry.also],
        which,
        chosen,
        terms=on,
        settings=wanted,
        insist=insist,
        new=new or session.can_ask,
    ):
        _tell(session, which, done, on)


def _meant(session: Session, ssid: str) -> str:
    """Return the network that is meant. An unknown SSID that is like a known one is asked about, if there is a
    terminal.
    """
    from scopion.operations.wifi.edit_networks import nearest

    near = nearest(session.site, ssid)
    if near is None or not session.can_ask:
        return ssid
    return near if confirm(f"No network {ssid!r} is known. Is {near!r} meant?", default=True) else ssid


def _tell(session: Session, which: ListMode, done: EntryChange, on: Terms) -> None:
    ssid = done.network.ssid
    if done.created:
        session.note(said_of(session.site, done.network))
    for caution in done.cautions:
        session.note(f"{style('Caution:', fg='yellow')} {caution}.")
    for where in where_to_find(done.in_doubt):
        session.note(f"To check the address: {uncapitalised(where)}")
    whose = "" if done.moved == done.names else f"{joined(done.moved)} "
    moved = f" ({whose}moved there from the other list)" if done.moved else ""
    verb = "is" if len(done.names) == 1 else "are"
    total = counted(done.entries, "entry", "entries")
    held_back = f", {done.paused if done.paused < done.entries else 'all'} of them paused" if done.paused else ""
    if done.entries == 1:
        held_back = ""  # the line on the device says it already
    named = joined(done.names) if len(done.names) <= 6 else counted(len(done.names), "device")
    when = f" at {on.hours}" if on.hours and on.hours != "always" else ""
    if isinstance(on.until, datetime):
        when += f" until {session.site.clock.local(on.until):%a %Y-%m-%d %H:%M}"
    when += ", paused" if on.paused else ""
    session.note(f"{named} {verb} on the {which} list of {ssid!r}{when}{moved}: {total} in all{held_back}.")
    tell(session, done.told)


def _chosen(session: Session, ssid: str, devices: Sequence[str], entry: EntryOptions) -> list[str]:
    """Return the devices that the options name, together; unreadable lines of a file are reported."""
    from scopion.operations.wifi import find_subjects as subjects

    chosen = list(devices)
    if entry.all_known:
        known, left = subjects.all_known(session.site, ssid)
        chosen += known
        if left:
            session.note(f"Left out, because it is not known whether they are on the air: {joined(left)}.")
    if entry.associated:
        chosen += subjects.associated(session.site, ssid)
    if entry.source is not None:
        read = read_mac_list(entry.source)
        if read.unread:
            more = f" and {len(read.unread) - 3} more" if len(read.unread) > 3 else ""
            session.note(f"Not read as MAC addresses: {', '.join(read.unread[:3])}{more}.")
        if read.repeated:
            session.note(f"{counted(read.repeated, 'line')} repeat an address.")
        if not read.found:
            raise click.UsageError(f"{entry.source.name} holds no MAC address")
        chosen += [str(mac) for mac in read.found]
    if not chosen:
        raise click.UsageError("say which devices: by name, --all-known, --associated or --from FILE")
    return chosen


def _ask_media(session: Session, chosen: Sequence[str]) -> None:
    """Ask once about all adapters of an unknown medium: listing the MAC of the cable card is the usual mistake."""
    from scopion.operations.wifi.edit_entries import say_media
    from scopion.operations.wifi.find_subjects import unknown_media

    unknown = unknown_media(session.site, chosen)
    if not unknown:
        return
    if len(unknown) == 1:
        ((device, mac),) = unknown
        whose = f" of {device.called}" if device.called != str(mac) else ""
        question = f"Is {mac}{whose} its wireless adapter? (yes, no: cable, ?: not known)"
        answer = prompt(question, "?", type=click.Choice(["yes", "no", "?"]), show_choices=False)
        wireless = {mac} if answer == "yes" else set()
    else:
        session.note("Of these it is not known whether they are wireless adapters:")
        for number, (device, mac) in enumerate(unknown, 1):
            whose = f"  {device.called}" if device.called != str(mac) else ""
            session.note(f"  {number:>2}  {mac}{whose}")
        question = "Which are wireless? (numbers, as 1 3; all; none: all are on cable; ?: not known)"
        answer = prompt(question, "?", value_proc=lambda text: _numbers_of(text, len(unknown)))
        wireless = {mac for number, (_, mac) in enumerate(unknown, 1) if number in answer} if answer != "?" else set()
    if answer != "?":
        say_media(
            session.site,
            {mac: Medium.WIRELESS if mac in wireless else Medium.CABLE for _, mac in unknown},
        )


def _numbers_of(text: str, most: int) -> set[int] | str:
    """Return the numbers that an answer names; ``?`` for one that says nothing. Raises UsageError to ask again."""
    word = text.strip().casefold()
    if word in ("?", ""):
        return "?"
    if word in ("all", "none"):
        return set(range(1, most + 1)) if word == "all" else set()
    parts = word.replace(",", " ").split()
    if not all(part.isdecimal() and 1 <= int(part) <= most for part in parts):
        raise click.UsageError(f"{text!r} are not numbers of 1 to {most}, all, none or ?")
    return set(map(int, parts))
