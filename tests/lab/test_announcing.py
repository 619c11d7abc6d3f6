"""What a real broker has for home automation and scripts: who is here, what happens, and alerts."""

from __future__ import annotations

import json
import signal
import subprocess
from collections import deque
from typing import Any

from scopion.attachment.connect.mqtt_line import Arrived, MqttLine
from tests.lab.broker import Broker
from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.services import wait_for
from tests.support import ProgramTest

ADDRESS = "192.0.2.5"
ACCESS = "user scopion\ntopic readwrite home/#\nuser house\ntopic read home/#\nuser other\ntopic write elsewhere\n"
OVEN = LabHost("oven", "10:c0:de:00:00:31", ("192.0.2.31",), ipv6=False)
NEWCOMER = LabHost("newcomer", "a0:b4:d7:66:19:04", ("192.0.2.144",), ipv6=False)
SITE = f"""
name = "Kilnhaven"
[watch]
interval_s = 5
[alerts]
learning_days = 0
[broker]
host = "{ADDRESS}"
trust = "ca.pem"
password = "file:secret"
topics = "home"
publish = ["presence", "events"]
[[channel]]
name = "house"
type = "mqtt"
host = "{ADDRESS}"
topic = "home/alerts"
trust = "ca.pem"
user = "scopion"
password = "file:secret"
"""


class Announced(ProgramTest):
    def setUp(self) -> None:
        require_lab()
        super().setUp()
        self.net = Lab([LabHost("broker", "10:c0:de:00:00:05", (ADDRESS,), ipv6=False), OVEN], gateway=None)
        self.addCleanup(self.net.close)
        self.broker = Broker(self.net, "broker", ADDRESS, self.folder / "broker", self)
        self.broker.let_in({"scopion": "s-secret", "house": "h-secret", "other": "o-secret"}, ACCESS)
        self.broker.start()
        self.site.mkdir()
        (self.site / "site.toml").write_text(SITE)
        (self.site / "ca.pem").write_bytes(self.broker.trust.read_bytes())
        (self.site / "secret").write_text("s-secret")
        (self.site / "secret").chmod(0o600)

    def watch(self) -> subprocess.Popen[str]:
        process = self.net.begin(["watch", "--for", "5m"], self.site)
        self.addCleanup(process.communicate)
        self.addCleanup(process.send_signal, signal.SIGTERM)
        return process

    def reader(self, name: str) -> deque[Arrived]:
        """What the house reads, from now on."""
        arrived: deque[Arrived] = deque()

        def take(each: Arrived) -> None:
            arrived.append(each)
            line.acknowledge(each)

        with self.net.inside("desk"):
            access = self.broker.access("house", "h-secret")
            line = MqttLine(access, name, ["home/#"], take, lambda: None, session_s=600)
            line.start()
        self.addCleanup(line.stop)
        return arrived

    def test_who_is_here_and_what_happens(self) -> None:
        """Kept for who comes later, with the words that people gave; told again to a broker that has lost its memory;
        events that happened while it was down are said when it is back; a forgotten device is taken back.
        """
        watch = self.watch()
        first = self.reader("house")
        oven = f"home/presence/{OVEN.mac.replace(':', '')}"
        wait_for("the oven is here", lambda: any(each.topic == oven for each in first), 30)
        self.net.scopion(["label", OVEN.mac, "oven"], self.site)
        self.net.scopion(["mark", OVEN.mac, "known"], self.site)
        wait_for("its label", lambda: latest(first, oven).get("label") == "oven", 90)
        said = latest(first, oven)
        self.assertEqual(
            {key: said[key] for key in ("form", "standing", "present", "addresses", "macs", "label")},
            {"form": "presence/1", "standing": "known", "present": True, "addresses": ["192.0.2.31"],
             "macs": [OVEN.mac], "label": "oven"},
        )  # fmt: skip
        self.assertNotIn("place", said)
        late = self.reader("late")
        wait_for("what was kept", lambda: oven in {each.topic for each in late})
        self.assertTrue(next(each for each in late if each.topic == oven).retained)
        self.broker.stop(kill=True)
        for path in (self.broker.folder / "data").iterdir():
            path.unlink()
        self.broker.start()
        again = self.reader("again")
        wait_for("all of it again", lambda: oven in {each.topic for each in again}, 45)
        wait_for("the first reader is back", lambda: [each.topic for each in first].count(oven) > 2, 45)
        self.broker.stop()
        self.net.join(NEWCOMER)
        wait_for("the newcomer is known", lambda: NEWCOMER.mac in self.net.scopion(["devices"], self.site).stdout, 30)
        self.broker.start()
        wait_for("the event", lambda: "home/event/joined" in {each.topic for each in first}, 45)
        joined = [json.loads(each.octets) for each in first if each.topic == "home/event/joined"]
        self.assertEqual([each["mac"] for each in joined], [NEWCOMER.mac])
        self.assertIn("is here for the first time", joined[0]["says"])
        self.net.scopion(["alerts", "retry"], self.site)
        wait_for("the alert", lambda: NEWCOMER.mac in str(latest(first, "home/alerts")), 60)
        self.assertEqual(latest(first, "home/alerts")["form"], "alert/1")
        gone = f"home/presence/{NEWCOMER.mac.replace(':', '')}"
        wait_for("the newcomer is here", lambda: gone in {each.topic for each in first}, 30)
        self.net.leave("newcomer")
        watch.send_signal(signal.SIGTERM)
        watch.communicate()
        ended = self.net.scopion(["forget", NEWCOMER.mac, "--yes"], self.site)
        self.assertEqual(ended.returncode, 0, ended.stderr)
        self.watch()
        wait_for("it is taken back", lambda: [each.octets for each in first if each.topic == gone][-1] == b"", 90)

    def test_a_channel_says_why(self) -> None:
        """Refused, not allowed, no certificate, nobody there: one line each, and nothing is lost."""
        channel = "[[channel]]" + SITE.partition("[[channel]]")[2]
        for old, new, says in (
            ("", "", "has confirmed it"),
            ('"scopion"', '"other"', "refuses this account"),
            ("home/alerts", "$SYS/x", "channel.1.topic"),
            ("home/alerts", "away", "does not let this account write here"),
            ('trust = "ca.pem"', "", "not trusted|self-signed|issuer"),
            (ADDRESS, "192.0.2.77", "no answer within 3 seconds"),
            ("topic =", "port = 1\ntopic =", "nothing listens there"),
            ('trust = "ca.pem"', 'trust = "secret"', "should hold the certificates"),
        ):
            with self.subTest(new=new):
                text = channel.replace(old, new) if old else channel
                (self.site / "site.toml").write_text(text + "timeout_s = 3\n")
                ended = self.net.scopion(["alerts", "test", "house"], self.site)
                self.assertRegex(ended.stderr, says)
                self.assertEqual(ended.returncode == 0, not old, ended.stderr)


def latest(arrived: deque[Arrived], topic: str) -> dict[str, Any]:
    """The last document on a topic."""
    found = [each.octets for each in list(arrived) if each.topic == topic and each.octets]
    return dict(json.loads(found[-1])) if found else {}
