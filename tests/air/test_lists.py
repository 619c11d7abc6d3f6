"""Lists on real radios: a refused station goes to the other band, then off the air; all others never lose a beat."""

from __future__ import annotations

import json

from tests.air.radios import HIDDEN, SSID, Beat, wait_for
from tests.air.real_air import RealAir

LONGEST_GAP_S = 1.0
SCAN_TWICE = """\
import json
from scopion.attachment.linux.linux_attachment import LiveAttachment
from scopion.discovery.probing import GREETING_PACE, Method, default_pace, open_prober, plan_for
from scopion.discovery.runner import Watcher, run_scan
from scopion.model.targets import Targets

attachment = LiveAttachment()
interface = next(each for each in attachment.interfaces() if each.mac)
own = interface.addresses[0].ip
addresses = Targets.parse(["192.0.2.0/24"]).without([own])
progress, again = [0], {}


def scan(expected, watcher):
    prober = open_prober(Method.ARP, attachment, interface, own)
    plan = plan_for(Method.ARP, default_pace(interface), 1)
    found = run_scan(addresses, prober, attachment, plan, expected, watcher, greeting_pace=GREETING_PACE)
    prober.close()
    return found


known = {seen.address: [seen.mac] for seen in scan({}, Watcher()).observations if seen.address.version == 4}
note = lambda seen: again.setdefault(str(seen.address), progress[0])
scan(known, Watcher(note, lambda each: progress.__setitem__(0, each.touched)))
told = {"mhz": interface.mhz, "pace": default_pace(interface)}
print(json.dumps({**told, "searched": {str(each): again.get(str(each)) for each in known}}))
"""


class Lists(RealAir):
    def beat(self, at: str) -> Beat:
        return Beat(self.air.machine, at, self.lab.desk_address)

    def test_band_by_band(self) -> None:
        """Denied on 5 GHz it moves to 2.4 GHz and ``verify`` says so; on all bands its own log shows the rejection."""
        till, others = self.station("till"), [self.station(name) for name in ("tablet", "phone", "sensor")]
        self.settings(self.enforcer("workshop", bands=("2.4", "5")))
        till.go_to(5180)
        till.look_on((2412, 5180))
        wired, beats = self.beat("ap2"), {each.name: self.beat(each.name) for each in others}
        self.refuse(till)
        self.push("--radio", "5")
        wait_for("the till is on 2.4 GHz", lambda: till.is_connected() and till.status()["freq"] == "2412")

        def unmet() -> str:
            partly = self.scopion("wifi", "verify", SSID, "--format", "json")
            self.assertEqual(partly.returncode, 3, partly.stderr)
            return " ".join(each["says"] for each in json.loads(partly.stdout)["checks"] if each["met"] is False)

        # A login to the emulated machine may take longer than it is waited for.
        says = "is associated, because the list is not in force here yet"
        wait_for("verify says why", lambda: says in unmet())
        self.push()
        wait_for("the till is off the air", lambda: not till.is_connected())
        verdict = json.loads(self.ok("wifi", "verify", SSID, "--format", "json"))
        self.assertTrue(verdict["met"])
        self.assertIn("workshop does not tell who was turned away", " ".join(verdict["notes"]))
        wait_for("its rejection", lambda: "CTRL-EVENT-AUTH-REJECT" in till.log())
        gaps = {name: beat.end() for name, beat in beats.items()}
        # A gap that a host on cable has as well is the emulator's.
        self.assertLessEqual(max(gaps.values()), LONGEST_GAP_S + wired.end(), gaps)

    def test_who_uses_the_line(self) -> None:
        """A real access point counts what each station sends and gets: ten echoes a second, both ways alike."""
        till, tablet = self.station("till"), self.station("tablet")
        self.settings(self.enforcer("workshop", bands=("2.4", "5")))
        beat = self.beat("till")
        rows = {each["macs"][0]: each for each in self.json("usage", "--now", "--for", "8s")}
        beat.end()
        row = rows[till.mac]
        self.assertEqual((row["counted_by"], row["where"]), ("station", "workshop"))
        for way in ("up_bps", "down_bps"):
            # An echo has 84 octets (RFC 791, RFC 792); on the air there are some 40 more.
            self.assertTrue(10 * 84 * 8 * 0.8 < row[way] < 10 * 124 * 8 * 1.4, row)
            self.assertLess(rows.get(tablet.mac, {}).get(way) or 0, row[way] / 2)

    def test_a_scan_by_radio(self) -> None:
        """The kernel tells the frequency, from which the pace follows; known devices answer before the search ends."""
        self.addCleanup(self.station("till").look_on, (2412, 5180))
        for name, mhz, pace in (("till", 5180, 400.0), ("sensor", 2412, 90.0)):
            self.station(name).go_to(mhz)
            ended = self.air.machine.run(self.program(SCAN_TWICE), at=name, within_s=120)
            self.assertEqual(ended.code, 0, ended.errors)
            told = json.loads(ended.output)
            self.assertEqual((told["mhz"], told["pace"]), (mhz, pace))
            searched = told["searched"]  # how many addresses had been asked when each known device was heard again
            # The clock belongs to the tests on the attic, which run beside these and throw it off the air.
            searched.pop(self.station("clock").address, None)
            self.assertGreater(len(searched), 6)  # both access points and the other stations
            self.assertLess(max(254 if each is None else each for each in searched.values()), 127, searched)

    def test_six_gigahertz(self) -> None:
        """WPA3 alone is allowed there; a denied station is off, and its rejection is the access point's answer."""
        tablet = self.station("tablet")
        self.addCleanup(tablet.look_on, (2412, 5180))
        tablet.go_to(5975)
        self.settings(self.enforcer("workshop", bands=("6",)))
        self.refuse(tablet)
        self.push()
        wait_for("the tablet is off the air", lambda: not tablet.is_connected())
        self.ok("wifi", "verify", SSID, "--no-scan")

    def test_frame_protection(self) -> None:
        """A hidden WPA3 network that requires it: denying disconnects, so does an allow list; mode off admits it."""
        safe = self.station("safe")
        self.assertEqual((safe.status()["pmf"], safe.status()["key_mgmt"]), ("2", "SAE"))
        self.settings(self.enforcer("office", ssid=HIDDEN))
        self.refuse(safe, HIDDEN)
        self.push(ssid=HIDDEN)
        wait_for("the safe is off the air", lambda: not safe.is_connected())
        self.assertNotIn("[AUTHORIZED]", self.air.first.ask("wlan0_1", f"STA {safe.mac}"))
        self.clear()
        self.ok("wifi", "allow", HIDDEN, self.station("till").mac)
        self.ok("wifi", "mode", HIDDEN, "allow", "--insist")
        self.push("--insist", ssid=HIDDEN)
        wait_for("the safe is off the air again", lambda: not safe.is_connected())
        self.ok("wifi", "verify", HIDDEN, "--no-scan")
        self.ok("wifi", "mode", HIDDEN, "off")
        self.push(ssid=HIDDEN)
        safe.again()
        safe.wait()

    def test_the_administrator_sits_on_it(self) -> None:
        """The program's only way out is a station of that network: it is never off while an allow list is put there."""
        desk = self.station("desk")
        self.where = "seat"
        self.settings(self.enforcer("workshop", bands=("2.4", "5")))
        before = desk.log()
        wired, beat = self.beat("ap2"), self.beat("desk")
        members = [self.station(name).mac for name in ("till", "tablet", "phone", "sensor", "desk")]
        self.ok("wifi", "allow", SSID, *members)
        self.ok("wifi", "mode", SSID, "allow", "--insist")
        self.push("--insist")
        self.assertEqual(len(self.air.first.ask("wlan1", "ACCEPT_ACL SHOW").splitlines()), len(members))
        self.assertEqual({each["list"] for each in self.json("wifi", "stations", SSID)}, {"allow"})
        self.ok("wifi", "revert", SSID, "--yes")
        self.assertEqual(self.air.first.ask("wlan1", "ACCEPT_ACL SHOW"), "")
        self.assertLessEqual(beat.end(), LONGEST_GAP_S + wired.end())
        self.assertEqual(desk.log(), before)

    def test_the_accept_list_counts_first(self) -> None:
        """A station on both lists is admitted, in either mode: a foreign accept entry voids a denial, as it is said."""
        till, point = self.station("till"), self.air.first
        for interface in ("wlan0", "wlan1"):
            point.ask(interface, f"ACCEPT_ACL ADD_MAC {till.mac}")
        self.settings(self.enforcer("workshop", bands=("5",)))
        self.refuse(till)
        self.assertIn("voids that", self.scopion("wifi", "preview", SSID).stderr)
        for mode in ("0", "1"):
            for interface in ("wlan0", "wlan1"):
                point.ask(interface, f"SET macaddr_acl {mode}")
                point.ask(interface, f"DENY_ACL ADD_MAC {till.mac}")
            till.ask("DISCONNECT")
            wait_for("the till is off", lambda: not till.is_connected())
            till.again()
            till.wait()
        for interface in ("wlan0", "wlan1"):
            point.ask(interface, "SET macaddr_acl 0")  # first: else all others would go with the list
            point.ask(interface, "ACCEPT_ACL CLEAR")
            point.ask(interface, f"DENY_ACL ADD_MAC {till.mac}")
        wait_for("the till is off the air", lambda: not till.is_connected())

    def test_a_station_that_roams_during_a_push(self) -> None:
        """It goes to the other band while the list is being written: it is off the air all the same."""
        till = self.station("till")
        self.settings(self.enforcer("workshop", bands=("2.4", "5")))
        self.refuse(till)
        pushing = self.lab.begin(["wifi", "push", SSID, "--yes", "--no-verify"], self.site)
        till.ask("ROAM 02:00:00:00:00:00")
        _, said = pushing.communicate(timeout=60)
        self.assertEqual(pushing.returncode, 0, said)
        wait_for("the till is off the air", lambda: not till.is_connected())
        self.assertNotIn(till.mac, {each["mac"] for each in self.json("wifi", "stations", SSID)})
        self.ok("wifi", "verify", SSID, "--no-scan")

    def test_a_station_that_changes_its_address_during_a_push(self) -> None:
        """A telephone whose Wi-Fi is switched off and on has another private address: that one is not refused yet."""
        phone = self.station("phone")
        before = phone.mac
        self.settings(self.enforcer("workshop", bands=("2.4", "5")))
        self.refuse(phone)
        pushing = self.lab.begin(["wifi", "push", SSID, "--yes", "--no-verify"], self.site)
        phone.switch_off_and_on()
        _, said = pushing.communicate(timeout=60)
        self.assertEqual(pushing.returncode, 0, said)
        after = phone.mac
        self.assertNotEqual(after, before)
        here = {each["mac"] for each in self.json("wifi", "stations", SSID)}
        self.assertEqual(here & {before, after}, {after})
        self.ok("wifi", "verify", SSID, "--no-scan")
        self.refuse(phone)
        self.push()
        wait_for("the phone is off the air", lambda: not phone.is_connected())

    def test_a_list_that_others_have_filled(self) -> None:
        """What they put there counts: one entry more is refused before anything is changed, with the way out."""
        for number in range(12):
            self.air.first.ask("wlan0_1", f"DENY_ACL ADD_MAC 10:00:00:00:00:{number:02x}")
        self.settings(self.enforcer("office", ssid=HIDDEN).replace('"hostapd"', '"hostapd"\ncapacity = 12'))
        self.refuse(self.station("safe"), HIDDEN)
        said = self.fails("wifi", "push", HIDDEN, "--yes", "--no-verify")
        self.assertIn("holds 12 entries on 2.4 GHz, 13 are needed, 12 of them not yours", said)
        self.assertTrue(self.station("safe").is_connected())
        self.push("--drop-foreign", ssid=HIDDEN)
        wait_for("the safe is off the air", lambda: not self.station("safe").is_connected())
