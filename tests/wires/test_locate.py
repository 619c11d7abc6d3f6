"""Which port is at the edge, in made-up buildings of any form: a tree of switches with hosts, some of them unread."""

from __future__ import annotations

import random
import unittest
from dataclasses import dataclass, replace

from hypothesis import given
from hypothesis import strategies as st

from scopion.discovery.wires.locate_adapters import Hanging, Wiring, locate
from scopion.model.mac import MacAddress
from scopion.model.wires import Learned, LldpNeighbour, Port, SwitchPort, SwitchReading, numbered, spoken_others


@dataclass(frozen=True)
class Building:
    """Switches in a tree, and at which of them each host hangs."""

    above: tuple[int, ...]  # of each switch but the first, the one that it hangs at
    hosts: tuple[int, ...]  # of each host, its switch
    tells_own: bool  # switches speak by themselves, so that others learn them
    speaks_lldp: bool

    @property
    def switches(self) -> range:
        """All switches by number."""
        return range(len(self.above) + 1)

    def way(self, one: int, other: int) -> list[int]:
        """The switches from one to another, both among them."""
        up, there = self._up(one), self._up(other)
        meets = next(each for each in up if each in there)
        return [*up[: up.index(meets) + 1], *reversed(there[: there.index(meets)])]

    def _up(self, switch: int) -> list[int]:
        found = [switch]
        while found[-1]:
            found.append(self.above[found[-1] - 1])
        return found

    def readings(self) -> list[SwitchReading]:
        """What each switch tells once all hosts have been heard everywhere."""
        found = []
        for switch in self.switches:
            learned = [
                Learned(host(number), f"h{number}" if at == switch else f"to{self.way(switch, at)[1]}")
                for number, at in enumerate(self.hosts)
            ]
            others = [each for each in self.switches if each != switch]
            learned += [Learned(own(each), f"to{self.way(switch, each)[1]}") for each in others if self.tells_own]
            ports = sorted({each.port for each in learned} | {f"to{self.way(switch, each)[1]}" for each in others})
            neighbours = [
                LldpNeighbour(f"to{each}", f"switch {each}", frozenset({own(each)}), bridges=True)
                for each in others
                if self.speaks_lldp and len(self.way(switch, each)) == 2
            ]
            found.append(
                SwitchReading(
                    str(switch), f"switch {switch}", macs=frozenset({own(switch)}),
                    ports=tuple(SwitchPort(port, number, up=True) for number, port in enumerate(ports)),
                    learned=tuple(learned), neighbours=tuple(neighbours),
                )
            )  # fmt: skip
        return found


def host(number: int) -> MacAddress:
    return MacAddress(bytes([0, 0x11, 0, 0, 0, number]))


def own(switch: int) -> MacAddress:
    return MacAddress(bytes([0, 0x22, 0, 0, 0, switch]))


@st.composite
def buildings(draw: st.DrawFn, *, tells: bool = True) -> Building:
    above = tuple(draw(st.integers(0, number)) for number in range(draw(st.integers(0, 5))))
    hosts = draw(st.lists(st.integers(0, len(above)), min_size=1, max_size=12))
    if not tells:  # by number alone: of each switch at least two ports are in use
        hosts = [*range(len(above) + 1), *range(len(above) + 1), *hosts]
    own_or_lldp = draw(st.sampled_from([(True, False), (False, True), (True, True)])) if tells else (False, False)
    return Building(above, tuple(hosts), *own_or_lldp)


def edge(wiring: Wiring, number: int) -> Port | None:
    found = wiring.hanging.get(host(number))
    return found.port if found is not None and found.at_edge else None


class AnyBuilding(unittest.TestCase):
    @given(buildings(), st.randoms(use_true_random=False))
    def test_every_host_is_at_its_own_port(self, building: Building, chance: random.Random) -> None:
        """By LLDP, or by the switches' own adapters, each host is named at its edge, in whatever order it was read."""
        readings = building.readings()
        chance.shuffle(readings)
        wiring = locate(readings)
        for number, at in enumerate(building.hosts):
            self.assertEqual(edge(wiring, number), Port(str(at), f"h{number}"))
        for switch in building.switches:
            for other in building.switches:
                way = building.way(switch, other)
                if len(way) == 2:
                    self.assertEqual(wiring.leads_to[Port(str(switch), f"to{other}")], str(other))

    @given(buildings())
    def test_what_is_remembered_is_enough(self, building: Building) -> None:
        """Switches that have fallen silent: each host is still at its own port."""
        before = locate(building.readings()).leads_to
        own_macs = {own(each) for each in building.switches}
        silent = [
            replace(each, neighbours=None, learned=tuple(entry for entry in each.learned if entry.mac not in own_macs))
            for each in building.readings()
        ]
        wiring = locate(silent, led_before=before)
        for number, at in enumerate(building.hosts):
            self.assertEqual(edge(wiring, number), Port(str(at), f"h{number}"))
        self.assertLessEqual(wiring.leads_to.items(), before.items())

    @given(buildings(tells=False))
    def test_by_number_alone(self, building: Building) -> None:
        """Switches that tell nothing of each other: the port that knows the fewest is at the edge."""
        wiring = locate(building.readings())
        for number, at in enumerate(building.hosts):
            self.assertEqual(edge(wiring, number), Port(str(at), f"h{number}"))
        self.assertEqual(
            set(wiring.leads_to), {
                Port(str(one), f"to{building.way(one, other)[1]}")
                for one in building.switches for other in building.switches if one != other
            },
        )  # fmt: skip

    @given(buildings(), st.sets(st.integers(0, 5), min_size=1))
    def test_some_cannot_be_read(self, building: Building, read: set[int]) -> None:
        """What hangs at a switch that is not read is at a port towards it, or behind one: never at a wrong port."""
        wiring = locate([each for each in building.readings() if int(each.switch) in read])
        for number, at in enumerate(building.hosts):
            found = wiring.hanging.get(host(number))
            if found is None:
                self.assertTrue(read.isdisjoint(building.switches))
                continue
            switch = int(found.port.switch)
            towards = f"h{number}" if switch == at else f"to{building.way(switch, at)[1]}"
            self.assertEqual(found.port.name, towards)
            if at in read:
                self.assertEqual((switch, found.at_edge), (at, True))


class Details(unittest.TestCase):
    def setUp(self) -> None:
        # Two switches with a cable between them; host 0 at the first, hosts 1 and 2 at the second.
        self.building = Building((0,), (0, 1, 1), tells_own=False, speaks_lldp=False)
        self.one, self.two = self.building.readings()

    def test_a_stale_entry_of_a_port_without_a_link(self) -> None:
        """A host was plugged over: the port that it left has no link, and counts no more."""
        ports = tuple(replace(port, up=port.name != "h0") for port in self.one.ports)
        over = replace(self.two, learned=(*self.two.learned[1:], Learned(host(0), "new")))
        wiring = locate([replace(self.one, ports=ports), over])
        self.assertEqual(edge(wiring, 0), Port("1", "new"))

    def test_two_switches_contradict_each_other(self) -> None:
        """Both have it at the edge: it stays where it was, until they agree."""
        over = replace(self.two, learned=(*self.two.learned[1:], Learned(host(0), "new")))
        for before in (Port("0", "h0"), Port("1", "new")):
            self.assertEqual(edge(locate([self.one, over], hung_before={host(0): before}), 0), before)

    def test_a_switch_that_is_silent_keeps_its_place(self) -> None:
        """A port that led to a switch leads there still while that one cannot be read: nothing hangs at it."""
        wiring = locate([self.one], led_before={Port("0", "to1"): "1"})
        self.assertEqual(wiring.hanging[host(1)], Hanging(Port("0", "to1"), at_edge=False))
        self.assertEqual(wiring.sharing.get(Port("0", "to1"), 0), 0)
        alone = locate([self.one])
        self.assertEqual(alone.hanging[host(1)], Hanging(Port("0", "to1")))
        self.assertEqual(alone.sharing[Port("0", "to1")], 2)

    def test_a_link_is_remembered(self) -> None:
        """Until something speaks against it: the other switch at another port, a single adapter at this one, or most of
        what is there known to the other switch in this direction.
        """
        link, before = Port("0", "to1"), {Port("0", "to1"): "1"}
        stale = replace(
            self.two, learned=self.two.learned[:1]
        )  # it has forgotten its two hosts: only the link has them
        self.assertEqual(edge(locate([self.one, stale]), 1), link)
        remembered = locate([self.one, stale], led_before=before)
        self.assertEqual((remembered.leads_to[link], edge(remembered, 1)), ("1", None))
        over = replace(self.one, learned=(*self.one.learned, Learned(own(1), "new")))
        self.assertEqual(locate([over, stale], led_before=before).leads_to, {Port("0", "new"): "1"})
        beyond = replace(self.two, learned=tuple(replace(each, port="to0") for each in self.two.learned))
        back = locate([self.one, beyond], led_before={**before, Port("1", "to0"): "0"})
        self.assertEqual(edge(back, 1), link)
        alone = replace(self.one, learned=self.one.learned[:2])
        self.assertEqual(edge(locate([alone, stale], led_before=before), 1), link)

    def test_neighbours_that_are_no_switch_of_the_site(self) -> None:
        """An access point is no switch, whatever it says: what is behind it hangs at its port. One that tells the
        address of a switch is that switch.
        """
        point = LldpNeighbour("h0", "ap", bridges=True, radio=True)
        wiring = locate([replace(self.one, neighbours=(point,)), self.two])
        self.assertEqual((edge(wiring, 0), wiring.behind), (Port("0", "h0"), {Port("0", "h0"): point}))
        same = LldpNeighbour("h0", "", addresses=("192.0.2.4",))  # type: ignore[arg-type]  # any value that compares
        self.assertEqual(
            locate([replace(self.one, neighbours=(same,)), self.two], addresses={"1": ("192.0.2.4",)}).leads_to[
                Port("0", "h0")
            ],
            "1",
        )

    def test_ports_have_names_of_their_own(self) -> None:
        """Whatever a switch calls its ports, each is another one; one without a name has its number."""
        ports = numbered([SwitchPort("lan", 2), SwitchPort("", 3), SwitchPort("lan", 1)])
        self.assertEqual([each.name for each in ports], ["lan", "lan (2)", "3"])

    def test_with_whom_a_port_is_shared(self) -> None:
        """Names first, then how many more."""
        self.assertEqual(spoken_others([], 0), "")
        self.assertEqual(spoken_others([], 5), "with five others")
        self.assertEqual(spoken_others(["till"], 1), "with till and one other")
        self.assertEqual(spoken_others(["scale", "till"], 0), "with scale and till")
        self.assertEqual(spoken_others(["scale", "till"], 12), "with scale, till and 12 others")


if __name__ == "__main__":
    unittest.main()
