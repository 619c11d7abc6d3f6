"""The watch as a process among real kernel hosts: told with the first frame, and nothing upsets it."""

from __future__ import annotations

import json
import os
import signal
import socket
import sqlite3
import subprocess
import time
import unittest
import urllib.request
from collections.abc import Callable
from contextlib import closing, suppress
from dataclasses import replace
from functools import partial
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from scopion.attachment.linux.linux_attachment import LiveAttachment
from scopion.model.mac import MacAddress
from scopion.wire.arp import encode_request
from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.services import Services, wait_for
from tests.receivers import BOOK, MAIL_PORT, OWNER
from tests.support import FolderTest

GATEWAY = LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",))
OTHERS = [LabHost(f"h{number}", f"10:c0:de:00:00:{number:02x}", (f"192.0.2.{number}",)) for number in range(20, 27)]
HOSTS = [GATEWAY, *OTHERS]
STRANGER = LabHost("stranger", "a0:b4:d7:66:19:04", ("192.0.2.144",), ipv6=False)  # its first frame is ours
SETTINGS = f"""
[watch]
interval_s = {{interval}}
metrics_port = 9520
{{more}}
[alerts]
learning_days = 0
{OWNER}{BOOK}"""


class WatchLab(FolderTest):
    """A small lab for each test: they join, pull plugs and forge."""

    def setUp(self) -> None:
        require_lab()
        super().setUp()
        self.site = self.folder / "site"
        self.site.mkdir()
        self.log = self.folder / "log"
        self.spool = self.folder / "spool"
        self.spool.touch()
        self.net = Lab(HOSTS)
        self.addCleanup(self.net.close)
        self.services = Services(self.net, self.folder, self)

    def mail_server(self, *mood: str) -> subprocess.Popen[bytes]:
        """At the desk, once it greets."""
        server = self.services.mail_server("desk", self.spool, *mood)
        wait_for("the mail server's greeting", self._greets)
        return server

    def _greets(self) -> bool:
        with self.net.inside("desk"):
            try:
                socket.create_connection(("127.0.0.1", MAIL_PORT), 1).close()
            except OSError:
                return False
            return True

    def watch(self, *arguments: str, interval: int = 3600, more: str = "", privileged: bool = True) -> Any:
        """Begin the watch at the desk, and wait until it has seen who is here."""
        (self.site / "site.toml").write_text(SETTINGS.format(interval=interval, more=more))
        command = self.net.command(["watch", *arguments], privileged=privileged)
        with self.log.open("ab") as log:
            process = subprocess.Popen(
                command,
                env={**os.environ, "SCOPION_SITE": str(self.site), "SCOPION_LIVE": "namespaces"},
                stdin=subprocess.DEVNULL, stdout=log, stderr=log,
            )  # fmt: skip
        self.addCleanup(self._end, process)
        return process

    def _end(self, process: subprocess.Popen[bytes]) -> None:
        if process.poll() is None:
            process.terminate()
            process.wait(20)

    def said(self, words: str) -> Callable[[], bool]:
        return lambda: words in self.log.read_text()

    def book(self) -> list[dict[str, Any]]:
        path = self.site / "book.jsonl"
        return [json.loads(line) for line in path.read_text().splitlines()] if path.exists() else []

    def mails(self) -> list[dict[str, Any]]:
        return [json.loads(line) for line in self.spool.read_text().splitlines()]

    def join(self, host: LabHost) -> None:
        """Plug a host in and let it say so."""
        self.net.join(host)
        wait_for("the switch forwards", partial(self.net.forwards, host.name))
        self.announce(host.name, host.addresses[0])

    def alerts(self, channel: str) -> list[dict[str, Any]]:
        """Those for a channel, as the command lists them."""
        listed = json.loads(self.net.scopion(["alerts", "--format", "json"], self.site).stdout)
        return [each for each in listed if each["channel"] == channel]

    def announce(self, name: str, address: str) -> None:
        """Let a host say that it has an address."""
        with self.net.inside(name):
            attachment = LiveAttachment()
            interface = next(each for each in attachment.interfaces() if each.name == "eth0")
            link = attachment.open_link(interface)
            claimed = IPv4Address(address)
            assert interface.mac is not None
            link.send(encode_request(interface.mac, claimed, claimed))
            link.close()


class Joins(WatchLab):
    def test_the_first_frame_is_enough_for_the_mail(self) -> None:
        """While nothing is swept; by the address, with the MAC, and with the commands for what to do next."""
        self.mail_server()
        self.watch()
        wait_for("the baseline", self.said("is its baseline, 9 devices"))
        self.join(STRANGER)
        wait_for("the mail", self.mails)
        (mail,) = self.mails()
        self.assertIn("at 192.0.2.144", mail["subject"])
        self.assertIn("a0:b4:d7:66:19:04", mail["text"])
        self.assertIn("mark a0:b4:d7:66:19:04 unwanted", mail["text"])
        with self.net.inside("desk"), urllib.request.urlopen("http://127.0.0.1:9520/metrics", timeout=5) as answer:
            metrics = answer.read().decode()
            self.assertTrue(answer.headers["Content-Type"].startswith("application/openmetrics-text"))
        self.assertTrue(metrics.rstrip().endswith("# EOF"))
        self.assertIn('scopion_deliveries_total{channel="owner",outcome="sent"} 1.0', metrics)
        self.assertIn('scopion_sweeps_total{outcome="complete"} 1.0', metrics)
        self.assertIn("scopion_frames_dropped_total 0.0", metrics)
        second = self.net.scopion(["watch", "--once"], self.site)
        self.assertEqual((second.returncode, len(second.stderr.splitlines())), (1, 1))
        self.assertIn("is watched already by process", second.stderr)

    def test_who_poses_as_the_gateway_is_told(self) -> None:
        """The gateway is asked, both answer, and the mail says what it means."""
        self.mail_server()
        self.watch()
        wait_for("the baseline", self.said("is its baseline"))
        self.net.run("h20", ["ip", "addr", "add", "192.0.2.1/32", "dev", "eth0"])
        self.announce("h20", "192.0.2.1")
        wait_for("the mail", self.mails)
        self.assertIn("Two devices claim the gateway's address", self.mails()[0]["subject"])

    def test_without_raw_frames_the_sweeps_find_them(self) -> None:
        """And it says what it cannot see."""
        self.mail_server()
        self.watch(interval=5, privileged=False)
        wait_for("the baseline", self.said("is its baseline"), 30)
        self.assertIn("not listening", self.log.read_text())
        self.net.join(STRANGER)
        wait_for("the mail", self.mails, 30)
        self.assertIn("192.0.2.144", self.mails()[0]["subject"])

    def test_a_newcomer_that_is_heard_by_dhcp_only(self) -> None:
        """Its server's answer goes to it alone, and it says nothing more: it is asked at once, not by a sweep."""
        self.mail_server()
        self.services.dnsmasq("gateway", "--port=0", "--interface=eth0", "--dhcp-range=192.0.2.100,192.0.2.110,1h")
        self.watch()
        wait_for("the baseline", self.said("is its baseline"))
        self.net.join(replace(STRANGER, addresses=()))
        wait_for("the switch forwards", partial(self.net.forwards, STRANGER.name))
        self.services.dhcp_client(STRANGER.name, "clay-phone", "lwIP 2")
        wait_for("the mail", self.mails)
        self.assertRegex(self.mails()[0]["subject"], r"clay-phone.* at 192\.0\.2\.1[01]\d")


class Troubles(WatchLab):
    def test_a_switch_that_is_off_makes_nobody_leave(self) -> None:
        """Without raw frames, where the system believes in some for a while, and with little patience; at the return a
        host that is slow has not left either.
        """
        self.net.run("desk", ["sysctl", "-qw", "net.ipv4.neigh.eth0.base_reachable_time_ms=6000"])
        self.watch(interval=5, more="[absence]\npatience_s = 8\n", privileged=False)
        wait_for("the baseline", self.said("is its baseline"), 30)
        self.net.run("switch", ["ip", "link", "set", "bridge", "down"])
        wait_for("the outage", self.said("is down"), 60)
        self.net.run("h26", ["ip", "link", "set", "eth0", "down"])
        self.net.run("switch", ["ip", "link", "set", "bridge", "up"])
        wait_for("the return", lambda: self.log.read_text().count("this is your site") == 2, 60)
        self.net.run("h26", ["ip", "link", "set", "eth0", "up"])
        time.sleep(15)
        events = json.loads(self.net.scopion(["events", "--format", "json"], self.site).stdout)
        self.assertEqual([each["kind"] for each in events], ["network-down", "network-back"])

    def test_a_mail_server_that_is_down_loses_nothing(self) -> None:
        """The other channel is told at once; the mail comes when the server does, after a restart, and once."""
        watch = self.watch()
        wait_for("the baseline", self.said("is its baseline"))
        self.join(STRANGER)
        wait_for("the book", self.book)
        wait_for("the refusal", self.said("nothing listens there"))
        # Written, and noted as told: between the two a kill has it told again, as is promised.
        wait_for("the book's own note", lambda: self.alerts("book")[0]["state"] == "sent")
        watch.send_signal(signal.SIGKILL)
        watch.wait(10)
        self.mail_server()
        self.watch()
        retried = self.net.scopion(["alerts", "retry"], self.site)
        self.assertIn("1 alert will be tried", retried.stderr)
        wait_for("the mail", self.mails)
        time.sleep(1)
        self.assertEqual(len(self.mails()), 1)
        self.assertEqual(len(self.book()), 1)

    def test_a_server_that_greylists_gets_it_again(self) -> None:
        """The first refusal is none: it is said in plain words, tried again, and taken once."""
        self.mail_server("greylisting")
        self.watch()
        wait_for("the baseline", self.said("is its baseline"))
        self.join(STRANGER)
        wait_for("the refusal", self.said("minutes (greylisting) or have too much to do"))
        self.assertEqual(self.mails(), [])
        wait_for("the mail", self.mails, 30)
        (alert,) = self.alerts("owner")
        self.assertEqual((alert["state"], alert["attempts"]), ("sent", 2))

    def test_a_slow_server_holds_up_nobody_else(self) -> None:
        """While it takes its time the next one who joins is noticed and told elsewhere; its mails keep their order."""
        self.mail_server("slow")
        self.watch()
        wait_for("the baseline", self.said("is its baseline"))
        others = [STRANGER, replace(STRANGER, name="second", mac="a0:b4:d7:66:19:05", addresses=("192.0.2.145",))]
        for host in others:
            self.join(host)
        wait_for("the book", lambda: len(self.book()) == 2)
        self.assertEqual(self.mails(), [])
        wait_for("the mails", lambda: len(self.mails()) == 2, 20)
        self.assertEqual([each["subject"] for each in self.mails()], [each["subject"] for each in self.book()])

    def test_a_full_disk_delays_and_loses_nothing(self) -> None:
        """Who joins meanwhile is told once there is room again, once; the roster stays sound."""
        subprocess.run(["mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", str(self.site)], check=True)
        self.addCleanup(subprocess.run, ["umount", str(self.site)], check=True)
        self.mail_server()
        self.watch()
        wait_for("the baseline", self.said("is its baseline"))
        with closing(sqlite3.connect(self.site / "roster.sqlite")) as roster:
            roster.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        ballast = self.site / "ballast"
        with ballast.open("wb", buffering=0) as file, suppress(OSError):
            while True:
                file.write(bytes(4096))
        self.join(STRANGER)
        wait_for("the complaint", self.said("the disk is full: make room"))
        self.assertEqual(self.mails(), [])
        ballast.unlink()
        wait_for("the mail", self.mails, 30)
        wait_for("the book", self.book, 30)
        self.assertEqual(self.net.scopion(["roster", "check"], self.site).returncode, 0)
        self.assertEqual((len(self.mails()), len(self.book())), (1, 1))

    def test_a_pulled_cable_and_another_network(self) -> None:
        """Without its interface the watch goes on; no device counts as gone, and all is well once it is back."""
        self.watch(interval=5)
        wait_for("the baseline", self.said("is its baseline"))
        self.net.run("desk", ["ip", "link", "set", "eth0", "down"])
        wait_for("the loss", self.said("cannot be seen any more"))
        self.net.run("desk", ["ip", "link", "set", "eth0", "up"])
        self.net.run("desk", ["ip", "route", "replace", "default", "via", "192.0.2.1"])
        wait_for("the return", lambda: self.log.read_text().count("this is your site") == 2)
        self.net.run("desk", ["ip", "addr", "replace", "198.51.100.7/24", "dev", "eth0"])
        self.net.run("desk", ["ip", "addr", "del", "192.0.2.10/24", "dev", "eth0"])
        wait_for("the other network", self.said("none of the site's subnets (192.0.2.0/24) is attached"))
        events = json.loads(self.net.scopion(["events", "--format", "json"], self.site).stdout)
        self.assertEqual([each["kind"] for each in events if each["kind"] != "readdressed"], [])

    def test_settings_are_read_anew_and_a_mistake_changes_nothing(self) -> None:
        """On SIGHUP; and SIGTERM ends it well."""
        watch = self.watch()
        wait_for("the baseline", self.said("is its baseline"))
        good = (self.site / "site.toml").read_text()
        (self.site / "site.toml").write_text("[watch]\nsweeps = 3\n")
        watch.send_signal(signal.SIGHUP)
        wait_for("the refusal", self.said("the settings stay as they were"))
        (self.site / "site.toml").write_text(good.replace("interval_s = 3600", "interval_s = 1800"))
        watch.send_signal(signal.SIGHUP)
        wait_for("the new settings", self.said("every 1800 s"))
        watch.send_signal(signal.SIGTERM)
        self.assertEqual(watch.wait(10), 0)

    def test_a_roster_that_is_locked_delays_and_loses_nothing(self) -> None:
        """Another process holds the roster while somebody joins: it is told as soon as that has ended."""
        self.mail_server()
        self.watch()
        wait_for("the baseline", self.said("is its baseline"))
        holder = sqlite3.connect(self.site / "roster.sqlite", isolation_level=None)
        holder.execute("BEGIN IMMEDIATE")
        self.join(STRANGER)
        wait_for("the complaint", self.said("another process has held it"), 30)
        holder.execute("COMMIT")
        holder.close()
        wait_for("the mail", self.mails, 30)

    def test_a_flood_of_frames_is_heard_and_bounded(self) -> None:
        """Thousands of made-up devices a second: the watch goes on, its memory is bounded, and one mail is sent."""
        self.mail_server()
        watch = self.watch()
        wait_for("the baseline", self.said("is its baseline"))
        with self.net.inside("h20"):
            attachment = LiveAttachment()
            interface = next(each for each in attachment.interfaces() if each.name == "eth0")
            link = attachment.open_link(interface)
            for number in range(20_000):
                address = IPv4Address(f"192.0.2.{30 + number % 200}")
                link.send(encode_request(MacAddress(b"\x02\xff" + number.to_bytes(4)), address, address))
            link.close()
        wait_for("the complaint", self.said("claims of new addresses are passed over"), 30)
        self.announce("h21", "192.0.2.21")
        peak = Path(f"/proc/{watch.pid}/status").read_text()  # ip netns exec has become the program
        resident = int(peak.split("VmHWM:")[1].split()[0])
        self.assertLess(resident, 120_000)
        devices = json.loads(self.net.scopion(["devices", "--format", "json"], self.site).stdout)
        self.assertLess(len(devices), 300)

    def test_a_machine_that_begins_without_a_network(self) -> None:
        """And with a port for metrics that somebody else has: it says both, and looks as soon as there is something."""
        with self.net.inside("desk"), socket.create_server(("127.0.0.1", 9520)):
            self.net.run("desk", ["ip", "link", "set", "eth0", "down"])
            self.watch()
            wait_for("what is missing", self.said("no interface is up with an address"))
            self.net.run("desk", ["ip", "link", "set", "eth0", "up"])
            wait_for("the baseline", self.said("is its baseline, 9 devices"))
        self.assertIn("metrics_port 9520 cannot be used: Address already in use", self.log.read_text())


class Once(WatchLab):
    def test_a_round_for_cron(self) -> None:
        """Sweeps, tells, and ends; what failed is in the exit code."""
        (self.site / "site.toml").write_text(SETTINGS.format(interval=60, more=""))
        first = self.net.scopion(["watch", "--once"], self.site)
        self.assertEqual(first.returncode, 0, first.stderr)
        self.net.join(STRANGER)
        wait_for("the switch forwards", lambda: self.net.forwards("stranger"))
        second = self.net.scopion(["watch", "--once"], self.site)
        self.assertEqual(second.returncode, 3, second.stderr)
        self.assertIn("nothing listens there", second.stderr)
        self.assertIn("192.0.2.144", self.book()[0]["subject"])


if __name__ == "__main__":
    unittest.main()
