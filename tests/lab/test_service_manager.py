"""Our unit under a real service manager: nothing that its sandbox forbids is needed."""

from __future__ import annotations

import json
import unittest

from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.manager import Manager
from tests.lab.services import Services, wait_for
from tests.receivers import BOOK, OWNER
from tests.support import FolderTest

GATEWAY = LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",))
STRANGER = LabHost("stranger", "a0:b4:d7:66:19:04", ("192.0.2.144",))
KEY, PRIVACY = "authentication key", "privacy key"
SETTINGS = f"""
[watch]
interval_s = 5
routers_s = 5
[alerts]
learning_days = 0
[[subnet]]
range = "192.0.2.0/24"
[[subnet]]
range = "198.51.100.0/29"
router = "192.0.2.1"
[[router]]
address = "192.0.2.1"
version = "3"
user = "scopion"
authentication_key = "file:key"
privacy_key = "file:privacy"
{BOOK}{OWNER}[[channel]]
name = "script"
type = "command"
command = ["/bin/sh", "-c", "grep ^Cap /proc/self/status >rights"]
"""


class ServiceManager(FolderTest):
    def setUp(self) -> None:
        require_lab()
        super().setUp()
        self.net = Lab([GATEWAY])
        self.addCleanup(self.net.close)
        self.spool = self.folder / "spool"
        services = Services(self.net, self.folder, self)
        services.snmpd("gateway", "workshop", "scopion", KEY, PRIVACY)
        services.mail_server("desk", self.spool)

    def test_installed_it_does_all_of_its_work_in_its_sandbox(self) -> None:
        """With the site that was in use until then it is ready, sweeps, listens, asks a router, tells by mail, file and
        command (which has no right of ours), makes the day's copy for the group and ends well; installed again it has
        its new settings, removed it leaves the site.
        """
        own = self.folder / "own"
        own.mkdir()
        (own / "site.toml").write_text(SETTINGS)
        self.net.scan(own)
        self.net.scopion(["label", "192.0.2.1", "kiln room router"], own)
        manager = Manager(self.net, self.folder / "manager", self)
        for name, secret in (("key", KEY), ("privacy", PRIVACY)):
            (manager.site / name).write_text(secret)
            (manager.site / name).chmod(0o600)
        self.assertIn("The service runs", manager.scopion("--site", str(own), "service", "install", "--yes"))
        wait_for("the first sweep", lambda: "192.0.2.0/24: this is your site" in manager.log())
        self.assertEqual(manager.shown("ActiveState", "SubState"), ["active", "running"])
        self.net.join(STRANGER)
        wait_for("the mail", self.spool.read_text)
        self.assertIn("a0:b4:d7:66:19:04", json.loads(self.spool.read_text())["text"])
        wait_for("the command", (manager.site / "rights").exists)
        wait_for("the router's table", lambda: "198.51.100.0/29: this is your site" in manager.log())
        rights = dict(line.split() for line in (manager.site / "rights").read_text().splitlines())
        self.assertEqual({int(rights[each], 16) for each in ("CapPrm:", "CapEff:", "CapAmb:")}, {0})
        self.assertIn("a0:b4:d7:66:19:04", (manager.site / "book.jsonl").read_text())
        self.assertEqual(manager.modes("copies"), {"copies": "2770"})
        made = manager.modes("copies/*", "roster.sqlite*", "book.jsonl", "watch.lock")
        self.assertEqual((len(made) > 5, {*made.values()}), (True, {"660"}), made)
        manager.ctl("reload")
        wait_for("the settings", lambda: "the settings were read again" in manager.log())
        self.assertEqual([line for line in manager.log().splitlines() if not line.startswith("<6>")], [])
        (manager.site / "site.toml").write_text('[scan]\nmethod = "touch"\n[watch]\ninterval_s = 1800\n')
        before = len(manager.log())
        manager.scopion("service", "install", "--yes")
        wait_for("a sweep without raw frames", lambda: "192.0.2.0/24: this is your site" in manager.log()[before:])
        self.assertEqual(manager.shown("AmbientCapabilities", "Result", "NRestarts"), ["", "success", "0"])
        self.assertIn("every 1800 s", manager.log()[before:])
        self.assertIn("not listening", manager.log()[before:])
        manager.scopion("service", "remove", "--yes")
        self.assertEqual(manager.shown("ActiveState", "LoadState"), ["inactive", "not-found"])
        devices = manager.scopion("devices")
        self.assertIn("192.0.2.144", devices)
        self.assertIn("kiln room router", devices)


if __name__ == "__main__":
    unittest.main()
