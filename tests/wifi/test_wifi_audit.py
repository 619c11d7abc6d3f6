"""The audit of wireless networks: what each setting is worth, in both kinds of configuration; passphrases unseen."""

from __future__ import annotations

import unittest
from datetime import date

from scopion.model.errors import Refused
from scopion.model.mac import MacAddress
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.open_enforcers import remember_stations
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcers.enforcer import Located, Station
from scopion.wireless.enforcers.uci import sections
from scopion.wireless.judge_posture import (
    STRONG,
    Finding,
    Grade,
    Surroundings,
    judge,
    judge_answers,
    propose_passphrase,
    strength,
)
from scopion.wireless.posture import Encryption, Posture, of_control, of_hostapd, of_uci
from scopion.wireless.refusals import refuse_more_than_fits
from tests.support import PreparedTest, ProgramTest

QUIET = Surroundings(ListMode.OFF, 0)
GOOD = "bake-muro-tiga-sofe-pudi-nako"


def graded(found: list[Finding], about: str) -> list[Grade]:
    return [each.grade for each in found if each.about == about]


def uci(options: str) -> Posture:
    lines = "".join(f"\toption {option}\n" for option in options.split("; "))
    return of_uci("router", sections(f"config wifi-iface 'x'\n\toption ssid 'Kilnhaven'\n{lines}")[0])


def hostapd(options: str, interface: str = "wlan0") -> Posture:
    return of_hostapd("ap", "interface=wlan0\nssid=Kilnhaven\n" + options.replace("; ", "\n"), interface)


class Judging(unittest.TestCase):
    def test_encryption_of_both_kinds_of_configuration(self) -> None:
        """Open, WEP, WPA1, TKIP are bad; WPA2 and WPA3 are fine; what says the same is judged the same."""
        for daemon, router, kinds, grade in (
            ("", "encryption none", {Encryption.OPEN}, Grade.HIGH),
            ("wep_key0=123456789a", "encryption wep-open", {Encryption.WEP}, Grade.HIGH),
            ("wpa=1", "encryption psk", {Encryption.WPA1}, Grade.HIGH),
            ("wpa=3", "encryption psk-mixed+tkip+ccmp", {Encryption.WPA1, Encryption.WPA2}, Grade.HIGH),
            ("wpa=2; rsn_pairwise=TKIP CCMP", "encryption psk2+tkip+ccmp", {Encryption.WPA2}, Grade.HIGH),
            ("wpa=2; rsn_pairwise=CCMP", "encryption psk2+ccmp", {Encryption.WPA2}, Grade.FINE),
            ("wpa=2; wpa_key_mgmt=WPA-PSK SAE", "encryption sae-mixed", {Encryption.WPA2, Encryption.WPA3}, Grade.FINE),
            ("wpa=2; wpa_key_mgmt=SAE", "encryption sae", {Encryption.WPA3}, Grade.FINE),
            ("wpa=2; wpa_key_mgmt=OWE", "encryption owe", {Encryption.OWE}, Grade.LOW),
            ("wpa=2; wpa_key_mgmt=WPA-EAP", "encryption wpa2", {Encryption.WPA2}, Grade.FINE),
        ):
            for posture in (hostapd(daemon), uci(router)):
                self.assertEqual(posture.encryption, kinds, (daemon, router))
                self.assertEqual(graded(judge(posture, QUIET), "encryption"), [grade], (daemon, router))

    def test_the_right_bss_is_read(self) -> None:
        """A file with several networks: options below each one's name are its own."""
        text = "wpa=2; bss=guest; ssid=Guests; ignore_broadcast_ssid=1"
        self.assertEqual((hostapd(text).ssid, hostapd(text, "guest").ssid), ("Kilnhaven", "Guests"))
        self.assertEqual((hostapd(text).hidden, hostapd(text, "guest").hidden), (False, True))
        self.assertEqual(hostapd(text, "guest").encryption, {Encryption.OPEN})

    def test_what_else_is_judged(self) -> None:
        """Frame protection, WPS, names, hiding, lists that only seem to protect, and who may use the socket."""
        found = judge(hostapd("wpa=2; wps_state=2; ignore_broadcast_ssid=1; wpa_passphrase=" + GOOD), QUIET)
        self.assertEqual(graded(found, "frame protection"), [Grade.MEDIUM])
        self.assertEqual(graded(found, "WPS"), [Grade.MEDIUM])
        self.assertEqual(graded(found, "SSID"), [Grade.LOW])
        self.assertEqual(graded(found, "passphrase"), [Grade.FINE])
        self.assertEqual(graded(judge(uci("encryption psk2; ieee80211w 2"), QUIET), "frame protection"), [Grade.FINE])
        around = Surroundings(
            ListMode.ALLOW, 3, unpushed=("5",), names=["Morgan Claypole"], makers=["Brackwater Networks"]
        )
        lists = [each.says for each in judge(hostapd("macaddr_acl=0"), around) if each.about == "lists"]
        self.assertEqual(len(lists), 3)  # open, another mode after a restart, a radio without the list
        self.assertEqual(graded(judge(hostapd("wpa=2; macaddr_acl=1"), around), "lists"), [Grade.MEDIUM])
        for name, expected in (
            ("Brackwater-5G", [Grade.LOW]), ("WLAN-88A2F1", [Grade.LOW]), ("Claypole Kilns", [Grade.LOW]),
            ("Family Potter", [Grade.LOW]), ("Kilnhaven", []), ("Blue Door", []),
        ):  # fmt: skip
            self.assertEqual(graded(judge(Posture("ap", name), around), "SSID"), expected, name)
        for mode, grade in ((0o777, Grade.HIGH), (0o770, Grade.FINE), (0o700, Grade.FINE)):
            posture = of_control("ap", {"ssid": "Kilnhaven", "wpa": "2", "key_mgmt": "WPA-PSK"}, (mode, "netdev"))
            self.assertEqual(graded(judge(posture, QUIET), "control socket"), [grade])

    def test_passphrases_are_judged_by_guesses_and_never_shown(self) -> None:
        """The network's own name is tried first by everybody; what is proposed is strong, easily typed, always new."""
        for passphrase, grade in (("Kilnhaven1987", Grade.HIGH), ("password123", Grade.HIGH), (GOOD, Grade.FINE)):
            posture = hostapd(f"wpa=2; wpa_passphrase={passphrase}")
            found = judge(posture, QUIET)
            self.assertEqual(graded(found, "passphrase"), [grade], passphrase)
            self.assertNotIn(passphrase, f"{found}{posture}")
        only_wpa3 = hostapd("wpa=2; wpa_key_mgmt=SAE; sae_password=Kilnhaven1987")
        self.assertEqual(
            graded(judge(only_wpa3, QUIET), "passphrase"), [Grade.LOW]
        )  # it cannot be guessed offline there
        self.assertEqual(graded(judge(uci("encryption owe"), QUIET), "passphrase"), [])
        several = {propose_passphrase() for _ in range(50)}
        self.assertEqual(len(several), 50)
        for each in several:
            self.assertRegex(each, r"^([bdfghkmnprst][aeiou]){2}(-([bdfghkmnprst][aeiou]){2}){5}$")
            self.assertGreater(strength(each, ["Kilnhaven"]), STRONG)

    def test_what_people_said_is_judged_by_its_day(self) -> None:
        """An unchanged router's password is bad, an old passphrase is mentioned, silence is not known."""
        today = date(2026, 9, 14)
        self.assertEqual({each.grade for each in judge_answers("K", {}, today)}, {Grade.UNKNOWN})
        said = {"admin-password": ("default", today), "passphrase-changed": ("2020-01-01", today)}
        self.assertEqual([each.grade for each in judge_answers("K", said, today)], [Grade.HIGH, Grade.MEDIUM])
        said = {"admin-password": ("changed", today), "passphrase-changed": ("2026-01-01", today)}
        self.assertEqual({each.grade for each in judge_answers("K", said, today)}, {Grade.FINE})


class Room(unittest.TestCase):
    def test_what_would_fit_is_said(self) -> None:
        """Whose entries are stale, and that the other mode needs fewer; what fits is not refused."""
        refuse_more_than_fits("K", 12, 12)
        refuse_more_than_fits("K", None, 999)
        with self.assertRaisesRegex(Refused, "old tablet was not seen for two months .*; mode deny needs 2 only"):
            refuse_more_than_fits("K", 12, 13, stale=["old tablet"], other=(ListMode.DENY, 2))
        with self.assertRaisesRegex(Refused, "a, b, c, d, e and 2 more were not seen"):
            refuse_more_than_fits("K", 12, 13, stale=list("abcdefg"), other=(ListMode.DENY, 99))


class Commands(PreparedTest):
    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        site.run_ok("scan")
        site.run_ok("label", "192.0.2.50", "till", "--essential")
        site.run_ok("label", "192.0.2.61", "door tablet")

    def test_the_audit_of_the_made_up_site(self) -> None:
        """Its files are read, its passphrase is weak and nowhere but in its own file, what is answered is kept."""
        rows = self.run_json("wifi", "audit")
        weak = [row for row in rows if row["about"] == "passphrase"]
        self.assertEqual(
            [(row["grade"], row["where"]) for row in weak], [("high", "workshop access point, 2.4 and 5 GHz")]
        )
        shown = self.run_program("wifi", "audit", "Kilnhaven", "--admin-password", "changed", "--fail-on", "high")
        self.assertEqual(shown.returncode, 3)
        kept = [path for path in self.site.rglob("*") if path.is_file() and b"Kilnhaven1987" in path.read_bytes()]
        self.assertEqual({path.name for path in kept}, {"wlan0.conf", "wlan1.conf"})
        self.assertNotIn("Kilnhaven1987", shown.stdout + shown.stderr)
        self.refused(2, "wifi", "audit", "Kilnhaven", "--passphrase-changed", "2030-01-01")
        for changed, grade in (("2025-09-01", "low"), ("2020-01-31", "medium")):
            self.run_ok("wifi", "audit", "Kilnhaven", "--passphrase-changed", changed)
            aged = {row["about"]: row["grade"] for row in self.run_json("wifi", "audit", "Kilnhaven")}
            self.assertEqual(aged["passphrase's age"], grade)
        self.run_ok("wifi", "audit", "Kilnhaven", "--passphrase-changed", "2026-09-01")
        answers = {row["about"]: row["grade"] for row in self.run_json("wifi", "audit", "Kilnhaven")}
        self.assertEqual((answers["router's password"], answers["passphrase's age"]), ("fine", "fine"))
        self.refused(3, "wifi", "audit", "Nowhere")

    def test_who_needs_the_passphrase_again(self) -> None:
        """Once the access points were read: who is, or was, on the network's air."""
        self.run_ok("wifi", "stations")
        told = self.run_json("wifi", "passphrase", "Kilnhaven")
        names = [each["name"] for each in told["devices"]]
        self.assertEqual((names[0], len(names)), ("till", 7))
        self.assertNotEqual(told["passphrase"], self.run_json("wifi", "passphrase", "Kilnhaven")["passphrase"])
        self.refused(3, "wifi", "passphrase", "Nowhere")

    def test_nobody_unwanted_or_refused_is_given_the_passphrase(self) -> None:
        """A new passphrase is not for those that are unwanted or that the lists refuse: they are named apart."""
        self.run_ok("wifi", "stations")
        self.run_ok("mark", "192.0.2.62", "unwanted")
        self.run_ok("wifi", "deny", "Kilnhaven", "door tablet")
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        told = self.run_json("wifi", "passphrase", "Kilnhaven")
        self.assertEqual(len(told["devices"]), 5)
        reasons = {each["name"]: each["because"] for each in told["left_out"]}
        self.assertEqual(reasons, {"7c:a4:b1:33:02:62": "unwanted", "door tablet": "refused"})
        self.assertFalse({each["name"] for each in told["devices"]} & set(reasons))

    def test_every_network_of_the_access_point_is_named(self) -> None:
        """An open network in the same file is found by the audit of another one, and stands first."""
        config = self.site / "etc/hostapd/wlan1.conf"
        config.write_text(
            config.read_text() + "\nbss=wlan1_0\nssid=Cafe\n\nbss=wlan1_1\nssid=Till\nwpa=2\nsae_password=x\n"
        )
        rows = [row for row in self.run_json("wifi", "audit", "Kilnhaven") if row["about"] == "other network"]
        self.assertEqual(rows[0]["grade"], "high")
        self.assertIn("'Cafe': encryption none", rows[0]["says"])
        self.assertIn("'Till'", " ".join(row["says"] for row in rows[1:]))
        uci_file = self.site / "etc/config/wireless"
        uci_file.parent.mkdir(parents=True)
        uci_file.write_text(
            "config wifi-iface 'a'\n\toption ssid 'Yard'\n\toption encryption 'psk2'\n\toption key 'x'\n"
            "config wifi-iface 'b'\n\toption ssid 'Guests'\n"
        )
        with (self.site / "site.toml").open("a", encoding="utf-8") as file:
            file.write('\n[[enforcer]]\nname = "yard"\ntype = "uci"\nnetwork = "Yard"\n')
        (first, *_) = self.run_json("wifi", "audit", "Yard")
        self.assertEqual((first["grade"], first["about"]), ("high", "other network"))
        self.assertIn("'Guests'", first["says"])

    def test_stations_with_names(self) -> None:
        """Who is where, by the roster's names; also remembered for the card and for the whole list of all known."""
        rows = self.run_json("wifi", "stations", "--busiest")
        self.assertEqual(len(rows), 7)
        traffic = [row["received"] + row["sent"] for row in rows]
        self.assertEqual(traffic, sorted(traffic, reverse=True))
        door = next(row for row in rows if row["name"] == "door tablet")
        self.assertEqual((door["radio"], door["access_point"], door["signal_dbm"]), ("5", "workshop access point", -58))
        card = self.run_json("show", "door")
        self.assertEqual(card["adapters"][0]["medium"], "wireless")
        self.run_ok("mark", "--all-present", "known")
        self.run_ok("wifi", "allow", "Kilnhaven", "--all-known")
        self.assertEqual(len(self.run_json("wifi", "entries", "Kilnhaven")), 8)  # with this machine
        self.run_ok("wifi", "deny", "Kilnhaven", "--associated", "--insist")
        self.assertEqual(sum(row["list"] == "deny" for row in self.run_json("wifi", "entries", "Kilnhaven")), 7)

    def test_entries_cover_every_link(self) -> None:
        """A device that uses several links at once has an address for each: its entry, and so a push, has them all."""
        links = [MacAddress.parse(text) for text in ("7e:a4:b1:33:02:61", "7e:a4:b1:33:02:62")]
        door = MacAddress.parse("7c:a4:b1:33:02:61")
        site = Site(self.site)
        there = Located(Station(door, links=tuple(links)), "Kilnhaven", "workshop access point", "5", site.clock.now())
        remember_stations(site, [there])
        site.close()
        self.run_ok("wifi", "deny", "Kilnhaven", str(door))
        (entry,) = self.run_json("wifi", "entries", "Kilnhaven")
        self.assertEqual(set(entry["macs"]), {str(door), *map(str, links)})
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        changes = self.run_json("wifi", "preview", "Kilnhaven")["changes"]
        self.assertEqual(sum(each["change"] == "add" for each in changes), 6)


if __name__ == "__main__":
    unittest.main()
