"""The place of a sensor as the watch's parts see it: settings of its own file, and a memory that ends with the process.

That memory tells a sensor what is news, and nothing else: who is here, and since when. What is to be remembered goes to
the roster of the site, elsewhere.
"""

from __future__ import annotations

from functools import cached_property
from pathlib import Path

from scopion.operations.site.broker_settings import SensorFile
from scopion.operations.site.open_site import Site
from scopion.operations.site.site_settings import NameSettings, ScanSettings, Settings, SubnetSettings, WatchSettings
from scopion.roster.store.open_roster import Roster

ORDERS_FILE = "orders.toml"  # what it may be ordered to do; without it: nothing


class SensorSite(Site):
    """The place of a sensor; its folder is a temporary one."""

    def __init__(self, memory: Path, file: SensorFile) -> None:
        super().__init__(memory)
        self._file = file

    @cached_property
    def settings(self) -> Settings:
        """Return what the parts of a watch need of the sensor's own file."""
        file = self._file
        return Settings(
            place=file.place,
            scan=ScanSettings(method=file.method, pace=file.pace),
            names=NameSettings(ask=file.names),
            watch=WatchSettings(interval_s=file.interval_s, interfaces=file.interfaces),
            subnet=tuple(SubnetSettings(range=each, place=file.place) for each in file.subnets),
        )

    @cached_property
    def roster(self) -> Roster:
        """Return the memory, as a roster."""
        return Roster.open(self.folder)
