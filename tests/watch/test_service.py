"""The unit for the service manager: rights by the settings, a sandbox that passes the manager's own analysis."""

from __future__ import annotations

import grp
import os
import re
import shutil
import stat
import subprocess
import unittest
from unittest import mock

from scopion.roster.store.open_roster import Roster
from scopion.watching.service.install_service import secrets_left_behind
from scopion.watching.service.radius_unit import SERVICE
from tests.support import ProgramTest

EXPOSURE = 2.0


class Unit(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.site.mkdir()

    def unit(self, settings: str) -> str:
        (self.site / "site.toml").write_text(settings)
        return self.run_ok("service")

    def test_the_rights_are_those_that_the_settings_need(self) -> None:
        """Raw frames only for a method that uses them; credentials by name; a folder outside only if it is written."""
        usual, modest = self.unit(""), self.unit('[scan]\nmethod = "touch"\n')
        self.assertIn("CapabilityBoundingSet=CAP_NET_RAW\n", usual)
        self.assertIn("AF_PACKET", usual)
        self.assertIn("CapabilityBoundingSet=\n", modest)
        self.assertNotIn("CAP_", modest)
        self.assertNotIn("AF_PACKET", modest)
        own = '[[enforcer]]\nname = "b"\ntype = "nftables"\nnetwork = "K"\nradio = { "5" = { interface = "wlan0" } }\n'
        self.assertIn("AmbientCapabilities=CAP_NET_RAW CAP_NET_ADMIN\n", self.unit(own))
        self.assertIn("AmbientCapabilities=CAP_NET_ADMIN\n", self.unit(f'[scan]\nmethod = "touch"\n{own}'))
        remote = f'{own}ssh = {{ host = "192.0.2.2", password = "credential:ap" }}\n'
        self.assertNotIn("CAP_NET_ADMIN", self.unit(remote))
        self.assertIn("LoadCredential=ap:/etc/scopion/ap\n", self.unit(remote))
        files = (
            '[[enforcer]]\nname = "a"\ntype = "hostapd"\nnetwork = "K"\n'
            'radio."5" = { socket = "/run/hostapd/wlan0", deny_file = "/etc/hostapd/deny" }\n'
        )
        self.assertRegex(self.unit(files), r"ReadWritePaths=.*/etc/hostapd( |\n)")
        channels = self.unit(
            '[[channel]]\ntype = "file"\nname = "book"\npath = "/var/log/kilnhaven/book.jsonl"\n'
            '[[channel]]\ntype = "webhook"\nname = "phone"\nurl = "https://push.kilnhaven.example/"\n'
            'key = "credential:hook-key"\nheaders = { Authorization = "credential:hook-token" }\n'
        )
        self.assertIn("LoadCredential=hook-key:/etc/scopion/hook-key\n", channels)
        self.assertIn("LoadCredential=hook-token:/etc/scopion/hook-token\n", channels)
        self.assertRegex(channels, r"ReadWritePaths=.*/var/log/kilnhaven\n")

    def test_a_sensor_has_the_rights_of_its_hands(self) -> None:
        """Those that orders.toml needs there, and none without it; what is reached over SSH needs none."""
        (self.site / "sensor.toml").write_text(
            'name = "pit"\nplace = "clay pit"\n[broker]\nhost = "127.0.0.1"\ntopics = "k"\n'
        )
        plain = self.run_ok("service")
        self.assertIn("AmbientCapabilities=CAP_NET_RAW\n", plain)
        key = self.site / "orders-key"
        key.write_text("11" * 32)
        key.chmod(0o600)
        (self.site / "orders.toml").write_text(
            '[[enforcer]]\nname = "b"\ntype = "nftables"\nnetwork = "K"\nradio = { "5" = { interface = "wlan0" } }\n'
            '[[enforcer]]\nname = "a"\ntype = "hostapd"\nnetwork = "K"\n'
            'radio."5" = { socket = "/run/hostapd/wlan0", deny_file = "/etc/hostapd/deny" }\n'
            '[[enforcer]]\nname = "c"\ntype = "uci"\nnetwork = "K"\nfile = "/etc/far/wireless"\n'
            'ssh = { host = "192.0.2.2", password = "credential:ap" }\n'
        )
        unit = self.run_ok("service")
        self.assertIn("AmbientCapabilities=CAP_NET_RAW CAP_NET_ADMIN\n", unit)
        self.assertIn("LoadCredential=ap:/etc/scopion/ap\n", unit)
        self.assertRegex(unit, r"ReadWritePaths=.*/etc/hostapd( |\n)")
        self.assertNotIn("/etc/far", unit)
        key.chmod(0o644)
        self.assertIn("chmod 600", self.run_program("service").stderr)

    def test_a_lease_file_is_read_by_its_group(self) -> None:
        """One that is closed to others is reached by its group's right; where there is none, that is said."""
        leases = self.folder / "leases"
        leases.mkdir()
        group = grp.getgrgid(os.getgid() or 1)
        os.chown(leases, -1, group.gr_gid)
        self.folder.chmod(0o755)
        settings = f'[watch]\nleases = ["{leases}/kea.csv"]\n'
        said = {}
        for mode in (0o755, 0o750, 0o700):
            leases.chmod(mode)
            (self.site / "site.toml").write_text(settings)
            ended = self.run_program("service", "unit")
            said[mode] = (f"SupplementaryGroups={group.gr_name}\n" in ended.stdout, "kea.csv cannot be" in ended.stderr)
        self.assertEqual(said, {0o755: (False, False), 0o750: (True, False), 0o700: (False, True)})

    def test_the_analysis_of_the_service_manager(self) -> None:
        """An exposure of at most 2.0 by systemd's own measure, and no line that it does not understand."""
        analyser = shutil.which("systemd-analyze")
        if analyser is None:
            if os.environ.get("CI"):
                self.fail("systemd-analyze is not installed; in CI this may not be skipped")
            self.skipTest("systemd-analyze is not installed")
        radius = self.unit(
            '[[enforcer]]\nname = "a"\ntype = "radius"\nnetwork = "K"\nlisten = "192.0.2.5"\n'
            'access_point = [{ name = "b", address = "192.0.2.2", secret = "credential:radius" }]\n'
        ).split(f"# --- {SERVICE}\n")[1]
        self.assertIn("LoadCredential=radius:/etc/scopion/radius\n", radius)
        for name, text in (
            ("scopion.service", self.unit("")),
            ("scopion.service", self.unit('[scan]\nmethod = "touch"\n')),
            (SERVICE, radius),
        ):
            path = self.folder / name
            path.write_text(text)
            command = [analyser, "security", "--offline=true", "--no-pager", str(path)]
            said = subprocess.run(command, capture_output=True, text=True, check=False)
            found = re.search(rf"exposure level for {name}: ([\d.]+)", said.stdout)
            assert found is not None, said.stderr
            self.assertLessEqual(float(found[1]), EXPOSURE)
            self.assertNotRegex(said.stderr, "(?i)unknown|failed to parse|ignoring")

    def test_nothing_is_installed_where_the_live_network_is_locked(self) -> None:
        """The commands that change the machine refuse in one line; the instructions by hand are for everybody."""
        for command in ("install", "remove"):
            self.assertIn("the live network is locked", self.refused(1, "service", command, "--yes"))
        told = self.run_ok("service", "by-hand")
        self.assertIn("useradd --system", told)
        self.assertIn("watch --once", told)

    def test_secrets_that_stay_behind_are_named(self) -> None:
        """A file, a variable and a credential that the service lacks: each with what to do, none with its contents."""
        (self.site / "mail.secret").write_text("kettle-and-slip")
        (self.site / "site.toml").write_text(
            '[[channel]]\nname = "owner"\ntype = "email"\nto = ["owner@kilnhaven.example"]\n'
            'sender = "s@kilnhaven.example"\nhost = "192.0.2.5"\nuser = "s"\npassword = "file:mail.secret"\n'
            '[[channel]]\nname = "hook"\ntype = "webhook"\nurl = "https://push.kilnhaven.example/"\nkey = "env:HOOK"\n'
            'headers = { Authorization = "credential:scopion-test-token" }\n'
        )
        Roster.open(self.site).close()
        with mock.patch("scopion.watching.service.install_service.SYSTEM_FOLDER", self.folder / "none-yet"):
            told = secrets_left_behind(self.site)
        self.assertEqual(len(told), 3)
        self.assertIn("/etc/scopion/scopion-test-token", told[0])
        self.assertIn("use credential:HOOK", told[1])
        self.assertIn(f"{self.site / 'mail.secret'} was not copied: install -o scopion", told[2])
        self.assertNotIn("kettle-and-slip", str(told))

    def test_a_folder_for_a_group_is_for_the_group(self) -> None:
        """In a folder of mode 2770 the group can read and change all new files; else only the owner can."""
        for mode, files, folders in ((0o2770, 0o660, 0o2770), (0o2750, 0o640, 0o2750), (0o700, 0o600, 0o700)):
            site = self.folder / f"site-{mode:o}"
            self.run_ok("demo", "--begin", str(site))
            site.chmod(mode)
            self.run_ok("--site", str(site), "watch", "--once")
            for path in site.rglob("*"):
                if path.name in ("story.json", "site.toml") or "etc" in path.parts:  # made before it was a group's
                    continue
                kept = stat.S_IMODE(path.stat().st_mode)
                self.assertEqual(oct(kept), oct(folders if path.is_dir() else files), path)


if __name__ == "__main__":
    unittest.main()
