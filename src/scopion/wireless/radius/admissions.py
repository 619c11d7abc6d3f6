"""What a published policy admits, and until when: worked out for a while ahead, because thousands may ask at once.

What it says at a moment is what ``wanted`` says for that moment; a property test holds this for all policies.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.model.mac import MacAddress
from scopion.model.week import Local
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.list_policy import ListPolicy, next_change, wanted

# A policy whose list changes more often than this within the longest session is looked at again after so many changes.
_MOST_SPANS = 64
# More devices than a network has; addresses that are made up push none out for long.
_MOST_SAID = 4_096


@dataclass(frozen=True, slots=True)
class Admission:
    """What a policy says of a device at a moment."""

    admitted: bool
    mode: ListMode  # of the list that is in force then
    until: datetime | None = None  # when that changes; None: not within the time that was looked at
    on_allow_list: bool = False  # by its entries, whatever the hour
    on_deny_list: bool = False


@dataclass(frozen=True, slots=True)
class _Span:
    begins: datetime
    mode: ListMode
    macs: frozenset[MacAddress]

    def admits(self, mac: MacAddress) -> bool:
        return self.mode is ListMode.OFF or (mac in self.macs) is (self.mode is ListMode.ALLOW)


class Admissions:
    """A policy, ready to be asked."""

    def __init__(self, policy: ListPolicy, local: Local, ahead: timedelta) -> None:
        """``ahead``: how far answers look into the future: the longest session."""
        self.policy, self._local, self._ahead = policy, local, ahead
        self._spans: list[_Span] = []
        self._good_until: datetime | None = None
        self._said: dict[MacAddress, Admission] = {}  # in the span of that number
        self._said_in = 0
        lines = {which: {rule.line.mac for rule in policy.rules if rule.list is which} for which in ListMode}
        self._allowed = lines[ListMode.ALLOW] | {line.mac for line in policy.only}
        self._denied = lines[ListMode.DENY]

    def of(self, mac: MacAddress, now: datetime) -> Admission:
        """Return what is said of a device; ``now`` may go back, as clocks do."""
        self._look_ahead(now)
        at = self._at(now)
        if at != self._said_in or len(self._said) > _MOST_SAID:
            self._said, self._said_in = {}, at
        if mac not in self._said:
            self._said[mac] = self._of(mac, at)
        return self._said[mac]

    def _of(self, mac: MacAddress, at: int) -> Admission:
        admitted = self._spans[at].admits(mac)
        until = next((each.begins for each in self._spans[at + 1 :] if each.admits(mac) is not admitted), None)
        return Admission(admitted, self._spans[at].mode, until, mac in self._allowed, mac in self._denied)

    def is_only_for_some(self, now: datetime) -> bool:
        """Tell whether the network is for some devices only for a while."""
        return self.policy.only_until is not None and now < self.policy.only_until

    def changes_at(self, now: datetime) -> datetime | None:
        """Return when the list is next another one; None if it stays for as long as was looked ahead."""
        self._look_ahead(now)
        following = self._spans[self._at(now) + 1 :]
        return following[0].begins if following else None

    def _at(self, now: datetime) -> int:
        at = 0
        while at + 1 < len(self._spans) and self._spans[at + 1].begins <= now:
            at += 1
        return at

    def _look_ahead(self, now: datetime) -> None:
        if self._good_until is not None and self._spans[0].begins <= now < self._good_until:
            return
        # Twice as far as is needed, so that it is worked out once for each of such times.
        end = now + 2 * self._ahead
        self._spans, self._said = list(self._ahead_of(now, end)), {}
        whole = len(self._spans) < _MOST_SPANS
        self._good_until = now + self._ahead if whole else max(self._spans[len(self._spans) // 2].begins, now)

    def _ahead_of(self, now: datetime, end: datetime) -> Iterator[_Span]:
        moment: datetime | None = now
        for _ in range(_MOST_SPANS):
            if moment is None or moment >= end:
                return
            found = wanted(self.policy, moment, self._local)
            yield _Span(moment, found.mode, found.macs)
            moment = next_change(self.policy, moment, self._local) if self.policy.changes_by_itself else None
