"""A device's card in a terminal: sentences and small blocks, shared by ``scopion show`` and ``scopion review``."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, timedelta
from typing import TYPE_CHECKING

from scopion.alerts.phrases import article
from scopion.cli.parts.device_rows import medium_words
from scopion.cli.parts.output import spoken_ago
from scopion.cli.parts.terminal import style
from scopion.discovery.modules import built_into
from scopion.model.clock import Clock, spoken_span
from scopion.model.device import NAME_ORDER, NEVER
from scopion.model.mac import Notation
from scopion.model.observation import TraitKind
from scopion.model.text import closed, counted, joined, spoken_size
from scopion.operations.devices.identify_device import YOU_SAID
from scopion.operations.devices.rhythm import DayMark, Rhythm

if TYPE_CHECKING:
    from scopion.operations.devices.gather_card import Card
    from scopion.vendors.registry import Vendors

_DAY_SIGNS = {DayMark.HERE: "█", DayMark.AWAY: "·", DayMark.NOT_LOOKED: "?", DayMark.NOT_KNOWN: " "}
_SHADES = "·░▒▓█"  # a share of days from none to all
_ASSOCIATIONS_SHOWN = 4
_REPORTED_LATELY = timedelta(hours=1)  # what was told of an association is believed for so long
_LEAST_DAYS = 14  # a shorter strip says little
# The notations that routers ask for, each once.
_NOTATIONS = (Notation.COLON, Notation.HYPHEN, Notation.DOT, Notation.BARE_UPPER)
_SAID = (TraitKind.MODEL, TraitKind.SERVICE, TraitKind.SOFTWARE, TraitKind.VENDOR_CLASS, TraitKind.PORT)
_SAID_WORDS = {
    TraitKind.MODEL: "model", TraitKind.SERVICE: "offers", TraitKind.SOFTWARE: "software",
    TraitKind.VENDOR_CLASS: "DHCP client", TraitKind.PORT: "open port",
}  # fmt: skip

# Kinds that do not name a thing by themselves.
_NOUNS = {"storage": "storage device"}


def what_it_is(card: Card) -> Iterator[str]:
    """Yield sentences: kind with evidence, vendor with place, owner."""
    device = card.device
    if device.own:
        yield f"{style('This is the machine in front of you.', bold=True)}"
    if device.gateway:
        yield "It is the gateway of the subnet."
    if device.gateway_in:
        yield f"It is the gateway of a subnet in {joined(list(device.gateway_in))}."
    if card.guess.kind:
        kind = _NOUNS.get(card.guess.kind, card.guess.kind)
        sure = "It is" if card.guess.evidence == YOU_SAID else "Probably"
        yield f"{sure} {article(kind)} {kind} ({card.guess.evidence})."
    makers = dict.fromkeys(
        f"{vendor.name}{f', {vendor.place}' if vendor.place else ''}"
        for mac, vendor in card.vendors.items()
        if not mac.is_private
    )
    if makers:
        yield f"Made by {joined(list(makers), 'or')}."
    for mac, vendor in card.vendors.items():
        if not mac.is_private and (things := built_into(vendor.name)):
            yield f"Its parts are built into {things}: this maker tells little about what it is."
            break
    texts = (("Owner", device.owner), ("Place", device.place), ("Note", device.note))
    whose = [f"{title}: {closed(text)}" for title, text in texts if text]
    if whose:
        yield " ".join(whose)


def days_strip(rhythm: Rhythm, today: date) -> list[str]:
    """Return the last thirty days, week by week, with a legend of the signs."""
    unknown = next((at for at, (_, mark) in enumerate(rhythm.days) if mark is not DayMark.NOT_KNOWN), 0)
    days = rhythm.days[min(unknown, len(rhythm.days) - _LEAST_DAYS) :]
    cells = ""
    for day, mark in days:
        cells += f" {_DAY_SIGNS[mark]}" if day.weekday() == 0 and cells else _DAY_SIGNS[mark]
    ends = f"{days[0][0]:%d %b}{' ' * max(1, len(cells) - 11)}today"
    signs = {mark for _, mark in rhythm.days}
    words = {DayMark.HERE: "here", DayMark.AWAY: "not here", DayMark.NOT_LOOKED: "no scan"}
    legend = [f"{_DAY_SIGNS[mark]} {text}" for mark, text in words.items() if mark in signs]
    shown = sum(mark is not DayMark.NOT_KNOWN for _, mark in rhythm.days)
    counts = f"here on {rhythm.days_here} of {counted(shown, 'day')}"
    return [f"{cells}   {counts}", style(f"{ends}   {'   '.join(legend)}", dim=True)]


def hours_strip(rhythm: Rhythm) -> list[str]:
    """Return the usual hours of such a day above those of today."""
    lines = []
    width = max(len(f"usual {rhythm.usual_days}"), 5) if rhythm.usual_hours else 5
    if rhythm.usual_hours:
        shades = "".join(_SHADES[round(share * (len(_SHADES) - 1))] for share in rhythm.usual_hours)
        lines.append(f"{f'usual {rhythm.usual_days}'.ljust(width)}  {shades}")
    cells = "".join(" " if here is None else "█" if here else "·" for here in rhythm.today)
    lines.append(f"{'today'.ljust(width)}  {cells}")
    lines.append(style(f"{' ' * width}  0     6     12    18   24 o'clock", dim=True))
    if rhythm.sentence:
        plain = {"seldom": "Seldom here.", "always": "Always here."}
        lines.append(plain.get(rhythm.sentence, f"Usually here {rhythm.sentence}."))
    return lines


def seen_lines(card: Card, clock: Clock) -> list[str]:
    """Return since when it is known, and whether it is here."""
    device = card.device
    now = clock.now()
    first = f"{clock.local(device.first_seen):%a %Y-%m-%d %H:%M}"
    here = "here now" if device.present else "never seen here" if device.last_seen == NEVER else ""
    here = here or f"last seen {spoken_ago(device.last_seen, now)}"
    if device.last_seen == NEVER:
        return [f"known from records since {first}; {here}"]
    return [f"first seen {first}, {spoken_span(now - device.first_seen)} ago; {here}"]


def spot_lines(card: Card, clock: Clock) -> list[str]:
    """Return where each adapter is: its socket and port, or its access point with the signal."""
    lines = []
    for spot in card.spots:
        signal = f", signal {spot.strength} ({spot.signal} dBm)" if spot.signal is not None else ""
        by = f" ({spot.mac})" if len(card.device.macs) > 1 else ""
        lines.append(f"{spot.at_length}{signal}, since {clock.local(spot.since):%a %Y-%m-%d %H:%M}{by}")
    return lines


def association_lines(card: Card, clock: Clock) -> list[str]:
    """Return the latest associations with access points, and what was sent in the last days."""
    lines = []
    for each in reversed(card.associated[-_ASSOCIATIONS_SHOWN:]):
        since, until = clock.local(each.since), clock.local(each.until)
        last = f"{until:%H:%M}" if until.date() == since.date() else f"{until:%a %Y-%m-%d %H:%M}"
        if each.present:
            last = "now" if clock.now() - each.until < _REPORTED_LATELY else f"{last} at least"
        size = spoken_size(each.received + each.sent)
        lines.append(f"{since:%a %Y-%m-%d %H:%M} to {last}  {each.access_point}, {each.ssid}: {size}")
    if len(card.associated) > 1:
        whole = spoken_size(sum(each.received + each.sent for each in card.associated))
        lines.append(f"{counted(len(card.associated), 'association')} in the last 30 days, {whole} together")
    return lines


def address_lines(card: Card, clock: Clock, limit: int) -> list[str]:
    """Return where it is and was, the latest first."""
    several = len(card.device.macs) > 1
    width = max((len(str(past.address)) for past in card.addresses[:limit]), default=0)
    lines = []
    for past in card.addresses[:limit]:
        since = f"{clock.local(past.stay.since):%Y-%m-%d %H:%M}"
        until = "now" if past.stay.present else f"{clock.local(past.stay.until):%Y-%m-%d %H:%M}"
        stays = "" if past.stays < 2 else ", seen twice" if past.stays == 2 else f", seen {past.stays} times"
        by = f"  by {past.mac}" if several and past.mac else ""
        by += f"  in {past.stay.place}" if past.stay.place else ""
        told = f" ({', '.join(past.sources)})" if past.sources else ""
        when = f"{since} to {until}" if past.stay.dated else "when is not known"
        text = f"{str(past.address).ljust(width)}  {when}{told}{stays}{by}"
        lines.append(text if past.stay.present else style(text, dim=True))
    more = len(card.addresses) - limit
    return [*lines, *([f"and {more} more"] if more > 0 else [])]


def name_lines(card: Card, clock: Clock) -> list[str]:
    """Return its names, with source and dates."""
    names = [known for known in card.device.traits if known.trait.kind is TraitKind.NAME]
    names.sort(key=lambda known: NAME_ORDER.index(known.trait.source))
    width = max((len(known.trait.value) for known in names), default=0)
    return [
        f"{known.trait.value.ljust(width)}  {known.trait.source}, {clock.local(known.first_seen):%Y-%m-%d} to "
        f"{clock.local(known.last_seen):%Y-%m-%d}"
        for known in names
    ]


def said_lines(card: Card) -> list[str]:
    """Return what else it announced about itself."""
    found = []
    for kind in _SAID:
        values = list(dict.fromkeys(known.trait.value for known in card.device.traits if known.trait.kind is kind))
        if values:
            found.append(f"{_SAID_WORDS[kind]}: {', '.join(values)}")
    return found


def adapter_lines(card: Card, clock: Clock) -> list[str]:
    """Return every adapter with its medium, and its MAC as routers ask for it."""
    lines = []
    for adapter in card.device.adapters:
        vendor = card.vendors[adapter.mac]
        state = "here" if adapter.present else f"last seen {clock.local(adapter.last_seen):%Y-%m-%d %H:%M}"
        state = "never seen" if adapter.last_seen == NEVER else state
        medium = medium_words(adapter, card.guess)
        medium = "medium not known" if medium == "unknown" else medium
        lines.append(f"{'   '.join(adapter.mac.written(notation) for notation in _NOTATIONS)}")
        lines.append(style(f"{medium}; {vendor.name.strip('()')}; {state}", dim=True))
    return lines


def private_lines(card: Card) -> list[str]:
    """Return what it does with made-up addresses, and what to do about that."""
    lines = []
    for each in card.private:
        lines.append(f"{each.mac} is a private address, {each.habit}: {each.why}")
    if any(each.advice for each in card.private):
        lines.append(style(f"For a list: {next(each.advice for each in card.private if each.advice)}.", fg="yellow"))
    return lines


def look_alike_lines(card: Card, vendors: Vendors) -> list[str]:
    """Return which devices it may be the same as, with how sure that is and why."""
    lines = []
    for proposal, other in card.look_alikes:
        macs = ", ".join(map(str, other.macs))
        lines.append(
            f"{style(proposal.words, bold=True)} ({proposal.confidence:.0%}) the same as "
            f"{style(other.called, bold=True)}{f' ({macs})' if macs != other.called else ''}"
        )
        lines += [style(f"  {each}", dim=True) for each in proposal.evidence]
    return lines
