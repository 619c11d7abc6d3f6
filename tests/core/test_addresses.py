"""MAC addresses in every notation, and targets: held against independent ways of saying the same."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv4Network, IPv6Address

from hypothesis import given
from hypothesis import strategies as st

from scopion.cli.parts.output import iso
from scopion.model.address import written
from scopion.model.errors import InvalidMacAddress, InvalidTarget
from scopion.model.mac import MacAddress, Notation
from scopion.model.targets import Targets
from scopion.roster.store.stored_values import stored_address

macs = st.binary(min_size=6, max_size=6).map(MacAddress)
addresses = st.integers(0, 2**32 - 1).map(IPv4Address)


class MacAddresses(unittest.TestCase):
    @given(macs, st.sampled_from(Notation), st.booleans(), st.sampled_from(["", " ", "\t", "  "]))
    def test_every_notation_reads_back(self, mac: MacAddress, notation: Notation, shout: bool, blank: str) -> None:
        """What is written in any notation, in either case, with blanks around, is the same address again."""
        text = mac.written(notation)
        text = blank + (text.upper() if shout else text.lower()) + blank
        self.assertEqual(MacAddress.parse(text), mac)

    @given(macs, st.sampled_from(":-"))
    def test_single_digit_octets(self, mac: MacAddress, separator: str) -> None:
        """Leading zeros may be missing, as some systems print it."""
        self.assertEqual(MacAddress.parse(separator.join(f"{octet:x}" for octet in mac.octets)), mac)

    @given(st.text(max_size=40))
    def test_any_text_is_read_or_refused(self, text: str) -> None:
        """Parsing is total: a valid address or InvalidMacAddress in one line, never another error."""
        try:
            mac = MacAddress.parse(text)
        except InvalidMacAddress as error:
            self.assertNotIn("\n", str(error))
        else:
            self.assertEqual(MacAddress.parse(str(mac)), mac)

    def test_what_people_paste(self) -> None:
        """Notations from stickers, switches and web pages."""
        wanted = MacAddress(bytes.fromhex("0c4ea0010203"))
        for text in (
            "0c:4e:a0:01:02:03", "0C-4E-A0-01-02-03", "0c4e.a001.0203", "0C4EA0010203", "0c:4e:a0:1:2:3",
            " 0C 4E A0 01 02 03 ", "0c4ea0-010203", '"0c:4e:a0:01:02:03"', "0c : 4e : a0 : 01 : 02 : 03",
            "0C–4E–A0–01–02–03",
        ):  # fmt: skip
            with self.subTest(text=text):
                self.assertEqual(MacAddress.parse(text), wanted)
        for text in (
            "0c:4e:a0:01:02",
            "0c:4e:a0:01:02:03:04",
            "0c:4e-a0:01:02:03",
            "0c::a0:01:02:03",
            "",
            "0c:4e:a0:01:02:0g",
            "10.0.0.5",
            "192.0.2.20",
        ):
            with self.subTest(text=text), self.assertRaises(InvalidMacAddress):
                MacAddress.parse(text)

    def test_the_bits(self) -> None:
        """Private is the second-lowest bit of the first octet, multicast the lowest, and broadcast is multicast."""
        for text, private, multicast, broadcast in (
            ("0c:4e:a0:01:02:03", False, False, False),
            ("da:31:7f:0c:52:e9", True, False, False),
            ("01:00:5e:00:00:fb", False, True, False),
            ("33:33:00:00:00:01", False, True, False),
            ("ff:ff:ff:ff:ff:ff", False, True, True),
        ):
            mac = MacAddress.parse(text)
            with self.subTest(text=text):
                self.assertEqual((mac.is_private, mac.is_multicast, mac.is_broadcast), (private, multicast, broadcast))


class Written(unittest.TestCase):
    @given(addresses | st.integers(0, 2**128 - 1).map(IPv6Address))
    def test_addresses_as_everybody_writes_them(self, address: IPv4Address | IPv6Address) -> None:
        """Our quicker way of writing an address gives the same text, and the roster reads it back."""
        self.assertEqual(written(address), str(address))
        self.assertEqual(stored_address(written(address)), address)

    @given(st.datetimes(datetime(1970, 1, 2), datetime(9000, 1, 1), timezones=st.timezones()))
    def test_moments_as_everybody_writes_them(self, moment: datetime) -> None:
        """A moment for machines is that of ISO 8601 in UTC, to the second, from whatever zone."""
        self.assertEqual(iso(moment), f"{moment.astimezone(UTC).replace(tzinfo=None).isoformat(timespec='seconds')}Z")


class TargetRanges(unittest.TestCase):
    @given(st.lists(st.tuples(addresses, st.integers(0, 300)), min_size=1, max_size=6), st.lists(addresses, max_size=3))
    def test_ranges_mean_the_set_of_their_addresses(
        self, spans: list[tuple[IPv4Address, int]], excluded: list[IPv4Address]
    ) -> None:
        """Overlaps are asked once, exclusions not at all, and nothing else is added or lost."""
        wanted: set[IPv4Address] = set()
        texts = []
        for first, length in spans:
            last = IPv4Address(min(int(first) + length, 2**32 - 1))
            wanted |= {IPv4Address(number) for number in range(int(first), int(last) + 1)}
            texts.append(f"{first}-{last}")
        wanted -= set(excluded)
        without = [str(address) for address in excluded]
        if not wanted:
            with self.assertRaises(InvalidTarget):
                Targets.parse(texts, without)
            return
        targets = Targets.parse([",".join(texts)], without)
        self.assertEqual(list(targets), sorted(wanted))
        self.assertEqual(len(targets), len(wanted))
        self.assertTrue(all(address in targets for address in wanted))
        self.assertEqual(set(Targets.parse([str(targets)])), wanted)  # and it says itself what it means

    @given(addresses, st.integers(20, 32))
    def test_a_subnet_leaves_out_its_edges(self, address: IPv4Address, length: int) -> None:
        """Network and broadcast address are not asked; a /31 and a /32 have neither."""
        network = IPv4Network((address, length), strict=False)
        expected = list(network) if length >= 31 else list(network)[1:-1]
        self.assertEqual(list(Targets.parse([f"{address}/{length}"])), expected)

    @given(addresses, st.integers(8, 32))
    def test_netmasks_and_stars_are_the_same_as_a_length(self, address: IPv4Address, length: int) -> None:
        """However a subnet is written, the same addresses are asked; a mask behind a blank is no address of its own."""
        network = IPv4Network((address, length), strict=False)
        same = Targets.parse([f"{address}/{length}"]).ranges
        self.assertEqual(Targets.parse([f"{address}/{network.netmask}"]).ranges, same)
        self.assertEqual(Targets.parse([str(address), str(network.netmask)]).ranges, same)
        stars = (32 - length) // 8
        starred = ".".join([*str(address).split(".")[: 4 - stars], *["*"] * stars])
        self.assertEqual(Targets.parse([starred]).ranges, Targets.parse([f"{address}/{32 - 8 * stars}"]).ranges)

    def test_a_part_of_an_attached_subnet_keeps_its_own_edges(self) -> None:
        """192.0.2.128 is a host like others in a /24, and stays one when only the upper /25 is scanned."""
        attached = [IPv4Network("192.0.2.0/24")]
        part = Targets.parse(["192.0.2.128/25"], subnets=attached)
        self.assertIn(IPv4Address("192.0.2.128"), part)
        self.assertNotIn(IPv4Address("192.0.2.255"), part)
        self.assertEqual(len(Targets.parse(["192.0.2.0-255"], subnets=attached)), 254)

    def test_notations_and_mistakes(self) -> None:
        """The last-octet end is understood; what is not is refused with the text that was wrong."""
        self.assertEqual(len(Targets.parse(["192.0.2.10-20", "192.0.2.15, 192.0.2.30"])), 12)
        for text in (
            "192.0.2", "192.0.2.300", "192.0.2.9-5", "192.0.2.9-300", "192.0.2.0/33", "192.0.2.0/x", "a-b",
            "192.0.2.1,,", "::1", "192.*.2.1", "192.0.2.*.*", "192.0.2.1*", "192.0.2.0/255.0.255.0",
        ):  # fmt: skip
            with self.subTest(text=text), self.assertRaisesRegex(InvalidTarget, "192|a-b|::1"):
                Targets.parse([text])
