"""``scopion show``."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import card_blocks, card_frame, options
from scopion.cli.parts.device_rows import DEVICE_KEYS, device_row
from scopion.cli.parts.event_rows import event_row
from scopion.cli.parts.output import chosen_format, output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import echo
from scopion.model.band import at_band
from scopion.model.device import Adapter, Device, KnownTrait
from scopion.model.errors import InvalidSettings
from scopion.model.mac import Notation
from scopion.model.text import counted

if TYPE_CHECKING:
    from scopion.operations.devices.gather_card import Card, PastAddress
    from scopion.roster.look_alikes import LookAlike

_ADDRESSES_SHOWN = 8
ASSOCIATION_KEYS = ("mac", "ssid", "access_point", "since", "until", "present", "received", "sent")


@click.command("show")
@options.device
@output_format
@pass_session
def show_device(session: Session, device: str, format_name: str | None) -> None:
    """Everything that is known about one device.

    Its kind and the evidence for it, its owner, the days and hours when it is here, its addresses and names, its
    adapters with the MAC in the notations that routers ask for, its events and list entries.
    """
    from scopion.operations.devices.gather_card import card_of

    card = card_of(session.site, device)
    name = chosen_format(format_name)
    if format_name is None and name == "tsv":
        name = "table"  # people read a card in a pipe, too
    if name == "table":
        echo("\n".join(_lines(session, card)))
    else:
        row = device_row(card.described)
        show([row], DEVICE_KEYS, [], name, document={**row, **_more(card)})


def _lines(session: Session, card: Card) -> Iterator[str]:
    from scopion.alerts.news import sentence

    clock = session.site.clock
    yield card_frame.heading(card.device)
    for line in card_blocks.what_it_is(card):
        yield f"  {line}"
    yield ""
    today = clock.local(clock.now()).date()
    events = [
        f"{clock.local(event.at):%a %Y-%m-%d %H:%M}  {sentence(event, card.device, session.site.vendors, 'it')}"
        for event in reversed(card.events)
    ]
    changes = [
        f"{clock.local(each.at):%a %Y-%m-%d %H:%M}  {each.says}{' (taken back)' if each.undone else ''}"
        for each in card.changes
    ]
    entries = [
        f"{entry.list} list of {entry.ssid}{f': {entry.description}' if entry.description else ''}"
        for entry in card.entries
    ]
    for title, lines in (
        ("seen", card_blocks.seen_lines(card, clock)),
        ("days", card_blocks.days_strip(card.rhythm, today)),
        ("hours", card_blocks.hours_strip(card.rhythm)),
        ("adapters", card_blocks.adapter_lines(card, clock)),
        ("private", card_blocks.private_lines(card)),
        ("look-alike", card_blocks.look_alike_lines(card, session.site.vendors)),
        ("addresses", card_blocks.address_lines(card, clock, _ADDRESSES_SHOWN)),
        ("names", card_blocks.name_lines(card, clock)),
        ("says", card_blocks.said_lines(card)),
        ("is at", card_blocks.spot_lines(card, clock)),
        ("on the air", card_blocks.association_lines(card, clock)),
        ("lists", entries),
        ("refused", _refused(session, card)),
        ("events", events),
        ("changes", changes),
    ):
        yield from card_frame.block(title, lines)


def _refused(session: Session, card: Card) -> list[str]:
    """Return where it was turned away, and how often."""
    from scopion.operations.stations.list_attempts import attempts

    clock, macs = session.site.clock, card.device.macs
    try:
        found = attempts(session.site)
    except InvalidSettings:  # commands that need the settings say what is wrong with them
        return []
    return [
        f"{each.ssid}: {counted(each.attempt.times, 'time')}, last by {at_band(each.access_point, each.radio)}, "
        f"{clock.local(each.attempt.last):%a %Y-%m-%d %H:%M}{', outside its hours' if each.expected else ''}"
        for each in found
        if each.mac in macs
    ]


def _more(card: Card) -> dict[str, Any]:
    """Return what the card adds to a device's row."""
    return {
        "adapters": [_adapter(card, adapter) for adapter in card.device.adapters],
        "days": [{"day": day.isoformat(), "state": str(mark)} for day, mark in card.rhythm.days],
        "usual_days": card.rhythm.usual_days,
        "usual_hours": [round(share, 2) for share in card.rhythm.usual_hours],
        "today": list(card.rhythm.today),
        "usually": card.rhythm.sentence or None,
        "address_history": [_address(past) for past in card.addresses],
        "traits": [_trait(known) for known in card.device.traits],
        "private": [row_of(each, ("mac", "habit", "why")) for each in card.private],
        "look_alikes": [_look_alike(proposal, other) for proposal, other in card.look_alikes],
        "associations": [row_of(each, ASSOCIATION_KEYS) for each in card.associated],
        "entries": [row_of(entry, ("ssid", "list", "description")) for entry in card.entries],
        "events": [event_row(event) for event in card.events],
        "changes": [row_of(each, ("at", "says", "undone")) for each in card.changes],
    }


def _adapter(card: Card, adapter: Adapter) -> dict[str, Any]:
    keys = ("mac", "medium", "present", "first_seen", "last_seen", "vendor", "notations")
    notations = {str(each): adapter.mac.written(each) for each in Notation}
    return row_of(adapter, keys, vendor=card.vendors[adapter.mac].name, notations=notations)


def _address(past: PastAddress) -> dict[str, Any]:
    stay = row_of(past.stay, ("since", "until", "present"))
    return {**row_of(past, ("address", "mac")), **stay, **row_of(past, ("stays", "sources"))}


def _trait(known: KnownTrait) -> dict[str, Any]:
    return {**row_of(known.trait, ("kind", "value", "source")), **row_of(known, ("first_seen", "last_seen"))}


def _look_alike(proposal: LookAlike, other: Device) -> dict[str, Any]:
    whose = {"device": other.id, "name": other.called, **row_of(other, ("macs",))}
    return {**whose, **row_of(proposal, ("confidence", "evidence"))}
