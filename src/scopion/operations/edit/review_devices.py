"""Goes through the new devices one by one: everything is saved at once, and can be undone.

There is no terminal in here: the caller shows the card, asks for a key, and calls the function of the key.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from scopion.model.device import Device, Standing
from scopion.model.errors import NotFound
from scopion.operations.devices.gather_card import Card, cards
from scopion.operations.devices.list_devices import devices
from scopion.operations.edit.edit_devices import Mark, label_device, mark_devices, same_devices
from scopion.operations.edit.undo_change import undo
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_entries import put_on_list
from scopion.operations.wifi.explain_effects import NetworkEffect
from scopion.roster.resolve import resolve
from scopion.roster.undo.record_changes import latest_changes
from scopion.roster.wifi.lists import ListMode


@dataclass(frozen=True, slots=True)
class ReviewStep:
    """A change that this review has made, and at which card."""

    change: int
    at: int
    says: str


class Review:
    """The devices to look at, the position among them, and what was done so far."""

    def __init__(self, site: Site, which: Sequence[str] = ()) -> None:
        self._site = site
        everybody = devices(site)
        today = site.clock.local(site.clock.now()).date()
        chosen = [resolve(everybody, text) for text in which] or [each for each in everybody if to_review(each, today)]
        # Present devices come first: a person can walk up to them.
        order = sorted(chosen, key=lambda device: (not device.present, device.first_seen, device.id))
        self._queue = [device.id for device in order]
        self._at = 0
        self._done: list[ReviewStep] = []
        self.card = self._card()

    @property
    def total(self) -> int:
        """Return how many devices there are to look at."""
        return len(self._queue)

    @property
    def which(self) -> list[str]:
        """Return the devices to look at, as other commands understand them."""
        known = {device.id: device for device in devices(self._site)}
        return [str((*known[number].macs, *known[number].addresses)[0]) for number in self._queue]

    @property
    def number(self) -> int:
        """Return the number of the shown device, from 1."""
        return self._at + 1

    @property
    def made(self) -> int:
        """Return how many changes were made and not taken back."""
        return len(self._done)

    @property
    def left(self) -> int:
        """Return how many devices of the queue are still to be looked at."""
        today = self._site.clock.local(self._site.clock.now()).date()
        known = {device.id: device for device in devices(self._site)}
        return sum(number in known and to_review(known[number], today) for number in self._queue)

    def mark(self, mark: Mark) -> None:
        """Give the device a standing, and go on. Raises ChangedMeanwhile."""
        mark_devices(self._site, [self._shown], mark)
        self._note()
        if mark.standing is not Standing.UNWANTED:
            self.skip()

    def describe(self, **texts: str) -> None:
        """Change its texts; the card stays. Raises ChangedMeanwhile, UsageError."""
        kind = texts.pop("kind", None)
        label_device(self._site, self._shown, texts.pop("label", None), essential=None, kind=kind, **texts)
        self._note()
        self.refresh()

    def deny(self, ssid: str) -> tuple[NetworkEffect, ...]:
        """Put it on a network's deny list. Returns what that means. Raises Refused."""
        subject = str(self._shown.macs[0]) if self._shown.macs else ""
        (done,) = put_on_list(self._site, [ssid], ListMode.DENY, [subject])
        self._note()
        return done.told

    def join(self, others: Sequence[Device]) -> None:
        """Join it with others, the oldest of which keeps its texts, and go on. Raises Refused, ChangedMeanwhile."""
        oldest_first = sorted((self._shown, *others), key=lambda device: (device.first_seen, device.id))
        _, joined = same_devices(self._site, oldest_first)
        self._note(joined)
        if joined.id == self._shown.id:
            self.refresh()
        else:
            self.skip()

    def skip(self) -> None:
        """Go on to the next device that is still to be looked at."""
        self._at += 1
        self.card = self._card()

    def undo(self) -> str:
        """Take back the latest change of this review, and go back to its card. Raises NotFound."""
        if not self._done:
            raise NotFound("nothing was changed in this review yet")
        step = self._done.pop()
        undo(self._site, step.change)
        self._at = step.at
        self.card = self._card()
        return step.says

    def refresh(self) -> None:
        """Look at the same device again."""
        self.card = self._card()

    @property
    def _shown(self) -> Device:
        assert self.card is not None
        return self.card.device

    def _note(self, device: Device | None = None) -> None:
        change = latest_changes(self._site.roster, 1, device=(device or self._shown).id)
        if change and change[0].id not in [step.change for step in self._done]:
            self._done.append(ReviewStep(change[0].id, self._at, change[0].says))

    def _card(self) -> Card | None:
        """Return the card at the position; joined or forgotten devices are skipped. None at the end."""
        everybody = devices(self._site)
        known = {device.id: device for device in everybody}
        while self._at < len(self._queue):
            device = known.get(self._queue[self._at])
            if device is not None:
                return cards(self._site, everybody, [device])[0]
            self._at += 1
        return None


def to_review(device: Device, today: date) -> bool:
    """Tell whether a person should look at a device: a new one, or a guest whose time is over."""
    ended = device.standing is Standing.GUEST and device.guest_until is not None and device.guest_until < today
    return device.standing is Standing.NEW or ended
