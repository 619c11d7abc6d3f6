"""The RADIUS server in a network of its own, asked by radclient: a peer that nobody here wrote."""

from __future__ import annotations

import json
import os
import re
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from types import MappingProxyType

from tests.lab.in_the_lab import InTheLab
from tests.lab.lab import PROGRAM, Lab, LabHost, require_lab, require_tools
from tests.lab.services import Services, wait_for

COUNTER = LabHost("counter", "0c:be:11:00:00:11", ("192.0.2.11",))
OVEN = LabHost("oven", "0c:be:11:00:00:12", ("192.0.2.12",))
ELSEWHERE = LabHost("elsewhere", "a0:b4:d7:66:19:04", ("192.0.2.77",))
SECOND = LabHost("second", "0c:be:11:00:00:20", ("192.0.2.20",))
SSID, TILL, STRANGER = "Kilnhaven", "54:b1:a3:7c:00:50", "a0:b4:d7:66:19:05"
SECRETS = {"counter": "made-up secret of the counter", "oven": "made-up secret of the oven room"}
SETTINGS = f"""
[[enforcer]]
name = "shop"
type = "radius"
network = "{SSID}"
[[enforcer.access_point]]
name = "counter"
address = "192.0.2.11"
secret = "file:counter"
[[enforcer.access_point]]
name = "oven room"
address = "192.0.2.12"
secret = "file:oven"
signs = false
"""


class Radius(InTheLab):
    @classmethod
    def setUpClass(cls) -> None:
        require_lab()
        require_tools("radclient")
        cls.lab = Lab([COUNTER, OVEN, ELSEWHERE, SECOND], gateway=None)
        cls.addClassCleanup(cls.lab.close)
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name)

    def setUp(self) -> None:
        super().setUp()
        self.settings(SETTINGS)
        for name, secret in SECRETS.items():
            (self.site / name).write_text(secret)
            (self.site / name).chmod(0o600)
        self.server = self.serve()

    def serve(self, at: str = "desk", site: Path | None = None) -> subprocess.Popen[str]:
        """Start a server, and wait until its ports are open."""
        server = self.lab.begin(["wifi", "radius", "serve"], site or self.site, at=at)
        self.addCleanup(self.end, server)
        wait_for("the ports", lambda: ":1812" in self.lab.run(at, ["ss", "-Huln"]))
        return server

    def end(self, server: subprocess.Popen[str], how: int = signal.SIGTERM) -> str:
        """End a server; what it has logged."""
        if server.poll() is None:
            server.send_signal(how)
        return server.communicate(timeout=30)[1] if not server.stderr or not server.stderr.closed else ""

    def publish(self) -> None:
        """Let the till in, and nobody else."""
        self.ok("wifi", "allow", SSID, TILL, "--description", "till")
        self.ok("wifi", "mode", SSID, "allow", "--insist")
        self.ok("wifi", "push", SSID, "--yes", "--no-verify")

    def ask(
        self,
        mac: str = TILL,
        at: str = "counter",
        *,
        secret: str = "",
        kind: str = "auth",
        silence: bool = False,
        server: str = Lab.desk_address,
        but: Mapping[str, str | None] = MappingProxyType({}),
    ) -> str:
        """What radclient says of a question; ``but`` changes its attributes. Where there is to be ``silence``, it asks
        once.
        """
        bare = mac.replace(":", "")
        attributes: dict[str, str | None] = {
            "User-Name": bare, "User-Password": bare, "Calling-Station-Id": mac.replace(":", "-").upper(),
            "Called-Station-Id": f'"02-00-00-00-00-01:{SSID}"', "NAS-Identifier": "counter.kilnhaven.example",
            "Message-Authenticator": "0x00", **but,
        }  # fmt: skip
        said = ", ".join(f"{name} = {value}" for name, value in attributes.items() if value is not None)
        to = f"{server}:{1813 if kind == 'acct' else 1812}"
        patience = ["-r", "1", "-t", "1"] if silence else ["-r", "4", "-t", "2"]
        command = ["radclient", "-x", *patience, to, kind, secret or SECRETS[at]]
        return self.lab.run(at, command, stdin=f"{said}\n", check=False)

    def test_what_another_radius_client_asks_and_hears(self) -> None:
        """PAP and CHAP, on the list and off it, with and without a signature, with another secret, from elsewhere: a
        reply that it takes for good where there is to be one, else none; and the log says why.
        """
        self.publish()
        self.assertRegex(self.ask(), "Received Access-Accept(?s:.*)Message-Authenticator(?s:.*)Session-Timeout = 86400")
        self.assertIn(
            "Received Access-Accept", self.ask(but={"User-Password": None, "CHAP-Password": TILL.replace(":", "")})
        )
        self.assertIn("Received Access-Reject", self.ask(STRANGER))
        self.assertIn("No reply", self.ask(secret="made-up secret of nobody", silence=True))
        self.assertIn("No reply", self.ask(but={"Message-Authenticator": None}, silence=True))
        self.assertIn("Received Access-Accept", self.ask(at="oven", but={"Message-Authenticator": None}))
        # It sends a value that is given as it is: one that fits nothing.
        self.assertIn(
            "No reply",
            self.ask(at="oven", secret="made-up secret of nobody", silence=True, but={"Message-Authenticator": None}),
        )
        bare = TILL.replace(":", "")
        from_elsewhere = ["radclient", "-r", "1", "-t", "1", "192.0.2.10:1812", "auth", SECRETS["counter"]]
        told = self.lab.run("elsewhere", from_elsewhere, stdin=f"User-Name={bare}\n", check=False)
        self.assertNotIn("Received", told)
        self.assertIn("Received Access-Accept", self.ask(kind="status", but={"User-Password": None}))
        wait_for("the log", lambda: "stranger" in self.reasons())
        self.assertEqual(
            self.reasons(),
            ["allowed", "allowed", "not_allowed", "secret", "unsigned", "allowed", "secret", "stranger"],
        )
        log = self.json("wifi", "radius", "log")
        self.assertEqual([log[0]["name"], log[2]["name"]], ["till", None], "by the list; the roster knows neither")
        advised = [each["reason"] for each in log if each["advice"]]
        self.assertEqual(len(advised), 4, advised)
        for secret in SECRETS.values():
            everything = "".join(path.read_text() for path in (self.site / "radius").iterdir())
            self.assertNotIn(secret, everything + self.end(self.server))

    def reasons(self) -> list[str]:
        path = self.site / "radius/answers.jsonl"
        return [json.loads(line)["reason"] for line in path.read_text().splitlines()] if path.exists() else []

    def test_it_answers_whatever_becomes_of_the_files(self) -> None:
        """With the roster locked, damaged and gone, with a mistake in the settings, after a kill and a start with all
        that, with the published list damaged: the till gets in and the stranger does not.
        """
        self.publish()
        roster = self.site / "roster.sqlite"
        holder = subprocess.Popen(["flock", str(roster), "sleep", "60"])
        self.addCleanup(holder.wait)
        self.addCleanup(holder.kill)
        self.check()
        roster.write_bytes(b"no roster at all" * 100)
        self.check()
        roster.unlink()
        (self.site / "site.toml").write_text("[[enforcer]\nname = \n")
        self.check()
        self.end(self.server, signal.SIGKILL)
        self.server = self.serve()
        self.check()
        (published,) = [path for path in (self.site / "radius").glob("list-*.json") if "last" not in path.name]
        whole = published.read_text()
        published.write_text(whole[:100])
        time.sleep(0.6)
        self.check()
        self.end(self.server, signal.SIGKILL)
        self.server = self.serve()
        self.check()
        self.end(self.server)
        (self.site / "site.toml").write_text(SETTINGS)
        published.write_text(whole)
        self.server = self.serve()
        self.check()
        self.assertIn("accepted", self.ok("wifi", "radius", "test", SSID, TILL))

    def check(self) -> None:
        self.assertIn("Received Access-Accept", self.ask())
        self.assertIn("Received Access-Reject", self.ask(STRANGER))

    def test_ten_thousand_questions_and_a_flood_beside_them(self) -> None:
        """Every question is answered, as its device is; a flood with another access point's address starves none."""
        self.publish()
        bare = TILL.replace(":", "")
        question = (
            f'User-Name={bare}, User-Password={bare}, Called-Station-Id="02-00-00-00-00-01:{SSID}", '
            "Message-Authenticator=0x00\n"
        )
        command = ["radclient", "-q", "-s", "-c", "10000", "-p", "64", "-r", "9", "-t", "3", "192.0.2.10:1812", "auth"]
        told = self.lab.run("counter", [*command, SECRETS["counter"]], stdin=question, within_s=200)
        self.assertRegex(told, r"Accepted\s*:\s*10000")
        with self.lab.inside("oven"):
            flood = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.addCleanup(flood.close)
        for _ in range(30):
            for number in range(500):
                packet = bytes((1, number % 256, 0, 38)) + os.urandom(16) + b"\x50\x12" + bytes(16)
                flood.sendto(packet, ("192.0.2.10", 1812))
            self.assertIn("Received Access-Accept", self.ask())
        wait_for("the fault", lambda: "secret" in (self.site / "radius/state.json").read_text())

    def test_ended_and_begun_again_it_knows_who_is_here(self) -> None:
        """Sessions by accounting stand in the stations with their octets, through a kill; without a server, commands
        say so; a refused attempt is told with its time, and by the watch as an event, before the device was ever in.
        """
        self.publish()
        session: dict[str, str | None] = {
            "User-Password": None, "Message-Authenticator": None, "Acct-Session-Id": "A1", "Acct-Status-Type": "Start"
        }  # fmt: skip
        self.assertIn("Accounting-Response", self.ask(kind="acct", but=session))
        session |= {"Acct-Status-Type": "Interim-Update", "Acct-Input-Octets": "7", "Acct-Input-Gigawords": "1"}
        self.assertIn("Accounting-Response", self.ask(kind="acct", but=session))
        self.ask(STRANGER)
        wait_for("the state", lambda: STRANGER in (self.site / "radius/state.json").read_text())
        (station,) = self.json("wifi", "stations", SSID)
        self.assertEqual((station["mac"], station["received"], station["access_point"]), (TILL, 2**32 + 7, "counter"))
        self.end(self.server, signal.SIGKILL)
        self.assertIn("no RADIUS server of this site runs here", self.fails("wifi", "push", SSID, "--yes"))
        self.assertIn("does not run", self.scopion("wifi", "radius", "test", SSID).stderr)
        grades = {each["about"]: each["grade"] for each in self.json("wifi", "audit", SSID)}
        self.assertEqual((grades["server"], grades["secret"], grades["signature"]), ("high", "fine", "low"))
        self.server = self.serve()
        self.assertEqual(len(self.json("wifi", "stations", SSID)), 1)
        self.assertIn("Received Access-Reject", self.ask(STRANGER))
        wait_for("both attempts", lambda: self.json("wifi", "stations", "--refused")[0]["times"] == 2)
        watch = self.lab.begin(["watch", "--once"], self.site)
        log = watch.communicate(timeout=60)[1]
        self.assertRegex(log, f"refused-attempt: {STRANGER}.* asked to join '{SSID}', and was refused by counter")
        (event,) = self.json("events", "--kind", "refused-attempt")
        self.assertEqual((event["mac"], event["name"], event["was_name"]), (STRANGER, SSID, "counter"))
        (association,) = self.json("show", TILL)["associations"]
        self.assertEqual((association["received"], association["present"]), (2**32 + 7, True))
        card = self.ok("show", STRANGER)
        self.assertRegex(card, re.compile(f"{SSID}: 2 times, last by counter"))
        self.assertIn("2 times since", self.scopion("wifi", "verify", SSID, "--no-scan").stderr)

    def test_a_second_server_answers_when_the_first_does_not(self) -> None:
        """It is silent until it has a list; takes one that is carried, or that the watch sends over SSH; refuses one
        that was changed or replayed; and says how old its list is.
        """
        services = Services(self.lab, self.folder, self)
        ssh, second = self.folder / "ssh", self.folder / "second"
        services.ssh_server("second", ssh, "192.0.2.20")
        second.mkdir()
        for folder in (self.site, second):
            for name, secret in {**SECRETS, "key": "made-up key of both"}.items():
                (folder / name).write_text(secret)
                (folder / name).chmod(0o600)
        list_of, points = SETTINGS.split("[[enforcer.access_point]]", 1)
        there = f'["env", "SCOPION_LIVE=namespaces", "{PROGRAM}", "--site", "{second}", "wifi", "radius", "take", "-"]'
        way = f'ssh = {{ host = "192.0.2.20", key = "{ssh}/key", known_hosts = "{ssh}/known_hosts" }}'
        standby = f'standby = {{ address = "192.0.2.20", key = "file:key", {way}, command = {there} }}\n'
        self.settings(f"{list_of}{standby}[[enforcer.access_point]]{points}")
        (second / "site.toml").write_text(f'{list_of}stands_in.key = "file:key"\n[[enforcer.access_point]]{points}')
        self.serve("second", second)
        self.publish()
        self.assertIn("No reply", self.ask(server="192.0.2.20", silence=True))
        carried = self.ok("wifi", "radius", "export", SSID)
        self.where = "second"
        self.assertIn("another key", self.on(second, carried.replace("till", "thief"), "take", "-").stderr)
        self.assertEqual(self.on(second, carried, "take", "-").returncode, 0)
        self.where = "desk"
        wait_for("the list", lambda: "Accept" in self.ask(server="192.0.2.20"))
        self.assertIn("Received Access-Reject", self.ask(STRANGER, server="192.0.2.20"))
        self.ok("wifi", "allow", SSID, STRANGER)
        self.ok("wifi", "push", SSID, "--yes", "--no-verify")
        watch = self.lab.begin(["watch"], self.site)
        self.addCleanup(self.end, watch)
        wait_for("the other list", lambda: "Accept" in self.ask(STRANGER, server="192.0.2.20"), within_s=60)
        self.end(self.server, signal.SIGKILL)
        self.assertIn("Received Access-Accept", self.ask(STRANGER, server="192.0.2.20"))
        self.where = "second"
        self.assertIn("older than the one here", self.on(second, carried, "take", "-").stderr)
        told = self.on(second, "", "log").stderr
        self.assertRegex(told, "stands in for a first server of 'Kilnhaven', by a list of .* ago")
        audit = json.loads(self.on(second, "", "audit", SSID, "--format", "json", group=("wifi",)).stdout)
        self.assertRegex(json.dumps(audit), "it answers by a list that the first server sent .* ago")

    def on(
        self, site: Path, stdin: str, *arguments: str, group: Sequence[str] = ("wifi", "radius")
    ) -> subprocess.CompletedProcess[str]:
        """Run the program for another site."""
        own, self.site = self.site, site
        try:
            return self.scopion(*group, *arguments, stdin=stdin)
        finally:
            self.site = own

    def test_two_servers_do_not_share_a_port(self) -> None:
        """The second is refused with the first one's number; another program on the port is told as such."""
        self.assertIn(f"process {self.server.pid}", self.fails("wifi", "radius", "serve"))
        self.end(self.server)
        with self.lab.inside("desk"):
            other = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)
            other.bind(("::", 1812))
        self.addCleanup(other.close)
        self.assertIn("UDP port 1812", self.fails("wifi", "radius", "serve"))
