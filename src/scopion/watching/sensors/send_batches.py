"""The part of a sensor that reports: what is news at once, what is still so once a minute, until it is folded.

A batch is sent in its turn, a few at a time. The roster's side keeps a note at the broker of the last one that is
folded; if that does not go on, all after it are sent again. So nothing has to arrive, and everything does.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import datetime

from scopion import __version__
from scopion.model.batch import Folded, ScanFacts, SensorClocks, SensorState, said_dropped
from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation
from scopion.operations.site.broker_settings import Topics
from scopion.roster.spool.spool import WINDOW, Limits, Spool
from scopion.watching.sensors.broker_line import Inbox, Line, LineWatch
from scopion.watching.watch_context import WatchContext, log
from scopion.wire.sensor_documents import folded_from_json, state_to_json

# The roster's side hears of a sensor at least so often: after three times this it counts as lost.
STATE_EVERY_S = 60.0
# A batch is folded within moments; if no note of it comes within this, it is sent again.
_AGAIN_S = 20.0
_BOUND_EVERY_S = 600.0


class Sending:
    """Keeps what a sensor takes in, and reports it. Implements ``Relay``: several threads hand things over."""

    def __init__(
        self,
        context: WatchContext,
        spool: Spool,
        topics: Topics,
        clocks: Callable[[], SensorClocks],
        limits: Limits,
        own: Callable[[], Sequence[MacAddress]],
    ) -> None:
        self._context, self._spool, self._topics, self._clocks = context, spool, topics, clocks
        self._limits, self._own = limits, own
        self.inbox = Inbox(context.executor.wake)
        self._looking_since: datetime | None = context.memory.since
        self._wants_closing = False
        self._sent = 0  # the number of the last batch that was sent since the line is up
        self._sent_at = 0.0
        self._state_at = self._bound_at = 0.0
        self._watching = LineWatch(context)
        self.line: Line | None = None

    def note(self, seen: Sequence[Observation], scan: ScanFacts | None, *, apart: bool, news: bool) -> None:
        """Keep one step; news, and what a sweep has seen, are reported at once."""
        facts = replace(scan, looking_since=self._looking_since) if scan is not None else None
        self._spool.note(seen, facts, self._clocks(), apart=apart)
        if news or scan is not None:
            self._wants_closing = True
            self._context.executor.wake()

    def wake_at(self) -> float:
        """Return when something is due."""
        if not self.inbox.is_empty or (self._wants_closing and self._has_room):
            return 0.0
        # Without a line there is nothing to wait for: once it is up, all of it is sent again.
        waits = self.line is not None and self.line.connected and self._sent > self._spool.last_folded
        return min(self._state_at, self._bound_at, self._sent_at + _AGAIN_S if waits else float("inf"))

    @property
    def _has_room(self) -> bool:
        """Tell whether another batch may be closed: else more is gathered in what is pending."""
        return self._spool.closed < WINDOW

    def turn(self, now: float) -> None:
        """Report what is due."""
        line = self.line
        if line is None:
            return
        nonce = self._take_notes(line)
        if self._watching.look(line):
            self._sent = self._spool.last_folded
            self._state_at = 0.0
        if now >= self._bound_at:
            self._bound_at = now + _BOUND_EVERY_S
            dropped = self._spool.bound(self._limits, self._clocks())
            if dropped:
                log.warning("there is no room for what could not be told: dropped %s", said_dropped(dropped))
        if self._wants_closing and self._has_room:
            self._wants_closing = False
            self._spool.close_batch(self._clocks(), self._own())
        if nonce or now >= self._state_at:
            self._state_at = now + STATE_EVERY_S
            line.publish(self._topics.state(self._spool.sensor), state_to_json(self._state(line, nonce)), retain=True)
        self._send(line, now)

    def _send(self, line: Line, now: float) -> None:
        """Send the next batches, or those again of which no note came."""
        if not line.connected:
            return
        folded = self._spool.last_folded
        if self._sent > folded and now >= self._sent_at + _AGAIN_S:
            self._sent = folded
        room = WINDOW - max(0, self._sent - folded)
        for number, octets in self._spool.batches(max(self._sent, folded), room) if room > 0 else ():
            if line.publish(self._topics.batch(self._spool.sensor), octets):
                self._sent, self._sent_at = number, now

    def _take_notes(self, line: Line) -> str:
        """Take in the notes of what is folded. Returns the nonce that is to be sent back; empty: none."""
        nonce = ""
        for arrived in self.inbox.taken():
            line.acknowledge(arrived)
            if arrived.topic != self._topics.folded(self._spool.sensor):
                continue
            try:
                note = folded_from_json(arrived.octets)
            except MalformedFrame as error:
                self._context.trouble("reading what is folded", str(error))
                continue
            self._take_note(note)
            nonce = note.nonce or nonce
        return nonce

    def _take_note(self, note: Folded) -> None:
        before = self._spool.last_folded
        if self._spool.folded(note):
            self._context.works("reading what is folded")
            if self._spool.last_folded < self._sent and self._spool.last_folded == before == note.number:
                self._sent = before  # the roster's side lacks what was sent: again from there
        else:
            self._sent = self._spool.last_folded

    def _state(self, line: Line, nonce: str) -> SensorState:
        waiting = self._spool.waiting()
        return SensorState(
            sensor=self._spool.sensor,
            online=True,
            clocks=self._clocks(),
            place=self._spool.place,
            life=self._spool.life,
            program=__version__,
            waiting=waiting.batches,
            oldest=waiting.oldest,
            address=line.address,
            nonce=nonce,
            troubles=tuple(f"{doing}: {problem}" for doing, problem in self._context.troubles.items()),
        )
