"""Who comes, goes and moves among kernel hosts while a site is watched: each thing is recorded once, and no other."""

from __future__ import annotations

import json
import os
import subprocess
import unittest
from collections.abc import Callable, Sequence

from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.services import wait_for
from tests.support import FolderTest

SETTINGS = "[watch]\ninterval_s = 5\n[absence]\npatience_s = 8\n"


def host(number: int) -> LabHost:
    """Every other one has IPv6, too."""
    return LabHost(f"h{number}", f"10:c0:de:00:00:{number:02x}", (f"192.0.2.{number}",), ipv6=number % 2 == 0)


class Comings(FolderTest):
    def setUp(self) -> None:
        require_lab()
        super().setUp()
        self.site = self.folder
        (self.site / "site.toml").write_text(SETTINGS)
        self.net = Lab([LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",)), *map(host, range(20, 25))])
        self.addCleanup(self.net.close)
        with (self.site / "log").open("wb") as log:
            environment = {**os.environ, "SCOPION_SITE": str(self.site)}
            watch = subprocess.Popen(self.net.command(["watch"]), env=environment, stdout=log, stderr=log)
        self.addCleanup(watch.wait, 20)
        self.addCleanup(watch.terminate)
        wait_for("the baseline", lambda: "is its baseline, 7 devices" in (self.site / "log").read_text())

    def events(self) -> list[tuple[str, str]]:
        """Kind and address, in the order of their recording."""
        listed = json.loads(self.net.scopion(["events", "--format", "json"], self.site).stdout)
        return [(each["kind"], each["address"]) for each in listed]

    def move(self, number: int, to: str) -> None:
        """Give a host another address."""
        self.net.run(f"h{number}", ["ip", "addr", "flush", "dev", "eth0", "scope", "global"])
        self.net.run(f"h{number}", ["ip", "addr", "add", f"{to}/24", "dev", "eth0"])

    def test_each_thing_is_recorded_once(self) -> None:
        """With raw frames and patience: two come, one moves while it is awake, two go, one comes back."""
        told = []
        acts: Sequence[tuple[Callable[[], object], str, str]] = (
            (lambda: self.net.join(host(41)), "joined", "192.0.2.41"),
            (lambda: self.move(41, "192.0.2.141"), "readdressed", "192.0.2.141"),
            (lambda: self.net.leave("h22"), "left", "192.0.2.22"),
            (lambda: self.net.join(host(22)), "returned", "192.0.2.22"),
            (lambda: self.net.leave("h41"), "left", "192.0.2.141"),
            (lambda: self.net.leave("h23"), "left", "192.0.2.23"),
        )
        for act, kind, address in acts:
            act()
            told.append((kind, address))
            wait_for(f"{kind} {address}", lambda: len(self.events()) >= len(told), 40)
        # Who has IPv6 shows that address first.
        found = [(kind, "192.0.2.22" if kind == "returned" else address) for kind, address in self.events()]
        self.assertEqual(found, told)
        self.assertEqual([line for line in (self.site / "log").read_text().splitlines() if "warning" in line], [])


if __name__ == "__main__":
    unittest.main()
