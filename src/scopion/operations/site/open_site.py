"""The site at hand: its folder, settings, roster, attachment and vendors, each opened when it is first needed."""

from __future__ import annotations

import sys
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from datetime import tzinfo
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from scopion.discovery.kinds import Kinds, load_kinds
from scopion.model.clock import Clock
from scopion.model.errors import DamagedRoster, EnforcerUnreachable, NotFound, StorageFailed
from scopion.operations.site.open_vendors import open_vendors
from scopion.operations.site.site_clock import SiteClock, zone_of
from scopion.roster.store.open_roster import FILE as ROSTER_FILE
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.write_files import make_folder, write_atomically
from scopion.scenes import STORY_FILE
from scopion.vendors.registry import Vendors

if TYPE_CHECKING:
    from scopion.attachment.connect.kept_shells import KeptShells
    from scopion.attachment.orders.order_line import OrderLine
    from scopion.attachment.ports import Attachment
    from scopion.operations.answers.made_up_server import MadeUpServer
    from scopion.operations.answers.radius_files import LiveAnswering
    from scopion.operations.site.relay import Relay
    from scopion.operations.site.site_settings import Settings
    from scopion.operations.site.watch_state import WatchState
    from scopion.roster.wifi.push_deadlines import Boot
    from scopion.scenes.story import Story


class Site:
    """One site's folder. Close it at the end: a scene keeps the time that has passed."""

    def __init__(self, folder: Path, when_opened: Callable[[Site, Roster], None] = lambda *_: None) -> None:
        """Take a folder; ``when_opened`` is called once, when the roster is first opened for writing."""
        self.folder = folder
        self._when_opened = when_opened
        self.watch_state: WatchState | None = None  # while it is watched
        self.relay: Relay | None = None  # of a sensor: where it hands on what it takes in
        # What this process has done for good, a sentence each, for the message after an interrupt.
        self.stands: deque[str] = deque(maxlen=8)
        self._reading: Roster | None = None
        self._order_lines: dict[str, OrderLine] = {}  # by sensor
        self._zone_read: tuple[tzinfo | None] | None = None

    @cached_property
    def settings(self) -> Settings:
        """Return ``site.toml``. Raises InvalidSettings."""
        from scopion.operations.site.load_settings import (
            load_settings,  # many small classes: most commands need none of them
        )

        return load_settings(self.folder)

    def forget_settings(self) -> None:
        """Read ``site.toml`` again when it is needed next: it was written."""
        self.__dict__.pop("settings", None)
        self._zone_read = None

    @cached_property
    def story(self) -> Story | None:
        """Return the story that the folder keeps, if it is a made-up site's."""
        if not (self.folder / STORY_FILE).exists():
            return None

        from scopion.scenes.story import Story

        return Story.of(self.folder)

    @cached_property
    def attachment(self) -> Attachment:
        """Return the network: a scene's if the folder keeps one, else the machine's. Raises LiveNetworkLocked."""
        if self.story is not None:
            from scopion.scenes.attachment import SceneAttachment

            return SceneAttachment(self.story.scene, self.story.at, self.folder, lambda: self._made_up_server)
        if sys.platform != "linux":
            from scopion.attachment.portable import PortableAttachment

            return PortableAttachment()
        from scopion.attachment.linux.linux_attachment import LiveAttachment

        return LiveAttachment()

    @cached_property
    def _made_up_server(self) -> MadeUpServer | None:
        """Return what answers the access points of a made-up site that ask by RADIUS, if it has any."""
        if self.story is None or not self.story.scene.asking_points:
            return None
        from scopion.operations.answers.made_up_server import MadeUpServer
        from scopion.operations.answers.radius_files import RadiusFiles
        from scopion.wireless.radius.radius_settings import radius_lists

        lists = radius_lists(self.settings.enforcer)
        return MadeUpServer(RadiusFiles(self.folder), lists, self.clock) if lists else None

    def answering(self, network: str) -> LiveAnswering:
        """Return the server that answers for a network by RADIUS, as commands see it."""
        from scopion.operations.answers.radius_files import LiveAnswering, RadiusFiles

        server = self._made_up_server
        if server is None:
            return LiveAnswering(RadiusFiles(self.folder), network, self.clock)
        from scopion.operations.answers.made_up_server import MadeUpAnswering

        return MadeUpAnswering(RadiusFiles(self.folder), network, self.clock, server, self.settle_answers)

    def settle_answers(self) -> None:
        """Let access points of a made-up site ask what they have to ask by now, and write what was answered."""
        server = self._made_up_server
        if server is not None:
            attachment: Any = self.attachment  # a scene's, as there is such a server
            attachment.asking_points.look()
            server.settle()

    @cached_property
    def shells(self) -> KeptShells:
        """Return the shells of access points; connections to other machines are kept until the site is closed."""
        from scopion.attachment.connect.kept_shells import KeptShells

        return KeptShells(self.attachment.open_shell)

    def order_line(self, sensor: str) -> OrderLine:
        """Return the way by which a sensor is ordered; it is kept until the site is closed.

        Raises InvalidSettings, EnforcerUnreachable.
        """
        if self.story is not None:
            raise EnforcerUnreachable(f"{sensor} is made up: it has no hands")
        if sensor not in self._order_lines:
            from scopion.operations.site.reach_machine import order_line

            self._order_lines[sensor] = order_line(self.folder, self.settings.broker, self.name, sensor)
        return self._order_lines[sensor]

    @property
    def remarks(self) -> list[str]:
        """Return what a person may want to know of how access points were reached, a sentence each."""
        return list(self.shells.remarks) if "shells" in self.__dict__ else []

    @cached_property
    def clock(self) -> Clock:
        """Return the time at the site, in its time zone; it needs no network."""
        if self.story is not None:
            return SiteClock(self.attachment.clock, self._zone)
        from scopion.attachment.system_clock import SystemClock

        return SiteClock(SystemClock(), self._zone)

    def boot(self) -> Boot | None:
        """Return the machine's own time, which cannot be set; None if it has none, as on a made-up site."""
        if self.story is not None:
            return None
        from scopion.attachment.system_clock import boot
        from scopion.roster.wifi.push_deadlines import Boot

        told = boot()
        return Boot(*told) if told is not None else None

    def _zone(self) -> tzinfo | None:
        if self._zone_read is None:
            self._zone_read = (zone_of(self.folder),)
        return self._zone_read[0]

    @cached_property
    def vendors(self) -> Vendors:
        """Return the registry; a made-up site's own vendors come first."""
        return open_vendors(self.folder)

    @cached_property
    def kinds(self) -> Kinds:
        """Return the rules that guess the kind of a device; the site's own come first. Raises InvalidSettings."""
        return load_kinds(self.folder)

    @cached_property
    def roster(self) -> Roster:
        """Return the roster, open for writing; the folder is made if needed. Raises StorageFailed.

        Raises DamagedRoster once if it was damaged: it has been moved aside then, and the next try opens a new one.
        """
        prepare_folder(self.folder)
        roster = Roster.open(self.folder)
        if roster.moved_aside is None:
            self._when_opened(self, roster)
            roster.has_written = False  # no person asked for upkeep
            return roster
        roster.close()
        raise DamagedRoster(
            f"the roster was damaged and is kept as {roster.moved_aside}; what was known is lost and nothing was "
            "changed: scopion scan begins a new one"
        )

    def roster_for_reading(self) -> Roster:
        """Return the roster, an empty one if there is none, without making or changing anything.

        Raises DamagedRoster, StorageFailed.
        """
        if "roster" in self.__dict__:
            return self.roster
        # Another process may have made it since, or put another in its place; whatever reads the former one goes on.
        if self._reading is None or (self.has_roster and not self._reading.is_in_place):
            self._reading = Roster.open_for_reading(self.folder)
        return self._reading

    def roster_in_place(self) -> Roster:
        """Return the roster in any case: a damaged one is moved aside. Raises StorageFailed."""
        try:
            return self.roster
        except DamagedRoster:
            return self.roster

    def leave_replaced_roster(self) -> bool:
        """Close the roster if its file was moved away. Returns whether it was. For processes that run for long."""
        opened = self.__dict__.get("roster")
        if opened is None or opened.is_in_place:
            return False
        self.forget_open_roster()
        return True

    def forget_open_roster(self) -> None:
        """Close the roster if it is open: the next use opens it again, and moves a damaged one aside."""
        opened = self.__dict__.pop("roster", None)
        if opened is not None:
            opened.close()
        if self._reading is not None:
            self._reading.close()
            self._reading = None

    @property
    def has_written(self) -> bool:
        """Tell whether this process has written anything into the roster."""
        opened: Roster | None = self.__dict__.get("roster")
        return opened is not None and opened.has_written

    @property
    def has_roster(self) -> bool:
        """Tell whether anything is remembered."""
        return (self.folder / ROSTER_FILE).exists()

    def require_roster(self) -> None:
        """Raise NotFound if nothing is remembered yet: then there is nothing to change or to look back on."""
        if not self.has_roster:
            raise NotFound("nothing is remembered yet: scopion scan looks for devices first")

    @property
    def name(self) -> str:
        """Return the name of the site."""
        if self.settings.name:
            return self.settings.name
        return self.story.scene.title if self.story else "your site"

    def close(self) -> None:
        """Close the roster and all connections, and let a story keep the time that its commands took."""
        if "shells" in self.__dict__:
            self.shells.close()
        for line in self._order_lines.values():
            line.close()
        self._order_lines.clear()
        if self._reading is not None:
            self._reading.close()
        if "roster" in self.__dict__:  # last: only a connection that may write leaves one whole file behind
            self.roster.close()
        if self.__dict__.get("_made_up_server") is not None:
            with suppress(StorageFailed):
                self.settle_answers()
        if "attachment" in self.__dict__ and self.story is not None:
            with suppress(StorageFailed):  # a folder that became read-only: the story waits where it was
                self.story.passed(self.clock.now())


def prepare_folder(folder: Path) -> None:
    """Make a site's folder with its commented settings, unless they are there. Raises StorageFailed."""
    from scopion.operations.site.load_settings import FILE, TEMPLATE

    make_folder(folder)
    if not (folder / FILE).exists():
        write_atomically(folder / FILE, TEMPLATE.read_bytes())
