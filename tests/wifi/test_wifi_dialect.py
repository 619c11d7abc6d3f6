"""The made-up access point answers as the real daemon does, and refuses as one; it has room for twelve."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import UTC, datetime

from scopion.attachment.ports import Shell
from scopion.model.mac import MacAddress
from scopion.model.week import Week
from scopion.scenes.access_point import SceneControlLine
from scopion.scenes.attachment import SceneAttachment
from scopion.scenes.scene import Period, load_scene
from tests import dialect

MORNING = datetime(2026, 9, 14, 10, tzinfo=UTC)
SOCKET = "/run/hostapd/wlan1"


class SceneDialect(dialect.Dialect):
    def setUp(self) -> None:
        scene = load_scene("kilnhaven")
        self.attachment = SceneAttachment(scene, MORNING)
        self.line = self.attachment.open_control(SOCKET)
        # On this radio one station only, so that it is the one that is spoken of.
        point = self.attachment._access_point
        assert point is not None
        self.point = point
        self.door = next(host for host in scene.hosts if host.mac == dialect.STATION)
        point.look_after(())

    def shell(self) -> Shell:
        return self.attachment.open_shell()

    def associate(self) -> None:
        self.point.look_after((self.door,))

    def test_it_has_room_for_twelve(self) -> None:
        """The thirteenth entry is refused, on both lists together."""
        for number in range(12):
            which = "ACCEPT" if number % 2 else "DENY"
            self.assertEqual(
                self.line.ask(f"{which}_ACL ADD_MAC {MacAddress(bytes([16, 0, 0, 0, 0, number]))}"), "OK\n"
            )
        self.assertEqual(self.line.ask("DENY_ACL ADD_MAC 10:00:00:00:00:ff"), "FAIL\n")
        self.assertEqual(self.line.ask("DENY_ACL ADD_MAC 10:00:00:00:00:00"), "OK\n")

    def test_who_is_refused_on_one_radio_takes_the_other(self) -> None:
        """And is nowhere once both refuse it; a foreign accept entry admits it all the same."""
        self.associate()
        other = self.attachment.open_control("/run/hostapd/wlan0")
        self.assertTrue(self.point.admits(self.door))
        self.line.ask(f"DENY_ACL ADD_MAC {self.door.mac}")
        self.assertEqual(self.stations(), [])
        self.assertIn(str(self.door.mac), other.ask("STA-FIRST"))
        other.ask(f"DENY_ACL ADD_MAC {self.door.mac}")
        self.assertFalse(self.point.admits(self.door))
        self.line.ask(f"ACCEPT_ACL ADD_MAC {self.door.mac}")
        self.assertTrue(self.point.admits(self.door))

    def test_a_station_is_there_since_its_hours_began(self) -> None:
        """Not since a later window of the day, nor since midnight where a window goes over it."""
        for octet, (hours, connected_h) in enumerate(
            {
                "mon-fri 08:00-12:00, mon-fri 14:00-18:00": 2,
                "mon-sun 22:00-11:00": 12,
                "mon-sun 00:00-24:00": 34,  # since every third midnight
            }.items()
        ):
            mac = MacAddress(bytes([16, 0, 0, 0, 1, octet]))
            period = Period(self.door.periods[0].address, week=Week.parse(hours))
            self.point.look_after((replace(self.door, mac=mac, periods=(period,)),))
            with self.subTest(hours):
                self.assertIn(f"connected_time={connected_h * 3600}\n", self.line.ask(f"STA {mac}"))

    def test_the_line_is_a_control_line(self) -> None:
        """It is what the port promises."""
        self.assertIsInstance(self.line, SceneControlLine)


if __name__ == "__main__":
    unittest.main()
