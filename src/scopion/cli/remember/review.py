"""``scopion review``."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Iterator
from pathlib import Path

import click

from scopion.cli.parts import card_blocks, card_frame, options
from scopion.cli.parts.session import Session, pass_session, shell_word
from scopion.cli.parts.terminal import echo, prompt, style
from scopion.cli.remember.take_over import TakeOver, take_over_file
from scopion.cli.wifi.network_settings import tell
from scopion.model.device import Standing
from scopion.model.errors import NotFound, ScopionError
from scopion.model.moments import parse_day
from scopion.model.text import counted, joined
from scopion.operations.devices.gather_card import Card
from scopion.operations.edit.edit_devices import Mark
from scopion.operations.edit.review_devices import Review
from scopion.operations.exchange.exchange_devices import export, write
from scopion.operations.exchange.read_input import read_input
from scopion.operations.wifi.edit_networks import networks
from scopion.wireless.coverage import covered_adapters
from scopion.wireless.find_on_device import where_to_find

KEYS = (
    ("k", "known"), ("g", "guest"), ("x", "unwanted"), ("s", "skip"), ("u", "undo"), ("q", "leave"),
    ("l", "label"), ("o", "owner"), ("p", "place"), ("n", "note"), ("w", "what it is"),
    ("j", "join with a look-alike"),
)  # fmt: skip
_FIRST_LINE = 6  # keys that end a card; the others describe the device
_TEXTS = {"l": "label", "o": "owner", "p": "place", "n": "note", "w": "kind"}
_WIDTH = 78
_ADDRESSES_SHOWN = 3
_CTRL_C, _CTRL_D = "\x03", "\x04"


@click.command()
@click.argument("devices", metavar="[DEVICE]...", type=options.DeviceParam(), nargs=-1)
@click.option("--together", is_flag=True, help="All that are here in one list, and one question; the rest one by one.")
@click.option("--csv", "path", metavar="FILE", help="Write them to a new FILE; read back one that is filled in.")
@click.option("--yes", is_flag=True, help="Do not ask before what was filled in is taken over.")
@pass_session
def review(session: Session, devices: tuple[str, ...], together: bool, path: str | None, yes: bool) -> None:
    """Review the new devices, one by one.

    It shows one card at a time, and a key decides. Every decision is saved at once, and u takes back the latest one.
    Guests whose time is over are included. On a first evening --together marks all known but those that you name. With
    --csv, FILE is written if it does not exist: fill in its columns standing, label, owner, place and note in a
    spreadsheet, and run the same command again to take it over.
    """
    if path is not None:
        _review_by_file(session, path, devices, yes=yes)
        return
    if not session.can_ask:
        raise click.UsageError(
            "review asks a person at a terminal, and there is none: scopion mark --all-present known marks all at "
            "once, scopion review --csv FILE asks in a spreadsheet"
        )
    if together:
        from scopion.cli.remember.review_together import review_together

        if devices:
            raise click.UsageError("--together is about all new devices that are here: give it without DEVICE")
        devices = tuple(review_together(session))
        if not devices:
            return
    reviewed = Review(session.site, devices)
    if not reviewed.total:
        session.note("No new devices: all have been reviewed.")
        return
    _go_through(session, reviewed)
    session.note(f"{counted(reviewed.made, 'change')} saved; {counted(reviewed.left, 'device')} left to look at.")


def _go_through(session: Session, reviewed: Review) -> None:
    shown = None
    while (card := reviewed.card) is not None:
        if card is not shown:
            echo("\n".join(_lines(session, card, reviewed)), err=True)
            shown = card
        try:
            key = _key()
            if key == "q":
                return
            _done(session, reviewed, key)
        except ScopionError as error:
            echo(f"{style('Not done:', fg='yellow')} {error}", err=True)
            reviewed.refresh()


def _key() -> str:
    """Return one key; the usual keys for leaving a program leave this one."""
    echo(f"\n{_keys_line()} ", err=True, nl=False)
    try:
        key = click.getchar()
    except (KeyboardInterrupt, EOFError):
        key = "q"
    key = "q" if key in (_CTRL_C, _CTRL_D, "\x1b", "") else key.casefold()
    word = dict(KEYS).get(key)
    echo(style(word or "", bold=True), err=True)
    return key


def _keys_line() -> str:
    words = [f"{style(key, bold=True, fg='green')} {word}" for key, word in KEYS]
    return f"{'  '.join(words[:_FIRST_LINE])}\n{'  '.join(words[_FIRST_LINE:])} {style('>', dim=True)}"


def _done(session: Session, reviewed: Review, key: str) -> None:
    """Do what a key means."""
    actions: dict[str, Callable[[], None]] = {
        "k": lambda: _known(reviewed),
        "g": lambda: _guest(session, reviewed),
        "x": lambda: _unwanted(session, reviewed),
        "j": lambda: _join(reviewed),
        "s": reviewed.skip,
        "u": lambda: echo(f"Taken back: {reviewed.undo()}.", err=True),
    }
    if key in _TEXTS:
        _describe(reviewed, _TEXTS[key])
    elif key in actions:
        actions[key]()
    else:
        echo(f"Press one of {', '.join(key for key, _ in KEYS)}.", err=True)


def _known(reviewed: Review) -> None:
    reviewed.mark(Mark(Standing.KNOWN))


def _guest(session: Session, reviewed: Review) -> None:
    text = _asked("Guest until (friday, 2 weeks, 2026-12-31; empty: no end)")
    try:
        until = parse_day(text, session.site.clock) if text else None
    except ValueError as error:
        echo(f"{style('Not done:', fg='yellow')} {error}", err=True)
        return
    reviewed.mark(Mark(Standing.GUEST, until))


def _unwanted(session: Session, reviewed: Review) -> None:
    reviewed.mark(Mark(Standing.UNWANTED, because=_asked("Unwanted because (may be empty)")))
    ssids = [each.ssid for each in networks(session.site)]
    known = f" ({', '.join(ssids)}; empty: on none)" if ssids else " (its name; empty: on none)"
    ssid = _asked(f"Deny it on which wireless network?{known}")
    try:
        if ssid:
            told = reviewed.deny(ssid)
            echo(f"It is on the deny list of {ssid!r}.", err=True)
            tell(session, told)
    finally:
        reviewed.skip()


def _describe(reviewed: Review, what: str) -> None:
    asks = "What is it, as printer or phone" if what == "kind" else what.capitalize()
    text = _asked(f"{asks} (empty: as it is)")
    if text:
        reviewed.describe(**{what: text})


def _join(reviewed: Review) -> None:
    assert reviewed.card is not None
    others = [other for _, other in reviewed.card.look_alikes]
    family = reviewed.card.family
    if not others:
        echo("Nothing looks like it. Two devices that are one: scopion same DEVICE DEVICE.", err=True)
        return
    if len(others) == 1:
        choice = "1"
    else:
        listed = ", ".join(f"{number} {other.called}" for number, other in enumerate(others, 1))
        together = f"; a: all {len(family)} that may be one with it together" if len(family) > 1 else ""
        choice = _asked(f"The same as which? ({listed}{together}; empty: none)")
    picked = list(family) if choice == "a" else [o for number, o in enumerate(others, 1) if choice == str(number)]
    if picked:
        reviewed.join(picked)
        echo(f"The same as {joined([other.called for other in picked])}.", err=True)


def _asked(question: str) -> str:
    text: str = prompt(question, default="", show_default=False)
    return text.strip()


def _lines(session: Session, card: Card, reviewed: Review) -> Iterator[str]:
    clock = session.site.clock
    count = f" {reviewed.number} of {reviewed.total} "
    yield ""
    yield style(f"──{count}{'─' * (_WIDTH - len(count) - 2)}", dim=True)
    yield card_frame.heading(card.device)
    for line in card_blocks.what_it_is(card):
        yield f"  {line}"
    macs = [f"{adapter.mac}  {card.vendors[adapter.mac].name}" for adapter in card.device.adapters]
    names = list(dict.fromkeys(f"{name.value} ({name.source})" for name in card.device.host_names))
    today = clock.local(clock.now()).date()
    for title, lines in (
        ("MAC", macs),
        ("seen", card_blocks.seen_lines(card, clock)),
        ("days", card_blocks.days_strip(card.rhythm, today)),
        ("addresses", card_blocks.address_lines(card, clock, _ADDRESSES_SHOWN)),
        ("names", [joined(names)] if names else []),
        ("says", card_blocks.said_lines(card)),
        ("private", card_blocks.private_lines(card)),
        ("check it", _on_the_device(card)),
        ("look-alike", card_blocks.look_alike_lines(card, session.site.vendors)),
    ):
        yield from card_frame.block(title, lines)


def _on_the_device(card: Card) -> list[str]:
    """Return where the device itself shows its wireless address, if it may be on the air."""
    device = card.device
    if device.own or device.gateway or not covered_adapters(device):
        return []
    texts = where_to_find([card.guess.kind])[:1]
    return [style(line, dim=True) for text in texts for line in textwrap.wrap(text, _WIDTH - card_frame.INDENT)]


def _review_by_file(session: Session, path: str, devices: tuple[str, ...], *, yes: bool) -> None:
    """Write the sheet if it is not there, else show what was filled in and take it over."""
    if Path(path).exists():
        take_over_file(session, read_input(path), "csv", TakeOver(yes=yes))
        return

    chosen = devices or tuple(Review(session.site).which)
    if not chosen:
        raise NotFound("no new devices: all have been reviewed, there is nothing to fill in")
    exported = export(session.site, "csv", chosen)
    write(path, exported)
    session.note(
        f"{counted(exported.count, 'device')} written to {path}. Fill in the first columns (standing: known, guest, "
        f"unwanted), save it as CSV, then: scopion review --csv {shell_word(path)}"
    )
