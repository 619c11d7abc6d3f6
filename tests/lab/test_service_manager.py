"""Our unit under a real service manager: nothing that its sandbox forbids is needed."""

from __future__ import annotations

import json
import unittest

from scopion.attachment.connect.mqtt_line import MqttLine
from scopion.watching.service.radius_unit import SERVICE
from scopion.watching.service.sensor_unit import SENSOR_UNIT
from tests.lab.broker import Broker
from tests.lab.lab import Lab, LabHost, require_lab, require_tools
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
SHARED = "made-up secret of the router"
RADIUS = """
[[enforcer]]
name = "shop"
type = "radius"
network = "Kilnhaven"
access_point = [{ name = "router", address = "192.0.2.1", secret = "file:secret" }]
"""


class ServiceManager(FolderTest):
    def setUp(self) -> None:
        require_lab()
        require_tools("radclient")
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

    def test_the_radius_server_keeps_its_ports(self) -> None:
        """Killed, it is back before an access point asks again: what comes meanwhile waits in the socket. It has no
        right at all; a push reaches it; without a list by RADIUS its units go.
        """
        manager = Manager(self.net, self.folder / "manager", self)
        (manager.site / "site.toml").write_text(RADIUS)
        (manager.site / "secret").write_text(SHARED)
        (manager.site / "secret").chmod(0o600)
        self.assertIn("the RADIUS server", manager.scopion("service", "install", "--yes"))
        wait_for("the server", lambda: manager.shown("ActiveState", unit=SERVICE) == ["active"])
        manager.scopion("wifi", "allow", "Kilnhaven", "54:b1:a3:7c:00:50")
        manager.scopion("wifi", "mode", "Kilnhaven", "allow", "--insist")
        manager.scopion("wifi", "push", "Kilnhaven", "--yes", "--no-verify")
        self.assertIn("Received Access-Accept", self.ask("54b1a37c0050"))
        manager.ctl("kill", "--signal=KILL", unit=SERVICE)
        self.assertIn("Received Access-Reject", self.ask("54b1a37c0051"))
        self.assertEqual(manager.shown("NRestarts", "CapabilityBoundingSet", unit=SERVICE), ["1", ""])
        (manager.site / "site.toml").write_text("")
        manager.scopion("service", "install", "--yes")
        self.assertEqual(manager.shown("LoadState", unit=SERVICE), ["not-found"])
        self.assertNotIn(":1812", self.net.run("desk", ["ss", "-Huln"]))

    def test_a_sensor_reports_from_its_sandbox(self) -> None:
        """From the folder that enrolling made: it sweeps, reports through TLS, takes less than 60 MB, and ends well."""
        site = self.folder / "site"
        broker = Broker(self.net, "gateway", "192.0.2.1", self.folder / "broker", self)
        enrol = ["sensor", "enrol", "pit", "--place", "clay pit", "--broker", "192.0.2.1", "--trust", str(broker.trust)]
        self.assertEqual(self.net.scopion(enrol, site).returncode, 0)
        broker.take(site / "sensors" / "broker")
        broker.start()
        heard: list[str] = []
        topics = ["scopion/your-site/sensor/pit/#"]
        account = broker.access("scopion", (site / "broker-password").read_text().strip())
        with self.net.inside("desk"):
            line = MqttLine(account, "test", topics, lambda said: heard.append(said.octets.decode()), lambda: None)
            line.start()
        self.addCleanup(line.stop)
        manager = Manager(self.net, self.folder / "manager", self)
        folder = site / "sensors" / "pit"
        self.assertIn("The sensor runs", manager.scopion("--site", str(folder), "service", "install", "--yes"))
        wait_for("its report", lambda: GATEWAY.mac in "".join(heard), 40)
        self.assertIn('"online": true', "".join(heard).replace('":true', '": true'))
        shown = manager.shown("ActiveState", "NRestarts", "AmbientCapabilities", "User", unit=SENSOR_UNIT)
        self.assertEqual(shown, ["active", "0", "cap_net_raw", "scopion"])
        self.assertLess(manager.resident_kb(SENSOR_UNIT), 60_000)
        self.assertEqual([line for line in manager.log().splitlines() if not line.startswith("<6>")], [])
        manager.scopion("--site", str(folder), "service", "remove", "--yes")
        self.assertEqual(manager.shown("ActiveState", "LoadState", unit=SENSOR_UNIT), ["inactive", "not-found"])
        wait_for("its last word", lambda: any('"online":false' in each for each in heard))

    def ask(self, name: str) -> str:
        """What radclient hears at the gateway."""
        question = (
            f"User-Name={name}, User-Password={name}, Message-Authenticator=0x00, "
            'Called-Station-Id="02-00-00-00-00-01:Kilnhaven"\n'
        )
        command = ["radclient", "-x", "-r", "3", "-t", "4", f"{self.net.desk_address}:1812", "auth", SHARED]
        return self.net.run("gateway", command, stdin=question, check=False)


if __name__ == "__main__":
    unittest.main()
