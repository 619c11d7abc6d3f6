"""What becomes of a device's entries when it is blocked or unblocked, by mode and terms, from what was there. Pure.

Where the allow list decides, a device is blocked by giving its entry no effect, else by an entry on the deny list. What
an entry says stays as far as it can, so that unblocking finds it again.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime

from scopion.model.week import WHOLE, Week
from scopion.roster.wifi.lists import EntryTerms, ListMode, Network, Override
from scopion.roster.wifi.timetables import week_of


@dataclass(frozen=True, slots=True)
class Listing:
    """On which lists of a network a device is, and on what terms; None: not on it."""

    allow: EntryTerms | None = None
    deny: EntryTerms | None = None


@dataclass(frozen=True, slots=True)
class BlockTerms:
    """How long a device is blocked or unblocked, and at which hours; None: from now on, at all hours."""

    now: datetime
    known: Mapping[str, Week]  # the named timetables
    until: datetime | None = None
    hours: Week | None = None
    description: str = ""


def mode_to_block(mode: ListMode) -> ListMode:
    """Return the mode in which a device can be blocked. An allow list is never switched on: it refuses all others."""
    return ListMode.DENY if mode is ListMode.OFF else mode


def blocked(was: Listing, network: Network, wish: BlockTerms) -> Listing:
    """Return where a device is listed once it is blocked on a network.

    What is refused for longer, or at more hours, than asked for stays so.
    """
    allow, deny = was.allow, was.deny
    if allow is not None and _allow_decides(network):  # on no allow list it is refused already
        allow = _without_effect(allow, wish)
    if network.mode is not ListMode.ALLOW:
        if deny is None:
            deny = EntryTerms(wish.description, _hours(wish.hours), wish.until)
        else:
            deny = _with_effect(_described(deny, wish), wish)
    return Listing(allow, deny)


def unblocked(was: Listing, network: Network, wish: BlockTerms) -> Listing:
    """Return where a device is listed once it is unblocked on a network."""
    allow, deny = was.allow, was.deny
    if deny is not None:
        deny = _without_effect(deny, wish)
        deny = None if deny.paused else deny
    if allow is None and network.mode is ListMode.ALLOW:
        allow = EntryTerms(wish.description, _hours(wish.hours), wish.until)
    elif allow is not None and _allow_decides(network):
        allow = _admitted(_described(allow, wish), wish)
    return Listing(allow, deny)


def _allow_decides(network: Network) -> bool:
    """Tell whether a network's allow list decides, now or at some hours."""
    return network.mode is ListMode.ALLOW or bool(network.others_hours)


def _described(terms: EntryTerms, wish: BlockTerms) -> EntryTerms:
    return replace(terms, description=wish.description or terms.description)


def _admitted(terms: EntryTerms, wish: BlockTerms) -> EntryTerms:
    """Return the terms of an allow entry that admits again; unless told otherwise, at its own hours."""
    if wish.hours is not None:
        return replace(terms, hours=_hours(wish.hours), until=None, paused=False, override=None)
    if wish.until is not None:
        return _with_effect(terms, wish)
    ended = terms.until is not None and terms.until <= wish.now
    return replace(terms, until=None if ended else terms.until, paused=False, override=None)


def _without_effect(terms: EntryTerms, wish: BlockTerms) -> EntryTerms:
    """Return the terms of an entry that loses its effect: for a while, at some hours, or until further notice."""
    if wish.hours is not None:
        left = (week_of(terms.hours, dict(wish.known)) or WHOLE) & ~wish.hours
        return replace(terms, hours=_hours(left), override=None) if left.ranges else _paused(terms)
    if wish.until is None or terms.paused:
        return _paused(terms)
    held = terms.override if terms.override is not None and not terms.override.on else None
    return replace(terms, override=Override(on=False, until=max(wish.until, held.until) if held else wish.until))


def _paused(terms: EntryTerms) -> EntryTerms:
    return replace(terms, paused=True, override=None)


def _with_effect(terms: EntryTerms, wish: BlockTerms) -> EntryTerms:
    """Return the terms of an entry that has its effect now: for a while, at some hours, or until further notice."""
    over = terms.until is not None and terms.until <= wish.now
    held_off = terms.override is not None and not terms.override.on and wish.now < terms.override.until
    whole = not terms.hours and not terms.paused and not over and not held_off
    if wish.hours is not None:
        return _at_hours(terms, wish, wish.hours, whole=whole, over=over)
    if wish.until is None:
        return replace(terms, hours="", until=None, paused=False, override=None)
    if whole and (terms.until is None or terms.until >= wish.until):
        return terms
    if not terms.hours and not terms.paused:
        return replace(terms, until=wish.until if terms.until is not None else None, override=None)
    return replace(terms, override=Override(on=True, until=wish.until))


def _at_hours(terms: EntryTerms, wish: BlockTerms, hours: Week, *, whole: bool, over: bool) -> EntryTerms:
    if whole and terms.until is None:
        return terms
    if whole and terms.until is not None:  # until its end at all hours, then at those
        return replace(terms, hours=_hours(hours), until=None, override=Override(on=True, until=terms.until))
    had = week_of(terms.hours, dict(wish.known)) if terms.hours and not terms.paused and not over else None
    together = had | hours if had is not None else hours
    return replace(terms, hours=_hours(together), until=None, paused=False, override=None)


def _hours(week: Week | None) -> str:
    """Return hours as an entry keeps them."""
    return "" if week is None or week.is_always else str(week)
