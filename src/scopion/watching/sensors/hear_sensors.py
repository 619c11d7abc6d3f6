"""The part of the watch that hears the sensors of other places: batches are folded, and noted as folded at the broker.

Nothing that a sensor says is taken on trust: it speaks on its own topics, about its own place, and its clock is
compared with ours by a word that it has to send back.
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from scopion.attachment.connect.mqtt_line import Arrived, MqttLine
from scopion.model.batch import RIGHT_WITHIN, Batch, Folded, SensorState, said_dropped
from scopion.model.clock import spoken_span
from scopion.model.device import Device, Event
from scopion.model.errors import MalformedFrame, ScopionError
from scopion.model.text import counted
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.intake.patience import Patience
from scopion.operations.sensors.fold_batch import Taken, fold_batch, fold_kept
from scopion.operations.sensors.lose_sensor import tell_sensor_back, tell_sensor_lost
from scopion.operations.site.broker_settings import SensorSettings, Topics, broker_access, topics_of
from scopion.operations.site.open_site import Site
from scopion.roster.scans import known_subnets
from scopion.roster.sensors import (
    boot_epoch,
    find_sensor,
    folded_number,
    hear_sensor,
    latest_life,
    note_boot,
    note_state,
)
from scopion.watching.sensors.broker_line import Inbox, Line, LineWatch
from scopion.watching.watch_context import WatchContext
from scopion.wire.sensor_documents import batch_from_json, folded_to_json, state_from_json

LANE = "sensors"
# While this machine is off, the broker keeps what sensors say for it; they would say it again in any case.
_SESSION_S = 7 * 86_400
# So many batches are folded before their numbers are noted at the broker, and others have their turn.
_AT_ONCE = 16
_COMPARED_EVERY_S = 600.0
# A comparison takes as long as the way there and back; one that took longer says too little.
_LONGEST_WAY_S, _LEAST_S = 10.0, 0.5


@dataclass(slots=True)
class _Heard:
    """What is known of a sensor while the watch runs."""

    settings: SensorSettings
    guard: FloodGuard
    last_at: float  # when it was heard last
    online: bool | None = None  # None: nothing was heard of it yet
    nonce: str = ""
    nonce_at: float = 0.0
    compared_at: float = float("-inf")
    boot: str = ""  # of its machine, as it said when the clocks were compared
    offset: timedelta | None = None
    lost: bool = False


@dataclass(slots=True)
class _Work:
    """What became of some batches."""

    folded: dict[str, tuple[str, int]] = field(default_factory=dict)  # by sensor: the life, and the last number
    events: list[Event] = field(default_factory=list)
    devices: dict[int, Device] = field(default_factory=dict)
    problems: list[tuple[str, str]] = field(default_factory=list)  # of which sensor, and what
    done: list[Arrived] = field(default_factory=list)


class Sensors:
    """Hears the sensors of a site."""

    def __init__(self, context: WatchContext, second: Callable[[], Site], on_taken: Callable[[], None]) -> None:
        self._context, self._second, self._on_taken = context, second, on_taken
        site = context.site
        now = context.clock.monotonic()
        self._sensors = {each.name: _Heard(each, FloodGuard(), now) for each in site.settings.sensor}
        self.inbox = Inbox(context.executor.wake)
        self._waiting: list[Arrived] = []
        self._topics: Topics | None = None
        self._watching = LineWatch(context)
        self.line: Line | None = None
        self._next_at = now
        self._may_have_kept = True  # an earlier version, of what it did not understand
        if site.settings.broker is not None and self._sensors and site.story is None:
            self._topics = Topics(topics_of(site.settings.broker, site.name))

    def open_line(self) -> None:
        """Connect to the broker. Raises InvalidSettings."""
        broker = self._context.site.settings.broker
        if self._topics is None or broker is None:
            return
        access = broker_access(broker, self._context.site.folder, "scopion")
        topics = [self._topics.batches, self._topics.states]
        name = f"{self._topics.batches.partition('/sensor/')[0]}/roster"
        line = MqttLine(access, name, topics, self.inbox.heard, self.inbox.changed, session_s=_SESSION_S)
        self.line = line
        line.start()

    def close(self) -> None:
        """End the connection; the broker keeps what comes meanwhile."""
        if self.line is not None:
            self.line.stop()

    def wake_at(self) -> float:
        """Return when something is due."""
        if self._topics is None:
            return float("inf")
        if not self.inbox.is_empty or (self._waiting and not self._context.executor.busy(LANE)):
            return 0.0
        return self._next_at

    @property
    def silent_s(self) -> Mapping[tuple[str, str], float]:
        """Return by sensor and place for how many seconds nothing was heard of it."""
        now = self._context.clock.monotonic()
        return {(name, heard.settings.place): now - heard.last_at for name, heard in list(self._sensors.items())}

    def turn(self, now: float) -> None:
        """Take what has come, and see which sensors are silent."""
        if self._topics is None:
            return
        if self._may_have_kept:
            self._may_have_kept = False
            with self._context.doing("folding what an earlier version kept"):
                fold_kept(self._context.site)
        if self.line is None:
            self.open_line()
        line = self.line
        assert line is not None
        for arrived in self.inbox.taken():
            self._take(line, arrived, now)
        if self._watching.look(line):
            for name in self._sensors:
                self._note(line, name, now)
        if self._waiting and not self._context.executor.busy(LANE):
            self._start()
        if now >= self._next_at:
            self._next_at = now + 5.0
            for name, heard in self._sensors.items():
                self._look_at(line, name, heard, now)

    def _take(self, line: Line, arrived: Arrived, now: float) -> None:
        assert self._topics is not None
        name = self._topics.sensor_of(arrived.topic)
        heard = self._sensors.get(name)
        if heard is None:
            self._context.remark(
                f"sensor {name!r}", "reports, and site.toml names no such sensor: nothing of it is taken"
            )
            line.acknowledge(arrived)
        elif arrived.topic == self._topics.batch(name):
            heard.last_at = now
            self._waiting.append(arrived)
        else:
            line.acknowledge(arrived)
            with self._context.doing(f"reading what {name} says of itself"):
                self._take_state(line, name, heard, arrived, now)

    def _take_state(self, line: Line, name: str, heard: _Heard, arrived: Arrived, now: float) -> None:
        try:
            state = state_from_json(arrived.octets)
        except MalformedFrame as error:
            raise ScopionError(str(error)) from None
        if state.sensor != name or (state.online and state.place != heard.settings.place):
            raise ScopionError(
                f"it says that it is {state.sensor} in {state.place}, and it is not: nothing of that is taken"
            )
        site, at = self._context.site, self._context.clock.now()
        if arrived.retained and state.online:
            return  # it may be old: it is heard when it speaks
        heard.online = state.online
        if not state.online:
            if find_sensor(site.roster, name) is not None:
                note_state(site.roster, state, None)
            return
        heard.last_at = now
        hear_sensor(site.roster, name, heard.settings.place, at)
        offset = self._compared(name, heard, state, at, now)
        note_state(site.roster, state, offset)
        if offset is not None:
            self._publish(line, name, *latest_life(site.roster, name))  # what came before the comparison comes again
        elif heard.compared_at < now - _COMPARED_EVERY_S and now - heard.nonce_at > _LEAST_S:
            self._note(line, name, now)

    def _compared(self, name: str, heard: _Heard, state: SensorState, at: datetime, now: float) -> timedelta | None:
        """Compare the clocks by a word that came back. Returns by how much the sensor's is ahead; None: not now."""
        clocks = state.clocks
        if clocks is None or not heard.nonce or state.nonce != heard.nonce:
            return None
        way = now - heard.nonce_at
        heard.nonce = ""
        if way > _LONGEST_WAY_S:
            return None
        there = at - timedelta(seconds=way / 2)
        heard.compared_at, heard.boot, heard.offset = now, clocks.boot, clocks.at - there
        if clocks.boot:
            note_boot(self._context.site.roster, name, clocks.boot, there - timedelta(seconds=clocks.seconds), at)
        doing = f"the clock of {name}"
        if abs(heard.offset) > RIGHT_WITHIN:
            way_off = "ahead" if heard.offset > timedelta() else "slow"
            self._context.trouble(doing, f"is {spoken_span(abs(heard.offset))} {way_off}; what it tells is corrected")
        else:
            self._context.works(doing)
        return heard.offset

    def _note(self, line: Line, name: str, now: float) -> None:
        """Keep at the broker what is folded of a sensor, with a word that it sends back."""
        assert self._topics is not None
        heard, roster = self._sensors[name], self._context.site.roster
        heard.nonce, heard.nonce_at = secrets.token_hex(4), now
        life, number = latest_life(roster, name)
        self._publish(line, name, life, number, heard.nonce)

    def _publish(self, line: Line, name: str, life: str, number: int, nonce: str = "") -> None:
        assert self._topics is not None
        note = Folded(life, number, self._patience_s(name), nonce)
        line.publish(self._topics.folded(name), folded_to_json(note), retain=True)

    def _patience_s(self, name: str) -> float:
        """Return the shortest silence that can make any device of a place absent."""
        site, place = self._context.site, self._sensors[name].settings.place
        ranges = {each.range for each in known_subnets(site.roster, place)}
        ranges |= {each.range for each in site.settings.subnet if each.place == place}
        least = min((Patience(site, each, place).least for each in ranges), default=timedelta(minutes=5))
        return max(0.001, least.total_seconds())

    def _start(self) -> None:
        """Fold some batches in the lane."""
        batches, self._waiting = self._waiting[:_AT_ONCE], self._waiting[_AT_ONCE:]
        known = {name: (heard.boot, heard.offset) for name, heard in self._sensors.items()}

        def work() -> _Work:
            return self._fold(self._second(), batches, known)

        def finish(result: Any, error: BaseException | None) -> None:
            self._finish(result, error)

        self._context.executor.start(LANE, work, finish)

    def _fold(self, site: Site, batches: Sequence[Arrived], known: dict[str, tuple[str, timedelta | None]]) -> _Work:
        assert self._topics is not None
        found = _Work()
        for arrived in batches:
            name = self._topics.sensor_of(arrived.topic)
            heard = self._sensors[name]
            try:
                batch = batch_from_json(arrived.octets)
            except MalformedFrame as error:
                found.problems.append((name, f"a batch cannot be read: {error}"))
                found.done.append(arrived)
                continue
            if batch.sensor != name or batch.place != heard.settings.place:
                found.problems.append(
                    (name, f"it told something as {batch.sensor} about {batch.place}: that is refused")
                )
                found.done.append(arrived)
                continue
            by = _correction(site, batch, *known[name])
            if by is None:
                found.done.append(arrived)  # the clocks are not compared yet: it comes again
                continue
            taken = fold_batch(site, batch, by, heard.guard)
            found.done.append(arrived)
            found.folded[name] = batch.life, folded_number(site.roster, name, batch.life)
            found.events += taken.events
            found.devices |= taken.devices
            if taken.elsewhere:
                found.problems.append((name, f"it is not in its place: {taken.elsewhere}"))
            if taken.taken is Taken.FOLDED:
                found.problems += [(name, each) for each in _lacks(batch, taken.unread)]
        return found

    def _finish(self, result: _Work | None, error: BaseException | None) -> None:
        context, line = self._context, self.line
        if result is None:
            assert error is not None
            if not context.keeping("folding what sensors tell", error):
                raise error
            return
        context.works("folding what sensors tell")
        context.tell(result.events, result.devices)
        if line is not None:
            for arrived in result.done:
                line.acknowledge(arrived)
            for name, (life, number) in result.folded.items():
                self._publish(line, name, life, number)
        for name, problem in result.problems:
            context.trouble(f"what {name} tells", problem)
        for name in result.folded.keys() - {name for name, _ in result.problems}:
            context.works(f"what {name} tells")
        if result.events:
            self._on_taken()

    def _look_at(self, line: Line, name: str, heard: _Heard, now: float) -> None:
        """Tell a sensor that is silent, or back; not while this machine cannot hear any."""
        silent = now - heard.last_at
        if not line.connected:
            heard.last_at = max(heard.last_at, now - heard.settings.silent_s / 2)
            return
        if heard.nonce and now - heard.nonce_at > _LONGEST_WAY_S:
            heard.nonce = ""
        site = self._context.site
        if silent >= heard.settings.silent_s and not heard.lost:
            heard.lost = True
            since = self._context.clock.now() - timedelta(seconds=silent)
            with self._context.doing(f"telling that {name} is silent"):
                taken = tell_sensor_lost(site, name, heard.settings.place, since)
                self._context.tell(taken.events, taken.devices)
                self._on_taken()
        elif silent < heard.settings.silent_s and heard.online is not False:
            if heard.lost or heard.online is True:
                with self._context.doing(f"telling that {name} is back"):
                    taken = tell_sensor_back(site, name, heard.settings.place)
                    self._context.tell(taken.events, taken.devices)
                    if taken.events:
                        self._on_taken()
            heard.lost = False


def _lacks(batch: Batch, unread: int) -> Iterator[str]:
    """Yield what of a batch is not in the roster, and why."""
    if batch.dropped:
        yield f"there was no room for it there, so that this is lost: {said_dropped(batch.dropped)}"
    if batch.unknown:
        forms = ", ".join(sorted({each.form for each in batch.unknown}))
        yield f"it speaks of {forms}, which this version does not know: kept until it does"
    if unread:
        yield f"it speaks of more than can be kept: {counted(unread, 'document')} lost; install its version here"


def _correction(site: Site, batch: Batch, boot: str, offset: timedelta | None) -> timedelta | None:
    """Return by how much the moments of a batch have to be moved; None if that is not known yet, and will be.

    A clock that is right is believed, so that the same batch always gives the same moments.
    """
    clocks, now = batch.clocks, site.clock.now()
    epoch = boot_epoch(site.roster, batch.sensor, clocks.boot) if clocks.boot else None
    if epoch is not None:
        ahead = clocks.at - (epoch + timedelta(seconds=clocks.seconds))
    elif offset is None:
        return None  # it is compared within moments after it has connected
    else:
        ahead = offset  # of an earlier start of its machine only this is known
    by = -ahead if abs(ahead) > RIGHT_WITHIN else timedelta()
    return min(by, now - clocks.at) if clocks.at + by > now else by
