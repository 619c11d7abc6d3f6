"""What an access point daemon answers on its control socket: one script for the real daemon and for the made-up one.

A subclass gives a line to one radio, and lets a station associate.
"""

from __future__ import annotations

import unittest
from abc import abstractmethod

from scopion.attachment.ports import ControlLine, Shell
from scopion.model.mac import MacAddress
from scopion.wireless.enforcer_settings import HostapdRadio, HostapdSettings
from scopion.wireless.enforcers.enforcer import RadioReading, Station, whole
from scopion.wireless.enforcers.hostapd import Hostapd

STATION = MacAddress.parse("7c:a4:b1:33:02:61")
OTHER = MacAddress.parse("a0:b4:d7:66:19:04")
# Each command with the daemon's reply, in this order, from empty lists.
SCRIPT = (
    ("PING", "PONG\n"),
    ("ACCEPT_ACL SHOW", ""),
    ("DENY_ACL SHOW", ""),
    (f"DENY_ACL ADD_MAC {OTHER}", "OK\n"),
    (f"DENY_ACL ADD_MAC {OTHER}", "OK\n"),
    (f"DENY_ACL ADD_MAC {STATION}", "OK\n"),
    ("DENY_ACL SHOW", f"{STATION} VLAN_ID=0\n{OTHER} VLAN_ID=0\n"),
    ("DENY_ACL ADD_MAC nonsense", "FAIL\n"),
    ("DENY_ACL DEL_MAC 02:00:00:00:00:99", "OK\n"),
    (f"DENY_ACL DEL_MAC {STATION}", "OK\n"),
    ("DENY_ACL SHOW", f"{OTHER} VLAN_ID=0\n"),
    ("DENY_ACL CLEAR", "OK\n"),
    ("DENY_ACL SHOW", ""),
    (f"ACCEPT_ACL ADD_MAC {STATION}", "OK\n"),
    ("ACCEPT_ACL SHOW", f"{STATION} VLAN_ID=0\n"),
    ("ACCEPT_ACL CLEAR", "OK\n"),
    ("SET macaddr_acl 1", "OK\n"),
    ("GET macaddr_acl", "FAIL\n"),  # the mode cannot be read back
    ("SET macaddr_acl 7", "FAIL\n"),
    ("SET macaddr_acl 0", "OK\n"),
    ("DEAUTHENTICATE 02:00:00:00:00:99", "OK\n"),
    ("STA-NEXT nonsense", "FAIL\n"),
    ("NONSENSE", "UNKNOWN COMMAND\n"),
)


class Dialect(unittest.TestCase):
    """The promises of the daemon on which ``enforcers.hostapd`` relies."""

    line: ControlLine
    socket = "/run/hostapd/wlan1"

    @abstractmethod
    def shell(self) -> Shell:
        """Return what reaches the daemon: this machine's, or another's over SSH."""

    @abstractmethod
    def associate(self) -> None:
        """Let STATION associate."""

    def enforcer(self, radio: str = "5") -> Hostapd:
        settings = HostapdSettings(
            type="hostapd", name="ap", network="Kilnhaven", radio={"5": HostapdRadio(socket=self.socket)}
        )
        return Hostapd(settings, self.shell)

    def reading(self) -> RadioReading:
        return whole(self.enforcer().read())["5"]

    def stations(self) -> list[Station]:
        return list(self.reading().stations)

    def test_the_script(self) -> None:
        """Every reply is as it was written down."""
        for command, reply in SCRIPT:
            self.assertEqual(self.line.ask(command), reply, command)

    def test_the_network_is_told(self) -> None:
        """State and SSID of the BSS; a network that is not meant is refused."""
        self.assertEqual(self.reading().radio, "5")
        self.assertIn("state=ENABLED\n", self.line.ask("STATUS"))
        self.assertEqual(self.enforcer().configuration("5")["ssid"], "Kilnhaven")

    def test_denying_disconnects_at_once(self) -> None:
        """A station is there with its rights, and is not once it is on the deny list; nor if it is told to go."""
        self.associate()
        (station,) = self.stations()
        self.assertEqual((station.mac, station.authorized), (STATION, True))
        self.assertEqual(self.line.ask(f"DENY_ACL ADD_MAC {STATION}"), "OK\n")
        self.assertEqual(self.stations(), [])
        self.line.ask("DENY_ACL CLEAR")

    def test_who_is_associated_is_not_judged_again(self) -> None:
        """A denied station that the accept list admitted stays when it leaves that, until it is told to go."""
        self.line.ask(f"ACCEPT_ACL ADD_MAC {STATION}")
        self.line.ask(f"DENY_ACL ADD_MAC {STATION}")
        self.associate()
        self.assertEqual(len(self.stations()), 1)
        self.line.ask(f"ACCEPT_ACL DEL_MAC {STATION}")
        self.assertEqual(len(self.stations()), 1)
        self.line.ask(f"DEAUTHENTICATE {STATION}")
        self.assertEqual(self.stations(), [])
        self.line.ask("DENY_ACL CLEAR")

    def test_leaving_the_accept_list_disconnects(self) -> None:
        """While only the accepted may associate, a device that is taken off is disconnected; setting the mode alone
        disconnects none.
        """
        self.associate()
        self.line.ask(f"ACCEPT_ACL ADD_MAC {STATION}")
        self.line.ask("SET macaddr_acl 1")
        self.assertEqual(len(self.stations()), 1)
        self.line.ask(f"ACCEPT_ACL DEL_MAC {STATION}")
        self.assertEqual(self.stations(), [])
        self.line.ask("SET macaddr_acl 0")
