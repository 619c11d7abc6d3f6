"""Lists by RADIUS on real radios: two access points that ask, WPA2 and WPA3, and a server that goes away."""

from __future__ import annotations

import signal
import subprocess
import time
from datetime import datetime, timedelta
from functools import partial

from tests.air.radios import ASKING, CAFE, SHARED, AccessPoint, Station, network, wait_for
from tests.air.real_air import GUESTS, RealAir

MHZ = tuple(mhz for _, mhz in ASKING.values())
REMEMBERS_S = 30  # hostapd goes by a decision for so long


class ByRadius(RealAir):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        for point in cls.air.asking.values():
            if not point.hostapd:
                point.start(point.configuration())

    def setUp(self) -> None:
        super().setUp()
        (self.site / "secret").write_text(SHARED)
        (self.site / "secret").chmod(0o600)
        # hostapd 2.10 sends no Message-Authenticator with a question about a MAC address.
        points = "".join(
            f'[[enforcer.access_point]]\nname = "{name}"\naddress = "{address}"\n'
            'secret = "file:secret"\nsigns = false\n'
            for name, (address, _) in ASKING.items()
        )
        self.settings(f'[[enforcer]]\nname = "café"\ntype = "radius"\nnetwork = "{CAFE}"\n{points}')
        self.serve()
        self.reader, self.display = (self.station(name) for name in GUESTS)
        for each in (self.reader, self.display):
            self.addCleanup(self.leave, each)

    def own(self) -> tuple[AccessPoint, list[Station]]:
        return self.air.asking["counter"], []

    def clear(self) -> None:
        """Nothing: each test has a server of its own, with its lists."""

    def serve(self) -> None:
        self.server = self.lab.begin(["wifi", "radius", "serve"], self.site)
        self.addCleanup(self.end, self.server)
        wait_for("the ports", lambda: ":1812" in self.lab.run("desk", ["ss", "-Huln"]))

    def end(self, server: subprocess.Popen[str], how: int = signal.SIGTERM) -> str:
        if server.poll() is None:
            server.send_signal(how)
        return server.communicate(timeout=30)[1] if server.stderr and not server.stderr.closed else ""

    def leave(self, station: Station) -> None:
        """End the station's supplicant, so that it is off the air."""
        if station.supplicant:
            self.air.machine.end(station.supplicant)
            station.supplicant = 0

    def join(
        self, station: Station, *, wait: bool = True, security: str = "WPA-PSK", at: tuple[int, ...] = MHZ
    ) -> None:
        station.join(network(CAFE, security=security, mhz=at), wait=wait)

    def address_of(self, station: Station) -> str:
        """A station's address, also while it is off the air."""
        return station.run("cat", f"/sys/class/net/{station.interface}/address").output.strip()

    def admit(self, *stations: Station) -> None:
        for each in stations:
            self.ok("wifi", "allow", CAFE, self.address_of(each))
        self.ok("wifi", "mode", CAFE, "allow", "--insist")
        self.push(ssid=CAFE)

    def associated(self) -> dict[str, str]:
        """Who is associated by accounting, and where."""
        return {each["mac"]: each["access_point"] for each in self.json("wifi", "stations", CAFE)}

    def is_at(self, mac: str, name: str) -> bool:
        return self.associated() == {mac: name}

    def test_one_list_for_both_access_points(self) -> None:
        """By WPA2 and by WPA3 the one on the list joins at both; the other is rejected, which is told as an attempt."""
        self.admit(self.reader)
        for name, (_, mhz) in ASKING.items():
            for security in ("WPA-PSK", "SAE"):
                with self.subTest(access_point=name, security=security):
                    self.join(self.reader, security=security, at=(mhz,))
                    wait_for("its session", partial(self.is_at, self.reader.mac, name))
                    self.leave(self.reader)
                    wait_for("its end", lambda: not self.associated())
        self.join(self.display, wait=False)
        wait_for("its rejection", lambda: "CTRL-EVENT-AUTH-REJECT" in self.display.log())
        wait_for("the attempt", lambda: self.json("wifi", "stations", "--refused"))
        (row,) = self.json("wifi", "stations", "--refused")
        self.assertEqual((row["mac"], row["ssid"]), (self.address_of(self.display), CAFE))
        self.assertIn(row["access_point"], ASKING)
        self.assertFalse(self.display.is_connected())
        log = self.ok("wifi", "radius", "log", CAFE)
        self.assertIn("it is on no allow list", log)

    def test_who_is_refused_from_now_on_leaves(self) -> None:
        """A push has it disconnected at once; back from the access point's memory it is disconnected again."""
        self.admit(self.reader, self.display)
        self.join(self.reader)
        self.join(self.display)
        wait_for("both", lambda: len(self.associated()) == 2)
        mac = self.reader.mac
        self.ok("wifi", "drop", CAFE, mac)
        began = time.monotonic()
        self.push(ssid=CAFE)
        wait_for("it is off", lambda: "CTRL-EVENT-DISCONNECTED" in self.reader.log())
        self.assertLess(time.monotonic() - began, 20)
        wait_for("it is gone", lambda: "CTRL-EVENT-AUTH-REJECT" in self.reader.log() and mac not in self.associated())
        self.assertTrue(self.display.is_connected())
        verdict = self.json("wifi", "verify", CAFE, "--no-scan")
        self.assertTrue(verdict["met"], verdict)
        self.assertIn("has disconnected it", self.end(self.server))

    def test_hours_end_to_the_second(self) -> None:
        """Its session ends when its hours do, and the next attempt is refused."""
        self.admit(self.display)
        mac = self.address_of(self.reader)
        local = datetime.now().astimezone()
        end = (local + timedelta(seconds=90)).replace(second=0, microsecond=0)
        self.ok("wifi", "allow", CAFE, mac, "--hours", f"mon-sun {local - timedelta(minutes=30):%H:%M}-{end:%H:%M}")
        self.push(ssid=CAFE)
        self.join(self.reader)
        wait_for("it is off", lambda: "CTRL-EVENT-DISCONNECTED" in self.reader.log())
        late = (datetime.now().astimezone() - end).total_seconds()
        self.assertGreaterEqual(late, -0.5)
        self.assertLess(late, 10, "seconds after the end, the look at the log included")
        wait_for("its refusal", lambda: "it is outside its hours" in self.ok("wifi", "radius", "log", CAFE))
        wait_for("it is gone", lambda: mac not in self.associated())

    def test_the_server_is_killed_and_comes_back(self) -> None:
        """Who is associated stays; nobody gets in meanwhile; back again it knows the sessions, and lets devices in."""
        self.admit(self.reader, self.display)
        self.join(self.display)
        wait_for("its session", lambda: len(self.associated()) == 1)
        self.end(self.server, signal.SIGKILL)
        self.join(self.reader, wait=False)
        time.sleep(8)
        self.assertFalse(self.reader.is_connected())
        self.assertTrue(self.display.is_connected())
        self.serve()
        self.assertEqual(set(self.associated()), {self.display.mac})
        wait_for("the reader", self.reader.is_connected)
