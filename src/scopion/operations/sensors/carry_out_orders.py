"""A sensor's hands: carries out orders on the enforcers of its own ``orders.toml``, and takes back what no person kept.

Who orders has no way to anything else on this machine: each job has to be one that such an enforcer asks for.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing
from pathlib import Path

from scopion.attachment.connect.kept_shells import KeptShells
from scopion.attachment.orders.order import Answer, Asks, Jobs, ModeOf, Order
from scopion.attachment.orders.order import Guards as GuardsWanted
from scopion.attachment.ports import Shell, SshAccess
from scopion.model.batch import SensorClocks
from scopion.model.errors import EnforcerUnreachable, Refused, ScopionError
from scopion.operations.sensors.keep_guards import Guards, Kept
from scopion.operations.sensors.sensor_site import ORDERS_FILE as FILE
from scopion.operations.site.reach_machine import ssh_access
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcer_settings import EnforcerSettings
from scopion.wireless.enforcers.enforcer import Held, RadioStep, read_held, whole
from scopion.wireless.enforcers.registry import Reach, type_of
from scopion.wireless.plan_radio import steps_back


class Hands:
    """Carries out one order at a time."""

    def __init__(
        self,
        folder: Path,
        enforcers: Sequence[EnforcerSettings],
        open_shell: Callable[[SshAccess | None], Shell],
        clocks: Callable[[], SensorClocks],
    ) -> None:
        self._folder, self._clocks = folder, clocks
        self._enforcers = {each.name: each for each in enforcers}
        self._shells = KeptShells(open_shell)
        self.guards = Guards(folder)

    def close(self) -> None:
        """Close all connections."""
        self._shells.close()

    def carry_out(self, order: Order) -> Answer:
        """Do what is ordered, if it is permitted. Returns what came of it."""
        try:
            return self._carried_out(order, self._settings(order.enforcer), order.asks)
        except Refused as error:
            return Answer(order.session, order.number, refused=str(error))
        except ScopionError as error:
            return Answer(order.session, order.number, failed=str(error))

    def _carried_out(self, order: Order, settings: EnforcerSettings, asks: Asks) -> Answer:
        """Raises Refused for what is not permitted, and whatever goes wrong."""
        if isinstance(asks, Jobs):
            return self._done(order, settings, asks)
        if isinstance(asks, ModeOf):
            entry = type_of(settings)
            if asks.path not in (*entry.writes(settings), *entry.sockets(settings).values()):
                raise Refused(f"{FILE} there does not name {asks.path}")
            with closing(self._shell(settings)) as shell:
                return Answer(order.session, order.number, mode=shell.mode_of(asks.path))
        if isinstance(asks, GuardsWanted):
            new = Kept(order.enforcer, asks.new, self._clocks()) if asks.new is not None else None
            if new is not None:
                for held in new.guard.before.values():
                    read_held(held)  # not only when it is needed
            guarded = self.guards.settle(order.enforcer, asks.waiting, new)
            return Answer(order.session, order.number, guarded=tuple(guarded))
        return Answer(order.session, order.number)

    def _done(self, order: Order, settings: EnforcerSettings, asks: Jobs) -> Answer:
        permits = type_of(settings).permits
        if not all(permits(settings, each) for each in asks.jobs):
            raise Refused(
                f"{settings.name!r} of {FILE} there has other sockets, files or interfaces, or this is not for it: "
                "scopion sensor orders writes that file from site.toml"
            )
        with closing(self._shell(settings)) as shell:
            return Answer(order.session, order.number, ran=tuple(shell.carry_out(asks.jobs)))

    def take_back(self, kept: Kept) -> None:
        """Bring an enforcer back to what it held before a push. Raises ScopionError."""
        settings, guard = self._settings(kept.enforcer), kept.guard
        reach = Reach(lambda: self._shell(settings))
        with closing(type_of(settings).open(settings, reach)) as enforcer:
            before = {radio: read_held(held) for radio, held in guard.before.items()}
            target = {radio: Held(each.allow, each.deny, each.mode or ListMode.OFF) for radio, each in before.items()}
            read = enforcer.read(files=True)
            readings = whole({radio: read[radio] for radio in target if radio in read})
            way = [
                RadioStep(radio, step)
                for radio, each in readings.items()
                for step in steps_back(each, target[radio], guard.first)
            ]
            told = whole(enforcer.take(way, lambda _: None)) if way else readings
            for radio in readings:
                if not told[radio].held.holds_the_same(target[radio]):
                    raise EnforcerUnreachable(f"{kept.enforcer}, {radio} GHz: it does not hold what it held before")
            enforcer.keep({radio: target[radio] for radio in readings})

    def _settings(self, name: str) -> EnforcerSettings:
        if name not in self._enforcers:
            raise Refused(f"{FILE} there has no [[enforcer]] {name!r}: scopion sensor orders writes it")
        return self._enforcers[name]

    def _shell(self, settings: EnforcerSettings) -> Shell:
        access = ssh_access(self._folder, settings.ssh) if settings.ssh is not None else None
        return self._shells.open(access)
