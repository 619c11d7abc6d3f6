"""The air for tests: booted once for all of them, with its stations associated, and the program at the lab's desk."""

from __future__ import annotations

import atexit
import os
import platform
import shutil
import sys
import tempfile
import unittest
from functools import cache
from pathlib import Path

from tests.air.machine import KERNEL, TOOLS, Machine
from tests.air.radios import FIRST, HIDDEN, SECOND, SSID, AccessPoint, Air, Station, network
from tests.lab.in_the_lab import InTheLab
from tests.lab.lab import Lab, require_lab, require_tools
from tests.support import ROOT

BANDS = ("2.4", "5", "6")
GUESTS = ("reader", "display")  # they know the café only, whose access points ask by RADIUS
# The till joins by WPA2, the tablet by WPA3, the phone with a private address, the sensor with power save on, the safe
# a hidden network that requires frame protection, the desk is the administrator's, the clock knows the attic only.
STATIONS = ("till", "tablet", "phone", "sensor", "safe", "desk", "clock", *GUESTS)
ATTIC_MHZ = (2437,)


@cache
def booted() -> tuple[Lab, Path, Air]:
    """Boot the machine and let all stations join."""
    require_lab()
    require_tools(*TOOLS)
    if not KERNEL.exists():
        reason = f"no kernel for it: make test as root on Debian, x86-64, unpacks one (this is {platform.machine()})"
        if os.environ.get("CI"):
            raise AssertionError(f"{reason}; in CI the lab may not be skipped")
        raise unittest.SkipTest(reason)
    folder = Path(tempfile.mkdtemp(prefix="scopion-air-"))
    atexit.register(shutil.rmtree, folder)
    lab = Lab([], gateway=None)
    atexit.register(lab.close)
    machine = Machine(lab, folder)
    atexit.register(machine.close)
    air = Air(machine, STATIONS, bands=BANDS)
    for point in (air.first, air.second):
        point.start(point.configuration())
    of = air.stations
    of["till"].join(network())
    of["tablet"].join(network(security="SAE"), more="sae_pwe=2\n")
    of["phone"].join(network(more="mac_addr=1\n"))
    of["sensor"].join(network(mhz=(2412,)))
    of["safe"].join(network(HIDDEN, security="SAE", mhz=(2412,), more="scan_ssid=1\n"), more="sae_pwe=1\n")
    of["desk"].join(network())
    # It is thrown off again and again. With protected frames a station that misses its disconnection while it is still
    # in the handshake believes for good that it is associated: it takes no unprotected frame, and asks nothing.
    of["clock"].join(network(mhz=ATTIC_MHZ, protected=0))
    air.seat(lab, "desk")
    air.ssh_servers(folder / "ssh")
    of["sensor"].run("iw", "dev", of["sensor"].interface, "set", "power_save", "on")
    return lab, folder, air


class RealAir(InTheLab):
    """What tests on it share: the settings of access points, and stations by name."""

    air: Air
    within_s = 150  # each step is a program of the emulated machine, which shares its cores with all other tests

    @classmethod
    def setUpClass(cls) -> None:
        cls.lab, cls.folder, cls.air = booted()

    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(self.clear)

    def own(self) -> tuple[AccessPoint, list[Station]]:
        """The access point that the tests of this class are about, and its stations."""
        return self.air.first, [each for name, each in self.air.stations.items() if name not in ("clock", *GUESTS)]

    def clear(self) -> None:
        """Empty the lists of all its radios, in its files and at the daemon, and let every station join again."""
        point, stations = self.own()
        point.configuration()
        for bss in point.networks:
            for command in ("SET macaddr_acl 0", "ACCEPT_ACL CLEAR", "DENY_ACL CLEAR"):
                point.ask(bss.interface, command)
        missing = [each for each in stations if not (each.is_connected() and point.has(each.mac))]
        for each in missing:
            each.again()
        for each in missing:
            each.wait()

    def station(self, name: str) -> Station:
        """A station."""
        return self.air.stations[name]

    def push(self, *more: str, ssid: str = SSID) -> None:
        """Push without the questions."""
        self.ok("wifi", "push", ssid, "--yes", "--no-verify", *more)

    def refuse(self, station: Station, ssid: str = SSID) -> None:
        """Put a station on the deny list of a network, in the roster."""
        self.ok("wifi", "deny", ssid, station.mac)
        self.ok("wifi", "mode", ssid, "deny")

    def enforcer(self, name: str, *, bands: tuple[str, ...] = BANDS, ssid: str = SSID, files: bool = False) -> str:
        """The settings of the first access point (``workshop``), its hidden network (``office``), or the ``attic``."""
        first = name != "attic"
        point = self.air.first if first else self.air.second
        interfaces = {
            "workshop": dict(zip(BANDS, ("wlan0", "wlan1", "wlan2"), strict=True)),
            "office": {"2.4": "wlan0_1"},
            "attic": {"2.4": f"wlan{len(BANDS)}"},
        }[name]
        radios = []
        for band, interface in interfaces.items():
            own = f"/etc/{point.name}/{interface}"
            kept = f', accept_file = "{own}.accept", deny_file = "{own}.deny", config = "{own}.conf"' if files else ""
            if band in bands:
                radios.append(f'"{band}" = {{ socket = "/run/{point.name}/{interface}"{kept} }}')
        return (
            f'[[enforcer]]\nname = "{name}"\ntype = "hostapd"\nnetwork = "{ssid}"\nradio = {{ {", ".join(radios)} }}\n'
            f"{self.ssh(FIRST if first else SECOND)}"
        )

    def program(self, text: str, *arguments: str) -> list[str]:
        """The command that runs a program there on this machine's own interpreter, with the sources as they are."""
        path = f"import sys; sys.path.insert(0, {str(ROOT / 'src')!r})\n"
        return ["env", "SCOPION_LIVE=namespaces", sys.executable, "-I", "-c", f"{path}{text}", *arguments]

    def ssh(self, host: str) -> str:
        """The settings of the way to an access point."""
        of = self.folder / "ssh"
        return f'ssh = {{ host = "{host}", key = "{of}/key", known_hosts = "{of}/known_hosts" }}\n'
