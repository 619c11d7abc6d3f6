"""The watch as a process that is killed at any moment, under traffic and with channels that fail: nothing is lost.

It is forked from a process that has loaded everything, so that each of a hundred beginnings takes a moment; else it is
what ``scopion watch`` runs: threads, sockets, the real clock. Several sites are watched side by side to save time.
"""

from __future__ import annotations

import json
import random
import time
import unittest
from collections import Counter, defaultdict
from datetime import UTC, datetime
from ipaddress import IPv4Address
from pathlib import Path
from unittest.mock import patch

from scopion.alerts.digests import ITEMS_SHOWN
from scopion.attachment.linux.linux_attachment import LiveAttachment
from scopion.model.alert import AlertState
from scopion.model.device import EventKind
from scopion.model.mac import MacAddress
from scopion.operations.site.open_site import Site
from scopion.roster.outbox import count_alerts, find_alerts
from scopion.roster.read_events import EventFilter, find_events
from scopion.roster.store.open_roster import Roster
from scopion.roster.upkeep.check_roster import unsound
from scopion.watching.run_watch import WatchOptions, run_watch
from scopion.wire.arp import encode_request
from tests.lab.lab import Lab, LabHost, kill, require_lab
from tests.receivers import BOOK, WebServer
from tests.support import FolderTest

HOSTS = [LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",))]
HOSTS += [LabHost(f"h{number}", f"10:c0:de:00:00:{number:02x}", (f"192.0.2.{number}",)) for number in range(20, 24)]
SITES, TIMES = 4, 25
# With a single round and no names the first sweep takes a second and a half; after it there is something to deliver.
LONGEST_LIFE_S = 3.5
# New devices: each shows itself for some seconds, perhaps while no scan runs.
NEWCOMERS, EVERY_S, SHOWN = 200, 0.2, 15
SETTINGS = """
[scan]
rounds = 1
[names]
ask = false
[watch]
interval_s = 5
[alerts]
learning_days = 0
burst = 5
burst_s = 1
[[channel]]
name = "hook"
type = "webhook"
url = "http://127.0.0.1:{port}/"
timeout_s = 2
{book}"""


class Killed(FolderTest):
    def setUp(self) -> None:
        require_lab()
        super().setUp()
        self.net = Lab(HOSTS)
        self.addCleanup(self.net.close)
        waits = patch.multiple("scopion.alerts.deliver", FIRST_WAIT_S=0.05, LONGEST_WAIT_S=0.4)
        waits.start()
        self.addCleanup(waits.stop)

    def test_what_was_recorded_is_told_whatever_happens(self) -> None:
        """Killed a hundred times: every recorded event reaches both channels, repetitions carry the same identity and
        the same text, and the roster is sound.
        """
        chance = random.Random(20260914)
        sites = [Watched(self, self.folder / str(number), chance) for number in range(SITES)]
        traffic = self.net.forked("h20", _newcomers)
        while any(each.killed < TIMES for each in sites):
            time.sleep(min(each.turn(time.monotonic()) for each in sites))
        kill(traffic)
        for each in sites:
            each.finish()
        again = sum(each.everything_was_told() for each in sites)
        self.assertGreater(again, 0)  # killed between sending and noting, at least once


class Watched:
    """A site with a server of its own for its webhook."""

    def __init__(self, test: Killed, site: Path, chance: random.Random) -> None:
        self._test, self._site, self._chance = test, site, chance
        site.mkdir()
        with test.net.inside("desk"):
            self._server = WebServer(test)
        (self._site / "site.toml").write_text(SETTINGS.format(port=self._server.port, book=BOOK))
        self.killed = 0
        self._a_round()
        self._child, self._ends_at = 0, 0.0

    def _a_round(self) -> None:
        """Sweep, and deliver all that is due."""
        with self._test.net.inside("desk"):
            self._test.assertTrue(run_watch(Site(self._site), WatchOptions(once=True)))

    def turn(self, now: float) -> float:
        """Kill it if its time has come, and start it again; the seconds until then."""
        if now >= self._ends_at:
            if self._child:
                kill(self._child)
                self.killed += 1
            self._server.status = self._chance.choice((204, 204, 503))
            self._server.dawdles_s = self._chance.choice((0.0, 0.3))
            self._child = self._test.net.forked("desk", lambda: run_watch(Site(self._site), WatchOptions()))
            self._ends_at = now + self._chance.uniform(0.0, LONGEST_LIFE_S)
        return max(0.0, self._ends_at - now)

    def finish(self) -> None:
        """Let it come to its end, with a server that works."""
        kill(self._child)
        self._server.status, self._server.dawdles_s = 204, 0.0
        self._a_round()

    def everything_was_told(self) -> int:
        """Hold what was delivered against what was recorded; how many deliveries were repetitions."""
        test, roster = self._test, Roster.open(self._site)
        test.addCleanup(roster.close)
        recorded = {event.id for event in find_events(roster, EventFilter(kinds=(EventKind.JOINED,)))}
        test.assertGreater(len(recorded), NEWCOMERS / 3)
        test.assertEqual(set(count_alerts(roster)), {AlertState.SENT})
        posts = [json.loads(body) for _, body in self._server.posts]
        book = [json.loads(line) for line in (self._site / "book.jsonl").read_text().splitlines()]
        for channel, messages in (("hook", posts), ("book", book)):
            alerts = {alert.identity: alert for alert in find_alerts(roster, channel=channel)}
            test.assertEqual({event.id for alert in alerts.values() for event in alert.events}, recorded)
            for message in messages:  # a long digest lists the first of its events and counts the others
                events = [event.id for event in alerts[message["id"]].events]
                listed = [event["id"] for event in message["events"]]
                test.assertEqual(listed, events[: len(listed)])
                test.assertEqual(len(listed) + message["more_events"], len(events))
                test.assertGreaterEqual(len(listed), min(len(events), ITEMS_SHOWN))
            same = defaultdict(set)
            for message in messages:
                same[message["id"]].add(json.dumps(message, sort_keys=True))
            test.assertEqual({len(texts) for texts in same.values()}, {1})
            test.assertEqual(same.keys(), alerts.keys())
        test.assertEqual(unsound(roster, datetime.now(UTC)), [])
        return len(posts) - len(Counter(message["id"] for message in posts))


def _newcomers() -> None:
    """One after the other, and then nothing any more."""
    attachment = LiveAttachment()
    interface = next(each for each in attachment.interfaces() if each.name == "eth0")
    link = attachment.open_link(interface)
    for number in range(NEWCOMERS):
        for latest in range(max(0, number - SHOWN), number + 1):
            address = IPv4Address(f"192.0.2.{30 + latest}")
            link.send(encode_request(MacAddress(b"\x0c\xbe\x12\0\0" + bytes([latest])), address, address))
        time.sleep(EVERY_S)
    time.sleep(3600)


if __name__ == "__main__":
    unittest.main()
