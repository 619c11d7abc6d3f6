"""How long a list holds on a real access point: a restart, a deadline, hours, a killed push, a station that moves."""

from __future__ import annotations

import signal
import subprocess
from datetime import datetime, timedelta
from functools import partial

from scopion.model.mac import MacAddress
from tests.air.radios import BUSYBOX, SECOND, SSID, AccessPoint, Station, wait_for
from tests.air.real_air import RealAir

LISTEN = """\
import time
from scopion.attachment.connect.control_socket import LocalControlLine
from scopion.wireless.refused_attempts import refused_in

line = LocalControlLine(sys.argv[1])
line.hear(time.monotonic() + 60, lambda said: print(refused_in(said), flush=True))
"""


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
        """Wait until it is; one that has missed that it was disconnected learns it with its next frame."""

        def is_off() -> bool:
            if self.clock.is_connected():
                self.clock.run(BUSYBOX, "ping", "-c", "1", "-W", "1", SECOND)
            return not self.clock.is_connected() or not self.point.has(self.clock.mac)

        try:
            wait_for("the clock is off the air", is_off)
        except AssertionError as error:
            asked = (self.bss.interface, f"STA {self.clock.mac}"), (self.bss.interface, "DENY_ACL SHOW")
            said = [*(self.point.ask(*each) for each in asked), self.clock.status(), self.clock.log()[-2000:]]
            raise AssertionError("\n".join(map(str, (error, *said)))) from None

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
            wait_for("the attic is on the air", lambda: self.point.is_up(self.bss))
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
        wait_for("it is taken back", lambda: not self.held())
        self.clock.again()
        self.clock.wait()
        begins = (datetime.now().astimezone() + timedelta(seconds=85)).replace(second=0, microsecond=0)
        hours = f"mon-sun {begins:%H:%M}-{begins + timedelta(hours=1):%H:%M}"
        self.ok("wifi", "deny", SSID, self.clock.mac, "--hours", hours)
        self.push("--revert-after", "1m", "--insist")
        self.ok("wifi", "keep")
        self.assertTrue(self.clock.is_connected())
        wait_for("its hours begin", self.held, within_s=150)
        self.assertGreaterEqual(datetime.now().astimezone(), begins)
        self.assertLess(datetime.now().astimezone() - begins, timedelta(seconds=60))
        self.off()

    def test_refused_attempts(self) -> None:
        """A line to the daemon hears each rejection; over SSH its log tells them."""
        machine, mac = self.air.machine, self.clock.mac
        listening = self.program(LISTEN, f"/run/{self.point.name}/{self.bss.interface}")
        listens = machine.start(listening, "/tmp/heard.log", at=self.point.at)
        self.addCleanup(machine.end, listens)
        self.settings(self.enforcer("attic"))
        self.refuse(self.clock)
        self.push()
        self.off()
        refused = f"('', {MacAddress.parse(mac)!r})"
        wait_for("the rejection is heard", lambda: refused in machine.read("/tmp/heard.log"))
        said = " ".join(self.scopion("wifi", "verify", SSID, "--no-scan").stderr.split())
        self.assertRegex(said, rf"attic, 2\.4 GHz: .*{mac}.* was turned away \d+ times?, by its log")

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
        """After each of its steps: each time the next push brings it to its end, and the station is off the air."""
        self.settings(self.enforcer("attic"))
        others = [f"10:c0:de:00:00:0{number}" for number in (1, 2)]
        self.ok("wifi", "deny", SSID, *others)
        self.refuse(self.clock)
        wanted, killed = len(others) + 1, 0
        for count in range(1, wanted + 1):
            process = self.lab.begin(["wifi", "push", SSID, "--yes", "--no-verify"], self.site)
            wait_for(f"step {count}", partial(self.is_at, count, process), every_s=0.0)
            process.kill()
            process.communicate()
            killed += process.returncode == -signal.SIGKILL
            self.push()
            self.assertEqual(self.entries(), wanted)
            self.point.ask(self.bss.interface, "DENY_ACL CLEAR")
        self.assertEqual(killed, wanted)
        self.push()
        self.off()
        states = [each["state"] for each in self.json("wifi", "revert", "--list")["pushes"]]
        self.assertEqual(states, ["done", *["done", "interrupted"] * wanted])

    def test_a_bridge_with_a_radio(self) -> None:
        """A firewall on the bridge behind the radio: the station stays associated, and nothing of it gets through."""
        self.settings(
            '[[enforcer]]\nname = "attic"\ntype = "nftables"\n'
            f'network = "{SSID}"\nradio = {{ "2.4" = {{ interface = "{self.bss.interface}" }} }}\n{self.ssh(SECOND)}'
        )
        self.addCleanup(self.ok, "wifi", "revert", SSID, "--yes")
        self.refuse(self.clock)
        self.assertTrue(self.is_heard())
        self.push()
        self.assertFalse(self.is_heard())
        self.assertTrue(self.clock.is_connected())
        said = self.scopion("wifi", "verify", SSID, "--no-scan").stderr
        self.assertRegex(said, rf"attic, 2\.4 GHz: \d+ frames? of .*{self.clock.mac}")

    def is_heard(self) -> bool:
        """Whether the clock answers the access point."""
        return self.air.machine.run([BUSYBOX, "ping", "-c", "3", self.clock.address], at=self.point.at).code == 0

    def is_at(self, count: int, push: subprocess.Popen[str]) -> bool:
        """Whether a push has come so far, or has ended."""
        return self.entries() >= count or push.poll() is not None

    def entries(self) -> int:
        """How many the deny list of the daemon has."""
        return len(self.point.ask(self.bss.interface, "DENY_ACL SHOW").splitlines())
