"""Switches that answer wrongly, slowly, endlessly, in circles: each is left in bounds, with what is wrong said."""

from __future__ import annotations

import subprocess
import sys
import time
import unittest
from collections.abc import Mapping, Sequence
from ipaddress import IPv4Address
from typing import Any
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.attachment.connect import snmp_session, snmp_switch
from scopion.attachment.ports import SnmpAccess, SwitchAccess
from scopion.discovery.wires.locate_adapters import locate
from scopion.model.errors import SwitchUnreadable
from scopion.model.mac import MacAddress
from scopion.model.wires import SwitchReading
from tests.wires.fake_agent import BRIDGE, FDB, INTERFACES, V2, FakeAgent, Oid, ports


def odd_table(data: st.DataObject) -> dict[Oid, Any]:
    """An honest table of two ports, an adapter and a neighbour, in which a few rows and values are others."""
    neighbour = (1, 0, 8802, 1, 1, 2, 1, 4, 1, 1)
    table = {
        **ports(2),
        (*FDB, 0, 0x11, 0, 0, 0, 5): V2.Integer(2),
        (*BRIDGE, 7, 1, 2, 2, 1, 2, 1, 0, 0x11, 0, 0, 0, 6): V2.Integer(2),
        (*neighbour, 4, 0, 1, 1): V2.Integer(4),
        (*neighbour, 5, 0, 1, 1): V2.OctetString(bytes(range(6))),
        (*neighbour, 9, 0, 1, 1): V2.OctetString("a neighbour"),
        (*neighbour, 12, 0, 1, 1): V2.OctetString(b"\x20"),
        (1, 0, 8802, 1, 1, 2, 1, 4, 2, 1, 3, 0, 1, 1, 1, 4, 192, 0, 2, 4): V2.Integer(2),
    }
    parts = st.sampled_from([0, 1, 2, 4, 6, 16, 255, 256, 2**32 - 1])
    value = st.one_of(
        st.integers(-(2**31), 2**31 - 1).map(V2.Integer), st.integers(0, 2**64 - 1).map(V2.Counter64),
        st.binary(max_size=40).map(V2.OctetString), st.just(V2.Null("")), st.none(),
    )  # fmt: skip
    names = sorted(table)
    for name in data.draw(st.lists(st.sampled_from(names), max_size=6)):
        if data.draw(st.booleans()):
            table[name] = data.draw(value)
        else:
            kept = data.draw(st.integers(len(name) - 9, len(name)))
            table[(*name[:kept], *data.draw(st.lists(parts, max_size=10)))] = table.pop(name, V2.Integer(1))
    return table


class Hostile(unittest.TestCase):
    def read(self, agent: FakeAgent, *, whole_s: float = 20.0, vlans: tuple[int, ...] = ()) -> SwitchReading:
        self.addCleanup(agent.close)
        access = SwitchAccess("lab", SnmpAccess(IPv4Address("127.0.0.1"), agent.port, "2c", "x"), vlans)
        with mock.patch.object(snmp_switch, "_WHOLE_S", whole_s):
            return snmp_switch.read_switch(access)

    def test_an_honest_one(self) -> None:
        """The same agent, with a table as it should be: ports, narrow counters, adapters; names are cleaned."""
        table = ports(3)
        table[*FDB, 0, 0x11, 0, 0, 0, 5] = V2.Integer(2)
        found = self.read(FakeAgent(table))
        self.assertEqual([each.name for each in found.ports], ["Port 1[2J", "Port 2[2J", "Port 3[2J"])
        counters = found.ports[1].counters
        assert counters is not None
        self.assertEqual((counters.received, counters.sent, counters.bits), (2, 2, 32))
        self.assertEqual(
            [(each.mac, each.port) for each in found.learned], [(MacAddress(bytes([0, 17, 0, 0, 0, 5])), "Port 2[2J")]
        )

    def test_a_table_for_each_vlan(self) -> None:
        """Where a switch wants the VLAN behind the community; the ports of each are numbered by themselves."""
        mapped = (*BRIDGE, 1, 4, 1, 2)
        tens = {(*FDB, 0, 0x11, 0, 0, 0, 5): V2.Integer(7), (*mapped, 7): V2.Integer(2)}
        twenties = {(*FDB, 0, 0x11, 0, 0, 0, 6): V2.Integer(3)}
        agent = FakeAgent(ports(3), others={"x@10": tens, "x@20": twenties})
        found = self.read(agent, vlans=(10, 20))
        self.assertEqual(
            [(str(each.mac)[-1], each.port[:6], each.vlan) for each in found.learned],
            [("5", "Port 2", 10), ("6", "Port 3", 20)],
        )

    def test_a_size_that_is_not_true(self) -> None:
        """Too small, too large, or refused with an error: the table is read whole all the same, in a few requests."""
        vlan_fdb, size = (*BRIDGE, 7, 1, 2, 2, 1, 2), (*BRIDGE, 7, 1, 2, 1, 1, 2)
        for said in (1, 3, 599, 600, 601, 60_000, None):
            table = ports(3)
            table[*BRIDGE, 7, 1, 4, 2, 1, 3, 0, 10] = V2.Integer(1)
            for number in range(600):
                table[*vlan_fdb, 1, 0, 17, 0, 0, number >> 8, number & 255] = V2.Integer(2)
            if said is not None:
                table[*size, 1] = V2.Counter32(said)
            with self.subTest(said=said):
                agent = FakeAgent(table, values=320, refuses=size if said is None else (2,))
                self.assertEqual(len(self.read(agent).learned), 600)
                self.assertLessEqual(agent.questions, 9)

    def test_tables_that_lag_behind(self) -> None:
        """A port that has no row yet in the table of interfaces is left out, and neighbours that cannot be read are
        not taken for none: all else counts.
        """
        table = ports(3)
        table[*BRIDGE, 1, 4, 1, 2, 9] = V2.Integer(9)
        table[*FDB, 0, 0x11, 0, 0, 0, 5] = V2.Integer(9)
        table[*FDB, 0, 0x11, 0, 0, 0, 6] = V2.Integer(1)
        self.assertEqual(self.read(FakeAgent(table)).neighbours, ())
        found = self.read(FakeAgent(table, refuses=(1, 0, 8802)))
        self.assertEqual((len(found.ports), len(found.learned), found.neighbours), (3, 1, None))
        self.assertEqual(
            found.remarks,
            (
                "its port 9 is in no table of its interfaces, and left out",
                "it does not tell its neighbours by LLDP (genErr)",
            ),
        )
        table[*BRIDGE, 1, 4, 1, 2, 8] = V2.Integer(8)
        silent = FakeAgent(table, silent=(1, 0, 8802))
        with mock.patch.multiple(snmp_session, _TIMEOUT_S=0.2, _RETRIES=0):
            found = self.read(silent)
        self.assertEqual((len(found.ports), found.neighbours), (3, None))
        self.assertIn("2 of its ports are in no table of its interfaces, and left out", found.remarks)

    def test_the_process_does_not_wait_for_it(self) -> None:
        """After an interrupt a reading that goes on still holds nothing up."""
        program = (
            "import time\nfrom scopion.attachment.lane import Lane\n"
            "Lane('slow').begin(time.sleep, 600)\nraise KeyboardInterrupt"
        )
        ended = subprocess.run([sys.executable, "-c", program], check=False, capture_output=True, timeout=60)
        self.assertIn(b"KeyboardInterrupt", ended.stderr)

    def test_a_table_that_goes_in_circles(self) -> None:
        """It is read as far as it goes on, and that is said."""
        first, second = (*FDB, 0, 0x11, 0, 0, 0, 5), (*FDB, 0, 0x11, 0, 0, 0, 6)
        circle = {FDB: first, first: second, second: first}
        agent = FakeAgent(ports(2), lambda name: (circle[name], V2.Integer(1)) if name in circle else None)
        found = self.read(agent)
        self.assertEqual(len(found.learned), 2)
        self.assertEqual(found.remarks, ("a table of its goes in circles",))
        self.assertLess(agent.questions, 20)

    def test_a_table_without_end(self) -> None:
        """It is left at a bound of rows."""

        def follows(name: Oid) -> tuple[Oid, Any] | None:
            if name[: len(FDB)] != FDB:
                return None
            number = int.from_bytes(bytes(name[len(FDB) :]) or b"\0", "big") + 1
            return (*FDB, *number.to_bytes(6, "big")), V2.Integer(1)

        with mock.patch.object(snmp_session, "_MAX_ROWS", 500):
            found = self.read(FakeAgent(ports(2), follows))
        self.assertLessEqual(len(found.learned), 500)
        self.assertEqual(found.remarks, ("a table of its has more than 500 rows",))
        with (
            mock.patch.object(snmp_session, "_MAX_REQUESTS", 5),
            self.assertRaisesRegex(SwitchUnreadable, "do not end"),
        ):
            self.read(FakeAgent(ports(2), follows))

    def test_one_that_is_slow(self) -> None:
        """After a time it is left, whatever it still has to say."""
        agent = FakeAgent(ports(40))
        agent.pause_s = 0.4
        began = time.monotonic()
        with self.assertRaisesRegex(SwitchUnreadable, "takes longer than"):
            self.read(agent, whole_s=1.5)
        self.assertLess(time.monotonic() - began, 4)

    @settings(deadline=None)  # the library is loaded by the first
    @given(st.data())
    def test_whatever_stands_in_the_tables(self, data: st.DataObject) -> None:
        """Some values of other types, some rows of other lengths: a reading that the rest understands, or a refusal."""
        table = odd_table(data)

        class Confused(snmp_session.SnmpSession):
            def __init__(self, access: SnmpAccess) -> None:
                self.remarks = []

            async def __aenter__(self) -> Confused:
                return self

            async def __aexit__(self, *_: object) -> None:
                pass

            async def values(self, names: Sequence[Oid]) -> list[object]:
                return [table.get(name) for name in names]

            async def columns(
                self, names: Sequence[Oid], context: str = "", rows: int = 0, *, often_empty: bool = False
            ) -> Mapping[Oid, dict[Oid, object]]:
                return {
                    name: {row[len(name) :]: each for row, each in table.items() if row[: len(name)] == name}
                    for name in names
                }

        with mock.patch.object(snmp_switch, "SnmpSession", Confused):
            vlans = data.draw(st.sampled_from([(), (10,)]))
            access = SwitchAccess("lab", SnmpAccess(IPv4Address("127.0.0.1"), 1, "2c", "x"), vlans)
            try:
                found = snmp_switch.read_switch(access)
            except SwitchUnreadable as error:
                self.assertIn("is it a switch", str(error))
                return
        self.assertLessEqual({each.port for each in found.learned}, {each.name for each in found.ports})
        self.assertEqual(len({each.name for each in found.ports}), len(found.ports))
        locate([found])

    def test_answers_that_make_no_sense(self) -> None:
        """Values of other types, numbers below zero, adapters with nine octets, ports that it does not have."""
        table: dict[Oid, Any] = ports(2)
        table[*FDB, 0, 0x11, 0, 0, 0, 5] = V2.OctetString("no number")
        table[*FDB, 0, 0x11, 0, 0, 0, 6] = V2.Integer(-7)
        table[*FDB, 0, 0x11, 0, 0, 0, 7] = V2.Integer(99)
        table[*FDB, 0, 0x11, 0, 0, 0, 8, 9, 9, 9] = V2.Integer(1)
        table[*FDB, 0, 0x11, 0, 0, 0, 900] = V2.Integer(1)
        table[*INTERFACES, 5, 1] = V2.OctetString("fast")
        for column in (6, 10):  # ifHCInOctets, ifHCOutOctets: more than passes in a thousand years
            table[1, 3, 6, 1, 2, 1, 31, 1, 1, 1, column, 1] = V2.Counter64(2**64 - 1)
        table[1, 0, 8802, 1, 1, 2, 1, 4, 1, 1, 5, 0, 1, 1] = V2.Integer(5)
        found = self.read(FakeAgent(table))
        self.assertEqual((len(found.ports), found.learned, found.ports[0].counters), (2, (), None))
        with self.assertRaisesRegex(SwitchUnreadable, "is it a switch"):
            self.read(FakeAgent({(1, 3, 6, 1, 2, 1, 1, 5, 0): V2.OctetString("a printer")}))


if __name__ == "__main__":
    unittest.main()
