"""The sweep on simulated segments: what it finds, how soon it ends, and when it goes on."""

from __future__ import annotations

import random
import unittest
from collections.abc import Sequence
from dataclasses import replace
from ipaddress import IPv4Address, IPv6Address

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.discovery.probing import GREETING_PACE, Method, open_prober, plan_for
from scopion.discovery.runner import Expected, Findings, Watcher, run_scan
from scopion.discovery.side_by_side import SideBySide
from scopion.discovery.sweep import Patience, Sweep, SweepPlan
from scopion.model.address import Address
from scopion.model.observation import Observation, Pair
from scopion.model.targets import Targets
from scopion.scenes.scene import SceneHost
from tests.support import host, made_up

SUBNET = [address for address in Targets.parse(["192.0.2.0/24"]) if address != IPv4Address("192.0.2.10")]


def scan(hosts: Sequence[SceneHost], method: Method = Method.ARP, seed: int = 1, pace: float = 2000.0) -> Findings:
    """Scan a made-up segment."""
    attachment = made_up(hosts, seed=seed)
    interface = attachment.interfaces()[0]
    prober = open_prober(method, attachment, interface, IPv4Address("192.0.2.10"))
    return run_scan(SUBNET, prober, attachment, plan_for(method, pace), dict.fromkeys(SUBNET, ()))


class CleanSegments(unittest.TestCase):
    def test_a_clean_segment_ends_early_and_pairs_rightly(self) -> None:
        """Sixty hosts: all found with their MACs and round trips, no loss measured, over in 1.6 s of segment time."""
        hosts = [host(number) for number in range(100, 160)]
        found = scan(hosts)
        self.assertEqual(
            {(seen.address, seen.mac) for seen in found.observations},
            {(each.periods[0].address, each.mac) for each in hosts},
        )
        self.assertTrue(all(seen.rtt_s and 0.001 < seen.rtt_s < 0.004 for seen in found.observations))
        self.assertEqual((found.loss, found.completed), (0.0, True))
        self.assertLess(found.duration_s, 1.6)
        self.assertLessEqual(set(SUBNET) - {seen.address for seen in found.observations}, found.asked_enough)

    def test_all_answering_ends_at_once(self) -> None:
        """When no address is left to ask, the scan is over."""
        everybody = [host(int(address) & 0xFF) for address in SUBNET]
        self.assertLess(scan(everybody).duration_s, 0.5)

    def test_nobody_there(self) -> None:
        """Silence alone proves little: it is asked more often than where answers show that nothing is lost."""
        found = scan([])
        self.assertEqual((found.answered, found.completed), (0, True))
        self.assertGreater(found.rounds, scan([host(1), host(2)]).rounds)
        self.assertEqual(found.asked_enough, set(SUBNET))

    def test_the_pace_is_kept(self) -> None:
        """At 100 a second the first round of a /24 takes its 2.5 seconds, and no burst exceeds one request."""
        sweep = Sweep(SUBNET, SweepPlan(pace=100.0))
        now, largest = 0.0, 0
        while True:
            largest = max(largest, len(sweep.due(now)))
            if sweep.sent == len(SUBNET):
                break
            now = max(now, sweep.wake_at())
        self.assertAlmostEqual(now, len(SUBNET) / 100, delta=0.05)
        self.assertLessEqual(largest, 2)

    def test_a_sweep_that_is_held_up_gives_nobody_up_too_soon(self) -> None:
        """However late it is asked what to do, who is silent has been asked often enough and for long enough."""
        chance = random.Random(1)
        for _ in range(3000):
            plan, there, round_trip_s = SweepPlan(pace=500.0), SUBNET[:2], chance.choice((0.002, 0.05))
            sweep = Sweep(SUBNET[:7], plan)
            now, coming = 0.0, list[tuple[float, Address]]()
            while not sweep.done:
                coming += [(now + round_trip_s, asked_now) for asked_now in sweep.due(now) if asked_now in there]
                for arrival in [each for each in coming if each[0] <= now]:
                    sweep.heard(arrival[1], arrival[0])
                    coming.remove(arrival)
                held_up_s = chance.uniform(0.0, 0.05) if chance.random() < 0.3 else 0.0
                now = max(now, min([sweep.wake_at(), *(at for at, _ in coming)])) + held_up_s
            for address, asked in sweep.account().items():
                if address not in there:
                    self.assertGreaterEqual(asked.requests, plan.min_rounds)
                    self.assertGreaterEqual(asked.span_s, plan.min_span_s - 0.01)

    def test_patience_is_given_what_it_asks_for(self) -> None:
        """A site that wants six requests over three seconds before anyone counts as gone gets them, by any method."""
        for method, patience in ((Method.ARP, Patience(6, 3.0)), (Method.TOUCH, Patience(6, 8.0))):
            attachment = made_up([host(100)])
            prober = open_prober(method, attachment, attachment.interfaces()[0], IPv4Address("192.0.2.10"))
            plan = plan_for(method, 2000.0, None, patience)
            found = run_scan(SUBNET, prober, attachment, plan, dict.fromkeys(SUBNET, ()))
            self.assertLessEqual(set(SUBNET) - {IPv4Address("192.0.2.100")}, found.asked_enough)
            self.assertGreaterEqual(found.duration_s, patience.span_s)


class LossyAndSleepySegments(unittest.TestCase):
    def test_loss_of_thirty_percent_each_way(self) -> None:
        """99.5 % of the hosts are found over twenty segments, each within 6 s, because the answers show the loss."""
        hosts = [host(number, loss=0.3) for number in range(100, 160)]
        runs = [scan(hosts, seed=seed) for seed in range(20)]
        self.assertGreaterEqual(sum(run.answered for run in runs), 0.995 * 20 * 60)
        self.assertLess(max(run.duration_s for run in runs), 6.0)
        self.assertTrue(all(0.3 < run.loss < 0.7 for run in runs))  # 51 % of the round trips

    def test_hosts_that_sleep_for_a_second(self) -> None:
        """All are found within 6 s, alone or among hosts that are awake, and their slowness is not taken for loss."""
        sleepy = [host(number, doze_s=1.0) for number in range(100, 130)]
        awake = [host(number) for number in range(130, 160)]
        for hosts in (sleepy, sleepy + awake):
            found = scan(hosts)
            self.assertEqual(found.answered, len(hosts))
            self.assertLess(found.duration_s, 6.0)

    def test_one_lossy_host_among_clean_ones(self) -> None:
        """It is found by the rounds that everybody gets."""
        missed = 0
        for seed in range(50):
            found = scan([host(number) for number in range(100, 120)] + [host(200, loss=0.2)], seed=seed)
            missed += found.answered != 21
        self.assertLessEqual(missed, 3)  # it loses 36 % of the round trips: 0.36^5 is 0.6 %

    @settings(max_examples=40, deadline=None)
    @given(
        st.dictionaries(st.integers(20, 250), st.tuples(st.floats(0, 0.9), st.floats(0, 4)), max_size=20),
        st.integers(0, 2**16),
        st.sampled_from(Method),
    )
    def test_any_segment_ends_and_nothing_is_made_up(
        self, described: dict[int, tuple[float, float]], seed: int, method: Method
    ) -> None:
        """Whatever the hosts do, a scan ends in bounded time, and reports only pairs that exist."""
        hosts = [host(number, loss=loss, doze_s=doze) for number, (loss, doze) in described.items()]
        found = scan(hosts, method, seed)
        self.assertLess(found.duration_s, 60.0)
        self.assertLessEqual(
            {(seen.address, seen.mac) for seen in found.observations},
            {(each.periods[0].address, each.mac) for each in hosts},
        )


class ContestedAndMoved(unittest.TestCase):
    def test_an_address_is_asked_on_while_its_old_holder_is_silent(self) -> None:
        """When another adapter answers where one was before, the old one is asked for as often as the silent are."""
        hosts = [host(number) for number in range(20, 220)]
        address = IPv4Address("192.0.2.100")
        for expected, asked_on in ([host(100).mac], False), ([host(100).mac, host(7).mac], True):
            attachment = made_up(hosts)
            prober = open_prober(Method.ARP, attachment, attachment.interfaces()[0], IPv4Address("192.0.2.10"))
            plan = plan_for(Method.ARP, 2000.0)
            found = run_scan(SUBNET, prober, attachment, plan, {address: expected})
            self.assertEqual(address in found.asked_enough, asked_on)


class KnownFirst(unittest.TestCase):
    def seen_at(self, method: Method, pace: float, known: int, more: Sequence[SceneHost] = ()) -> dict[Pair, float]:
        """Seconds after which each of so many known hosts, and what else answers, was told in a slow sweep."""
        hosts = [host(number, rtt_s=0.02) for number in range(254 - known, 254)]
        attachment = made_up([*more, *hosts])
        prober = open_prober(method, attachment, attachment.interfaces()[0], IPv4Address("192.0.2.10"))
        expected: Expected = {each.periods[0].address: [each.mac] for each in hosts}
        began, at = attachment.clock.monotonic(), dict[Pair, float]()

        def note(seen: Observation) -> None:
            at[seen.mac, seen.address] = attachment.clock.monotonic() - began

        found = run_scan(
            SUBNET, prober, attachment, plan_for(method, pace), expected, Watcher(note, lambda _: None),
            greeting_pace=GREETING_PACE,
        )  # fmt: skip
        self.assertTrue(found.completed)
        self.assertEqual([seen.rtt_s for seen in found.observations if not 0.01 < (seen.rtt_s or 0.02) < 0.04], [])
        return at

    def test_known_devices_are_told_within_half_a_second(self) -> None:
        """At the pace of 2.4 GHz a round takes 2.8 s; who is known is there after a moment, others when found."""
        stranger = host(30, rtt_s=0.02)
        for method in (Method.ARP, Method.TOUCH):
            known = 200 if method is Method.ARP else 40
            at = self.seen_at(method, 90.0, known, [stranger])
            new = at.pop((stranger.mac, stranger.periods[0].address))
            self.assertEqual(len(at), known)
            self.assertLess(max(at.values()), 0.5)
            self.assertGreater(new, 0.4)

    def test_a_second_host_at_a_known_address_is_found(self) -> None:
        """Who answers for itself is not the only one for that: all are asked at its address afterwards."""
        rival = replace(host(7, rtt_s=0.02), periods=host(250).periods)
        at = self.seen_at(Method.ARP, 2000.0, 20, [rival])
        self.assertEqual(len(at), 21)
        self.assertLess(at[host(250).mac, IPv4Address("192.0.2.250")], 0.1)
        self.assertIn((rival.mac, IPv4Address("192.0.2.250")), at)


class BesideEachOther(unittest.TestCase):
    def test_known_ipv6_addresses_do_not_double_the_pace(self) -> None:
        """Two sweeps side by side send no faster together than one alone."""
        first = [IPv4Address(f"192.0.2.{number}") for number in range(1, 201)]
        others = [IPv6Address(f"2001:db8::{number:x}") for number in range(1, 101)]
        for also in ([], others):
            sweep, now, sent = SideBySide(first, also, SweepPlan(pace=100.0)), 0.0, 0
            while now < 1.0:
                sent += len(sweep.due(now))
                now += 0.01
            self.assertLessEqual(sent, 112)  # what a stalled driver catches up with, at most twice
            self.assertGreater(sent, 90)
