"""Lists by RADIUS on real radios: two access points that ask, WPA2 and WPA3, and a server that goes away."""

from __future__ import annotations

import shutil
import signal
import subprocess
import time
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

from tests.air.radios import ASKING, CAFE, SHARED, STANDBY, AccessPoint, Station, network, wait_for
from tests.air.real_air import GUESTS, RealAir
from tests.asking_dialect import check_conversation, overheard


def listed(more: str) -> str:
    """The settings of the café's list, which both access points ask for."""
    # hostapd 2.10 sends no Message-Authenticator with a question about a MAC address.
    points = "".join(
        f'[[enforcer.access_point]]\nname = "{name}"\naddress = "{address}"\nsecret = "file:secret"\nsigns = false\n'
        for name, (address, _) in ASKING.items()
    )
    return f'[[enforcer]]\nname = "café"\ntype = "radius"\nnetwork = "{CAFE}"\n{more}\n{points}'


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
        self.settings(listed(f'standby = {{ address = "{STANDBY}", key = "file:secret" }}'))
        self.server = self.serve(self.site)
        self.reader, self.display = (self.station(name) for name in GUESTS)
        for each in (self.reader, self.display):
            self.addCleanup(self.leave, each)

    def own(self) -> tuple[AccessPoint, list[Station]]:
        return self.air.asking["counter"], []

    def clear(self) -> None:
        """Nothing: each test has a server of its own, with its lists."""

    def serve(self, site: Path) -> subprocess.Popen[str]:
        server = self.lab.begin(["wifi", "radius", "serve"], site)
        self.addCleanup(self.end, server)
        wait_for("the ports", lambda: ":1812" in self.lab.run("desk", ["ss", "-Huln"]))
        return server

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
        """By WPA2 at one and by WPA3 at the other it joins; the other device is rejected, which is told."""
        self.admit(self.reader)
        for (name, (_, mhz)), security in zip(ASKING.items(), ("WPA-PSK", "SAE"), strict=True):
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
        """A push has it disconnected at once; back from the access point's memory it is disconnected again.

        What was said passes the check of made-up access points.
        """
        self.admit(self.reader, self.display)
        with overheard(self.lab, "desk") as said:
            self.join(self.reader)
            self.join(self.display)
            wait_for("both", lambda: len(self.associated()) == 2)
            mac = self.reader.mac
            self.ok("wifi", "drop", CAFE, mac)
            began = time.monotonic()
            self.push(ssid=CAFE)
            wait_for("it is off", lambda: "CTRL-EVENT-DISCONNECTED" in self.reader.log())
            self.assertLess(time.monotonic() - began, 20)
            wait_for(
                "it is gone", lambda: "CTRL-EVENT-AUTH-REJECT" in self.reader.log() and mac not in self.associated()
            )
        check_conversation(self, said, CAFE, SHARED.encode())
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
        self.assertGreaterEqual(late, -1, "Session-Timeout is in whole seconds, and never outlives the hours")
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
        self.server = self.serve(self.site)
        self.assertEqual(set(self.associated()), {self.display.mac})
        wait_for("the reader", self.reader.is_connected)

    def test_with_the_first_server_away_the_second_answers(self) -> None:
        """It has the list that was carried there: who is on it joins by it, and no other device."""
        self.admit(self.reader)
        carried = self.ok("wifi", "radius", "export", CAFE)
        self.end(self.server, signal.SIGKILL)
        second = self.folder / "second"
        shutil.copytree(self.site, second, ignore=shutil.ignore_patterns("radius", "roster*"))
        (second / "site.toml").write_text(listed(f'stands_in.key = "file:secret"\nlisten = "{STANDBY}"'))
        self.lab.run("desk", ["ip", "address", "add", f"{STANDBY}/32", "dev", "lo"])
        self.addCleanup(self.lab.run, "desk", ["ip", "address", "del", f"{STANDBY}/32", "dev", "lo"])
        self.site = second
        self.assertEqual(self.scopion("wifi", "radius", "take", "-", stdin=carried).returncode, 0)
        self.serve(second)
        # That a machine is silent, hostapd believes after a minute; that there is no way to it, at once.
        name, (_, mhz) = next(iter(ASKING.items()))
        self.air.machine.do(f"ip -n {name} route add prohibit {self.lab.desk_address}")
        self.addCleanup(self.air.machine.do, f"ip -n {name} route del prohibit {self.lab.desk_address}")
        here = (mhz,)
        self.join(self.reader, wait=False, at=here)
        wait_for("the reader", self.reader.is_connected)
        self.join(self.display, wait=False, at=here)
        expected = {(self.reader.mac, "accepted"), (self.address_of(self.display), "rejected")}
        wait_for("both answers", lambda: self.said() == expected)
        self.assertFalse(self.display.is_connected())

    def said(self) -> set[tuple[str, str]]:
        """What the server has answered about which station."""
        return {(each["mac"], each["outcome"]) for each in self.json("wifi", "radius", "log", CAFE)}
