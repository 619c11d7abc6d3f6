"""Runs a sensor until it is told to stop: the ears and sweeps of a watch, whose findings go to the broker."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from scopion import __version__
from scopion.attachment.connect.mqtt_line import Arrived, MqttLine, Will
from scopion.attachment.orders.seal import Seal
from scopion.attachment.permission import keep_capabilities_to_itself
from scopion.attachment.system_clock import boot
from scopion.model.batch import SensorClocks, SensorState
from scopion.model.clock import Clock
from scopion.model.mac import MacAddress
from scopion.model.text import joined
from scopion.operations.folder.take_turns import only_sensor
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.sensors.sensor_site import SensorSite
from scopion.operations.site.broker_settings import SensorFile, Topics, broker_access
from scopion.roster.spool.spool import Limits, Spool
from scopion.watching.executors import ThreadExecutor
from scopion.watching.look_after import LookingAfter
from scopion.watching.readiness import Readiness
from scopion.watching.run_watch import listening_to_signals
from scopion.watching.sensors.send_batches import Sending
from scopion.watching.watch_context import log
from scopion.watching.watch_memory import WatchMemory
from scopion.wire.sensor_documents import state_to_json

if TYPE_CHECKING:
    from scopion.operations.sensors.load_orders import Permitted
    from scopion.watching.sensors.take_orders import Orders

# What runs when the sensor is told to stop gets this long to end; the rest is in its file.
_GRACE_S = 3.0
_LONGEST_TURN_S = 5.0
# The broker keeps what comes for a sensor while it is away: the note of what is folded is kept in any case.
_SESSION_S = 3600


@dataclass(frozen=True, slots=True)
class SensorFolder:
    """Where a sensor keeps its file and its secrets."""

    path: Path
    file: SensorFile
    begins: str  # its topics
    permitted: Permitted | None = None  # what it may be ordered to do


def run_sensor(folder: SensorFolder, *, for_s: float | None = None, terminal: bool = False) -> None:
    """Look after a place and report it, until told to stop or for so long. Raises Refused, InvalidSettings."""
    keep_capabilities_to_itself()
    with only_sensor(folder.path), listening_to_signals(terminal) as signals, ExitStack() as opened:
        sensor = _Sensor(folder, opened)
        signals.wake = sensor.executor.wake
        readiness = Readiness()
        readiness.ready()
        sensor.run(lambda: signals.stop, for_s, readiness)
        signals.wake = lambda: None
        readiness.stopping()


class _Sensor:
    """Everything that is open while it runs."""

    def __init__(self, folder: SensorFolder, opened: ExitStack) -> None:
        file, self._folder = folder.file, folder
        access = broker_access(file.broker, folder.path, file.name)
        memory = Path(opened.enter_context(tempfile.TemporaryDirectory(prefix="scopion-sensor-")))
        self._site, self._sweeper = SensorSite(memory, file), SensorSite(memory, file)
        self._clock = self._site.clock
        opened.callback(self._site.close)  # the sweeper's roster belongs to another thread, and ends with the process
        spool = Spool.open(folder.path, file.name, file.place, __version__)
        opened.callback(spool.close)
        self.executor = ThreadExecutor(self._site.attachment)
        state = WatchMemory(FloodGuard(self._clock.monotonic()), since=self._clock.now())
        self._looking = LookingAfter(self._site, self.executor, state, lambda: self._sweeper)
        topics = Topics(folder.begins)
        limits = Limits(round(file.keep_mb * 1_000_000), file.keep_days)
        sending = Sending(self._looking.context, spool, topics, lambda: clocks_of(self._clock), limits, self._own)
        self._site.relay = self._sweeper.relay = sending
        self._sweeper.watch_state = self._site.watch_state
        gone = SensorState(file.name, online=False, place=file.place)
        read = [topics.folded(file.name)]
        orders = self._orders(opened, topics)
        if orders is not None:
            read.append(topics.orders(file.name))

        def heard(arrived: Arrived) -> None:
            by_order = orders is not None and arrived.topic == topics.orders(file.name)
            (orders.inbox if orders is not None and by_order else sending.inbox).heard(arrived)

        sending.line = self._line = MqttLine(
            access,
            f"{folder.begins}/{file.name}",
            read,
            heard,
            sending.inbox.changed,
            will=Will(topics.state(file.name), state_to_json(gone)),
            session_s=_SESSION_S,
        )
        self._gone = topics.state(file.name), state_to_json(gone)
        self._looking.last_parts["reporting"] = sending
        if orders is not None:
            orders.line = self._line
            self._looking.last_parts["orders"] = orders
        self._line.start()
        log.info("looking after %s as %s; reporting to %s", file.place, file.name, access)

    def _orders(self, opened: ExitStack, topics: Topics) -> Orders | None:
        """Return the part that takes orders, if this sensor may be ordered anything. Raises InvalidSettings."""
        folder, name, permitted = self._folder.path, self._folder.file.name, self._folder.permitted
        if permitted is None:
            return None
        from scopion.operations.sensors.carry_out_orders import Hands  # a sensor without hands has no memory for them
        from scopion.watching.sensors.take_orders import Orders

        seal = Seal(permitted.key, topics.begins, name)

        def clocks() -> SensorClocks:
            return clocks_of(self._clock)

        hands = Hands(folder, permitted.enforcers, self._site.attachment.open_shell, clocks)
        opened.callback(hands.close)
        log.info("taking orders for %s", joined([each.name for each in permitted.enforcers]))
        return Orders(self._looking.context, hands, seal, topics.answers(name), clocks)

    def _own(self) -> list[MacAddress]:
        return [each.mac for each in self._site.attachment.interfaces() if each.mac and not each.virtual]

    def run(self, stops: Callable[[], bool], for_s: float | None, readiness: Readiness) -> None:
        """Turn until it is to stop; then say so."""
        end = self._clock.monotonic() + for_s if for_s is not None else float("inf")
        try:
            until = self._looking.turn()
            while not stops() and self._clock.monotonic() < end:
                readiness.alive(self._looking)
                self.executor.wait(min(until, end, self._clock.monotonic() + _LONGEST_TURN_S))
                until = self._looking.turn()
        finally:
            self.executor.close(_GRACE_S, lambda _: False)
            self._line.publish(*self._gone, retain=True)
            self._line.stop()
            log.info("the sensor ended")


def clocks_of(clock: Clock) -> SensorClocks:
    """Return both clocks of this machine now."""
    identity, seconds = boot() or ("", clock.monotonic())
    return SensorClocks(clock.now(), identity, seconds)
