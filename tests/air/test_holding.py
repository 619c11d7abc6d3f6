"""How long a list holds on a real access point: a restart, a deadline, hours, a killed push, a station that moves."""

from __future__ import annotations

import signal
import time
from datetime import datetime, timedelta

from tests.air.radios import SECOND, SSID, AccessPoint, Station
from tests.air.real_air import RealAir
from tests.lab.services import wait_for


class Holding(RealAir):
    """On the attic, whose only station is the clock."""

    def setUp(self) -> None:
        super().setUp()
        self.clock, self.point = self.station("clock"), self.air.second
        (self.bss,) = self.point.networks

    def held(self) -> bool:
        """Whether the deny list of the daemon has the clock."""
        return self.clock.mac in self.point.ask(self.bss.interface, "DENY_ACL SHOW")

    def off(self) -> None:
        wait_for("the clock is off the air", lambda: not self.clock.is_connected(), 30)

    def own(self) -> tuple[AccessPoint, list[Station]]:
        return self.air.second, [self.station("clock")]

    def test_a_restart_and_a_reload(self) -> None:
        """Without files the list is gone after a reload, as it is said; with files it outlives that and a restart."""
        self.settings(self.enforcer("attic"))
        self.refuse(self.clock)
        pushed = self.scopion("wifi", "push", SSID, "--yes", "--no-verify")
        self.assertIn("gone when it restarts or reads its files again", " ".join(pushed.stderr.split()))
        self.off()
        self.point.reload()
        wait_for("the list is gone", lambda: not self.held())
        self.assertIn("1 missing", self.scopion("wifi", "verify", SSID, "--no-scan").stdout)
        self.settings(self.enforcer("attic", files=True))
        self.push()
        for end in (self.point.reload, self.point.restart):
            end()
            wait_for("the attic is on the air", lambda: self.point.is_up(self.bss), 30)
            self.assertTrue(self.held())
        self.assertFalse(self.clock.is_connected())

    def test_hours_and_a_deadline(self) -> None:
        """The watch takes back what no person keeps, though a station is locked out; and hours begin to the minute."""
        self.settings(self.enforcer("attic"))
        watch = self.lab.begin(["watch", "--for", "4m"], self.site)
        self.addCleanup(watch.communicate)
        self.addCleanup(watch.send_signal, signal.SIGTERM)
        self.refuse(self.clock)
        self.push("--revert-after", "8s", "--insist")
        self.off()
        wait_for("it is taken back", lambda: not self.held(), 40)
        self.clock.again()
        self.clock.wait()
        begins = (datetime.now().astimezone() + timedelta(seconds=85)).replace(second=0, microsecond=0)
        hours = f"mon-sun {begins:%H:%M}-{begins + timedelta(hours=1):%H:%M}"
        self.ok("wifi", "deny", SSID, self.clock.mac, "--hours", hours)
        self.push("--revert-after", "1m", "--insist")
        self.ok("wifi", "keep")
        self.assertTrue(self.clock.is_connected())
        wait_for("its hours begin", self.held, 100)
        self.assertGreaterEqual(datetime.now().astimezone(), begins)
        self.assertLess(datetime.now().astimezone() - begins, timedelta(seconds=20))
        self.off()

    def test_one_of_two_is_off(self) -> None:
        """It is said which, and nothing is changed on the other: all is read before. By name that takes its list."""
        reached = self.enforcer("attic")
        gone = reached.replace('"attic"', '"shed"').replace(SECOND, "192.0.2.9")
        self.settings(reached + gone)
        self.refuse(self.clock)
        said = self.fails("wifi", "push", SSID, "--yes", "--no-verify")
        self.assertIn("192.0.2.9", said)
        self.assertFalse(self.held())
        self.push("--enforcer", "attic")
        self.off()

    def test_a_push_that_is_killed(self) -> None:
        """At four moments: each time the next push brings it to its end, and the station is off the air."""
        self.settings(self.enforcer("attic"))
        self.refuse(self.clock)
        for moment in (1.6, 2.4, 3.2, 4.0):
            process = self.lab.begin(["wifi", "push", SSID, "--yes", "--no-verify"], self.site)
            time.sleep(moment)
            process.kill()
            process.communicate()
        self.push()
        self.off()
        states = [each["state"] for each in self.json("wifi", "revert", "--list")["pushes"]]
        self.assertEqual(states[0], "done")
        self.assertTrue(self.held())
