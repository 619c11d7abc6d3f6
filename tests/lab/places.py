"""Three places of one site in namespaces, two of them with the very same range, and a real broker between them."""

from __future__ import annotations

import os
import signal
import subprocess
from contextlib import closing
from pathlib import Path
from typing import Any

from scopion.roster.store.open_roster import Roster
from tests.lab.broker import Broker
from tests.lab.lab import Lab, LabHost, require_lab
from tests.support import ProgramTest

BACKBONE = "198.51.100."
BROKER_ADDRESS = f"{BACKBONE}5"
SHOP = [
    LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",)),
    *[LabHost(f"shop{n}", f"10:c0:de:00:00:{n:02x}", (f"192.0.2.{n}",)) for n in range(20, 24)],
]
PIT = [LabHost(f"pit{n}", f"10:c0:de:00:01:{n:02x}", (f"192.0.2.{n}",)) for n in range(20, 23)]
MILL = [LabHost(f"mill{n}", f"10:c0:de:00:03:{n:02x}", (f"203.0.113.{n}",)) for n in range(20, 22)]
# By the name of the sensor: its place, its range, its own address there, and what else is there.
PLACES = {"pit": ("clay pit", "192.0.2.", PIT), "mill": ("glaze mill", "203.0.113.", MILL)}
SITE = """
name = "Kilnhaven"
[absence]
patience_s = {patience}
[watch]
interval_s = 5
[alerts]
learning_days = 0
[[channel]]
name = "book"
type = "file"
path = "book.jsonl"
"""


class PlacesTest(ProgramTest):
    """A site at the desk of the shop; sensors are enrolled by the program's own command, and so is the broker."""

    sensors: tuple[str, ...] = ("pit",)
    patience_s = 300
    broker_says = ""  # more of its configuration

    def setUp(self) -> None:
        require_lab()
        super().setUp()
        self.net = net = Lab(SHOP)
        self.addCleanup(net.close)
        net.second_switch("backbone")
        net.add_namespace("broker")
        net.connect("desk", "wan0", "10:c0:de:00:02:02", "backbone", f"{BACKBONE}2/24")
        net.connect("broker", "wan0", "10:c0:de:00:02:05", "backbone", f"{BROKER_ADDRESS}/24")
        self.broker = Broker(net, "broker", BROKER_ADDRESS, self.folder / "broker", self, self.broker_says)
        self.site.mkdir()
        (self.site / "site.toml").write_text(SITE.format(patience=self.patience_s))
        named = ["--here", "shop", "--broker", BROKER_ADDRESS, "--trust", str(self.broker.trust)]
        for number, name in enumerate(self.sensors):
            place, range_, hosts = PLACES[name]
            net.second_switch(name)
            for each in (LabHost(f"sensor-{name}", f"60:f2:a7:10:00:{number:02x}", (f"{range_}9",)), *hosts):
                net.host_on(name, each, f"{range_}1")
            mac, address = f"10:c0:de:00:02:1{number}", f"{BACKBONE}1{number}/24"
            net.connect(f"sensor-{name}", "wan0", mac, "backbone", address)
            self.run_ok("sensor", "enrol", name, "--place", place, "--subnet", f"{range_}0/24", *named)
            settings = self.sensing(name) / "sensor.toml"
            settings.write_text(settings.read_text().replace("# interval_s = 60", "interval_s = 5"))
            named = []
        self.broker.take(self.site / "sensors" / "broker")
        self.broker.start()

    def sensing(self, name: str) -> Path:
        """Return the folder of a sensor."""
        return self.site / "sensors" / name

    def start(self, at: str, *arguments: str, privileged: bool = True) -> subprocess.Popen[bytes]:
        """Start the program at the desk or at a sensor, with its log in a file."""
        folder = self.site if at == "desk" else self.sensing(at)
        with (self.folder / f"{at}.log").open("ab") as log:
            process = subprocess.Popen(
                self.net.command(arguments, privileged=privileged, at=at if at == "desk" else f"sensor-{at}"),
                env={**os.environ, "SCOPION_SITE": str(folder), "SCOPION_LIVE": "namespaces"},
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=log,
            )
        self.addCleanup(self._end, process)
        return process

    def _end(self, process: subprocess.Popen[bytes]) -> None:
        if process.poll() is None:
            process.send_signal(signal.SIGTERM)
            process.wait(20)

    def log(self, at: str) -> str:
        """Return what the program printed there."""
        path = self.folder / f"{at}.log"
        return path.read_text() if path.exists() else ""

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        """Return rows of the roster."""
        with closing(Roster.open_for_reading(self.site)) as roster:
            return [tuple(row) for row in roster.db.execute(query)]
