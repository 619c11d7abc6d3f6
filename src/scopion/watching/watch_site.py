"""The watch itself: it looks after its place, and has parts that tell, keep lists, report and remind."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime
from ipaddress import IPv4Network

from scopion.model.text import counted
from scopion.operations.intake.queue_alerts import learnt_subnets
from scopion.operations.site.open_site import Site
from scopion.operations.site.upkeep import daily
from scopion.roster.upkeep.mend_clock import note_clocks
from scopion.watching.clock_watch import ClockWatch
from scopion.watching.deliver_alerts import Delivering
from scopion.watching.executors import Executor
from scopion.watching.hear_refused import Refusing
from scopion.watching.keep_lists import Enforcing, opener
from scopion.watching.keep_record import Recording
from scopion.watching.keep_standby import Standby
from scopion.watching.look_after import LookingAfter
from scopion.watching.make_weekly import Reporting
from scopion.watching.miss_devices import Missing
from scopion.watching.remind_people import Reminding
from scopion.watching.sensors.announce import Announcing
from scopion.watching.sensors.hear_sensors import Sensors
from scopion.watching.sensors.play_sensors import PlayedSensors
from scopion.watching.sources.read_meters import Meters
from scopion.watching.sources.read_sources import Sources
from scopion.watching.sources.read_switches import Switches
from scopion.watching.sources.take_in_air import TakingInAir
from scopion.watching.watch_memory import WatchMemory

_UPKEEP_EVERY_S = 3600.0


class Watch(LookingAfter):
    """Watches a site."""

    def __init__(
        self,
        site: Site,
        executor: Executor,
        memory: WatchMemory,
        sweeper: Callable[[], Site],
        clock_watch: ClockWatch | None = None,
        *,
        once: bool = False,
        service: bool = False,
        sensing_site: Callable[[], Site] | None = None,
    ) -> None:
        super().__init__(site, executor, memory, sweeper, clock_watch)
        self.recording = Recording(
            self.context, raw_frames=site.attachment.rights().raw_frames, once=once, service=service
        )
        self.sources = Sources(self.context)
        self.switches = Switches(self.context)
        self.delivering = Delivering(self.context)
        self.enforcing = Enforcing(self.context, opener(site))
        self.refusing = Refusing(self.context)
        self.reporting = Reporting(self.context, opener(site))
        self.learning: Mapping[IPv4Network, datetime] = {}  # the subnets that are being learnt, and until when
        self.missing = Missing(self.context, self.sweeping)
        self.sensors = Sensors(self.context, sensing_site or (lambda: site), self.delivering.soon)
        self.played = PlayedSensors(self.context, self.delivering.soon)
        self.announcing = Announcing(self.context, opener(site))
        self.parts |= {
            "reading records": self.sources,
            "switches": self.switches,
            "meters": Meters(self.context, opener(site)),
            "sensors": self.sensors,
            "made-up sensors": self.played,
            "wireless lists": self.enforcing,
            "refused attempts": self.refusing,
            "what access points told": TakingInAir(self.context),
            "standbys": Standby(self.context, opener(site)),
            "the weekly report": self.reporting,
            "missed devices": self.missing,
            "reminders": Reminding(self.context),
            "announcing": self.announcing,
        }
        self.last_parts = {"delivering": self.delivering, "its record": self.recording}
        self._upkeep_at = 0.0

    @property
    def has_done_a_round(self) -> bool:
        """Tell whether every subnet was swept, every record read, and everything that is due was tried."""
        all_swept = self.sweeping.swept.values()
        swept = all(each.last_at > float("-inf") and not each.is_in_doubt for each in all_swept)
        records = self.sources.have_been_read and self.switches.have_been_read
        read = records and self.enforcing.has_done_a_round and not self.reporting.is_busy
        tried = self.delivering.has_tried_all or self.context.rests_until("delivering") > self.context.clock.monotonic()
        return swept and read and tried

    @property
    def in_a_line(self) -> str:
        """Return its state in a line, for the service manager."""
        waiting = sum(count for count, _ in self.outbox_state.values())
        said = f"{counted(self.context.known.devices, 'device')} here, {counted(waiting, 'alert')} waiting"
        return f"{said}; {next(iter(self.context.troubles.values()))}" if self.context.troubles else said

    @property
    def outbox_state(self) -> Mapping[str, tuple[int, float]]:
        """Return by channel how many alerts are due and not delivered, and for how many seconds the oldest."""
        return self.delivering.state

    def keep_up(self, now: float) -> None:
        """Do the daily upkeep when it is due."""
        if now < self._upkeep_at:
            return
        self._upkeep_at = now + _UPKEEP_EVERY_S
        site = self.context.site
        with self.context.doing("the daily upkeep"):
            note_clocks(site.roster, site.boot(), site.clock.now())
            daily(site, site.roster)

    def keep_up_at(self) -> float:
        """Return when the daily upkeep is due next."""
        return self._upkeep_at

    def _tell_learning(self) -> None:
        """Log which subnets are being learnt, and until when; once each."""
        clock, learnt = self.context.clock, learnt_subnets(self.context.site, self.context.site.roster)
        self.learning = {each.range: each.until for each in learnt}
        for each in learnt:
            until = f"{clock.local(each.until):%A %d %B, %H:%M}"
            self.context.remark(
                f"{each.range} is being learnt",
                f"until {until}, joined devices are told once a day; scopion alerts learning --end ends that",
            )

    def learnt(self) -> None:
        """Let what depends on the known devices be done: they were read again."""
        super().learnt()
        self.delivering.soon()
        self.enforcing.soon()
        self.missing.soon()
        self.switches.learnt()
        self.announcing.soon()
        self._tell_learning()
