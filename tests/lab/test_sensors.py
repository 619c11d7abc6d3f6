"""Two places with the very same range, a real broker between them, and one roster."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
from contextlib import closing
from typing import Any

from scopion.roster.store.open_roster import Roster
from tests.lab.broker import Broker
from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.services import wait_for
from tests.support import ProgramTest

BACKBONE = "198.51.100."
SHOP = [
    LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",)),
    *[LabHost(f"shop{n}", f"10:c0:de:00:00:{n:02x}", (f"192.0.2.{n}",)) for n in range(20, 24)],
]
PIT = [LabHost(f"pit{n}", f"10:c0:de:00:01:{n:02x}", (f"192.0.2.{n}",)) for n in range(20, 23)]
NEWCOMER = LabHost("newcomer", "a0:b4:d7:66:19:04", ("192.0.2.144",), ipv6=False)
SITE = """
name = "Kilnhaven"
[watch]
interval_s = 5
[alerts]
learning_days = 0
[[channel]]
name = "book"
type = "file"
path = "book.jsonl"
"""


class TwoPlaces(ProgramTest):
    def setUp(self) -> None:
        require_lab()
        super().setUp()
        self.net = net = Lab(SHOP)
        self.addCleanup(net.close)
        for switch in ("pit", "backbone"):
            net.second_switch(switch)
        for each in (LabHost("sensor", "60:f2:a7:10:00:99", ("192.0.2.9",)), *PIT):
            net.host_on("pit", each, "192.0.2.1")
        net.add_namespace("broker")
        for number, (host, last) in enumerate((("desk", 2), ("sensor", 3), ("broker", 5))):
            net.connect(host, "wan0", f"10:c0:de:00:02:{number:02x}", "backbone", f"{BACKBONE}{last}/24")
        self.broker = Broker(net, "broker", f"{BACKBONE}5", self.folder / "broker", self)
        self.sensing = self.site / "sensors" / "pit"
        self.site.mkdir()
        (self.site / "site.toml").write_text(SITE)
        self.enrol("pit", "clay pit", "--here", "shop", "--broker", self.broker.address, "--trust", self.broker.trust)
        settings = self.sensing / "sensor.toml"
        settings.write_text(settings.read_text().replace("# interval_s = 60", "interval_s = 5"))
        self.broker.start()

    def enrol(self, name: str, place: str, *options: object) -> None:
        """Enrol a sensor of the range that both places have, and give the broker what is for it."""
        self.run_ok("sensor", "enrol", name, "--place", place, "--subnet", "192.0.2.0/24", *map(str, options))
        self.broker.take(self.site / "sensors" / "broker")

    def start(self, at: str, *arguments: str) -> subprocess.Popen[bytes]:
        """Start the program at a host, with its log in a file."""
        folder = self.site if at == "desk" else self.sensing
        with (self.folder / f"{at}.log").open("ab") as log:
            process = subprocess.Popen(
                self.net.command(arguments, at=at),
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
        path = self.folder / f"{at}.log"
        return path.read_text() if path.exists() else ""

    def rows(self, query: str) -> list[tuple[Any, ...]]:
        with closing(Roster.open_for_reading(self.site)) as roster:
            return [tuple(row) for row in roster.db.execute(query)]

    def told(self) -> list[dict[str, Any]]:
        path = self.site / "book.jsonl"
        return [json.loads(line) for line in path.read_text().splitlines()] if path.exists() else []

    def test_one_roster_of_two_places(self) -> None:
        """Devices of both places with equal addresses; a newcomer there is told."""
        self.start("desk", "watch")
        self.start("sensor", "sensor", "run")
        here = "SELECT place, address, mac FROM stay WHERE present AND address NOT LIKE '%:%' ORDER BY 1, 2"

        def both() -> bool:
            found = self.rows(here)
            wanted = {("clay pit", f"192.0.2.{n}", f"10:c0:de:00:01:{n:02x}") for n in range(20, 23)}
            return wanted | {("shop", "192.0.2.20", "10:c0:de:00:00:14")} <= set(found)

        try:
            wait_for("both places", both, 40)
            self.net.host_on("pit", NEWCOMER, "192.0.2.1")
            with self.net.inside("newcomer"), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as speaks:
                speaks.sendto(b"x", ("192.0.2.20", 9))
            wait_for(
                "the newcomer is told", lambda: any(NEWCOMER.mac in str(each["facts"]) for each in self.told()), 20
            )
        except AssertionError:
            print(self.log("desk"), self.log("sensor"), here and self.rows(here))
            raise
        (told,) = (each for each in self.told() if NEWCOMER.mac in str(each["facts"]))
        self.assertIn("clay pit", told["text"] + str(told["facts"]))
