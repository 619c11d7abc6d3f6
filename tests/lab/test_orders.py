"""A sensor's hands in another place: a real firewall there, pushed to, cut off in the middle, and left to itself."""

from __future__ import annotations

import errno
import json
import os
import socket
import subprocess
import time
from contextlib import closing
from pathlib import Path
from unittest.mock import patch

from scopion.attachment.connect.mqtt_line import MqttLine
from scopion.attachment.orders import order_line
from scopion.model.errors import Divided
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.push_lists import push
from scopion.operations.wifi.send_push import PushRequest
from tests.lab.lab import LabHost
from tests.lab.places import PlacesTest
from tests.lab.services import Services, wait_for

PHONE = LabHost("phone", "6c:d1:9e:08:40:90", ("198.18.0.77",), ipv6=False)
HERE = "198.18.0.1"
SLOW_NFT = """#!/bin/sh
if [ "$2" = -f ] && [ -e {folder}/slow ]; then touch {folder}/begun; sleep 6; fi
exec {nft} "$@"
"""


class Orders(PlacesTest):
    def setUp(self) -> None:
        super().setUp()
        at = "sensor-pit"
        self.net.add_namespace("phone")
        names = [self.net.namespace(each) for each in (at, "phone")]
        pair = f"ip link add wlan0 netns {names[0]} type veth peer name eth0 address {PHONE.mac} netns {names[1]}"
        subprocess.run(pair.split(), check=True)
        for where, command in (
            (at, "ip link add kiln type bridge forward_delay 0"),
            (at, "ip link set wlan0 master kiln up"),
            (at, f"ip addr add {HERE}/24 dev kiln"),
            (at, "ip link set kiln up"),
            (at, "ip link set lo up"),
            ("phone", f"ip addr add {PHONE.addresses[0]}/24 dev eth0"),
            ("phone", "ip link set eth0 up"),
        ):
            self.net.run(where, command.split())
        with (self.site / "site.toml").open("a") as settings:
            settings.write(
                '\n[[enforcer]]\nname = "kiln"\ntype = "nftables"\nnetwork = "Clay"\nvia = "pit"\n'
                'radio = { "5" = { interface = "wlan0" } }\n'
            )
        wait_for("the phone is on", self.reaches)

    def reaches(self) -> bool:
        """Tell whether the phone gets an answer beyond the firewall."""
        with self.net.inside("phone"), socket.socket() as line:
            line.settimeout(1.0)
            return line.connect_ex((HERE, 9)) == errno.ECONNREFUSED

    def cut(self, *, up: bool = False) -> None:
        """Cut the sensor's line to the broker, or mend it."""
        self.net.run("sensor-pit", ["ip", "link", "set", "wan0", "up" if up else "down"])

    def sensor(self, hands: str = "kiln") -> None:
        """Start the sensor, with a firewall program that is slow when it is asked to be."""
        tools = self.folder / "tools"
        tools.mkdir()
        real = next(each for each in ("/usr/sbin/nft", "/sbin/nft") if Path(each).exists())
        (tools / "nft").write_text(SLOW_NFT.format(folder=self.folder, nft=real))
        (tools / "nft").chmod(0o755)
        with patch.dict(os.environ, PATH=f"{tools}:{os.environ['PATH']}"):
            self.start("pit", "sensor", "run")
        wait_for("the sensor takes orders", lambda: f"taking orders for {hands}\n" in self.log("pit"))

    def at_desk(self, *arguments: str, code: int = 0) -> str:
        """Run a command at the desk; what it said."""
        ended = self.net.scopion(arguments, self.site)
        self.assertEqual(ended.returncode, code, ended.stderr + self.log("pit"))
        return ended.stdout + ended.stderr

    def answers(self) -> bool:
        """Tell whether the sensor does what it is ordered."""
        return self.net.scopion(["wifi", "preview", "Clay"], self.site).returncode == 0

    def listed(self) -> None:
        """Put the phone on the deny list."""
        self.at_desk("wifi", "deny", "Clay", PHONE.mac)
        self.at_desk("wifi", "mode", "Clay", "deny")

    def test_from_the_sheet_to_the_way_back(self) -> None:
        """Without a key it is said what to do; then a push, read back there; what was recorded is good for nothing."""
        self.assertIn("scopion sensor orders pit", self.at_desk("wifi", "preview", "Clay", code=2))
        sheet = self.at_desk("sensor", "orders", "pit")
        self.assertIn("orders-key", sheet)
        self.sensor()
        self.listed()
        recorded: list[bytes] = []
        password = (self.site / "broker-password").read_text().strip()
        with self.net.inside("desk"):
            spy = MqttLine(
                self.broker.access("scopion", password),
                "spy",
                ["scopion/kilnhaven/orders/pit"],
                lambda arrived: recorded.append(arrived.octets),
                lambda: None,
            )
            spy.start()
        self.addCleanup(spy.stop)
        wait_for("the spy is connected", lambda: spy.connected)
        self.at_desk("wifi", "push", "Clay", "--yes", "--no-verify")
        self.assertFalse(self.reaches())
        self.at_desk("wifi", "verify", "Clay", "--no-scan")
        self.net.run("sensor-pit", ["nft", "flush", "table", "bridge", "scopion_kiln"])
        self.at_desk("wifi", "verify", "Clay", "--no-scan", code=3)
        self.at_desk("wifi", "push", "Clay", "--yes", "--no-verify")
        self.assertFalse(self.reaches())
        self.at_desk("wifi", "revert", "Clay", "--to", "1", "--yes")
        self.assertTrue(self.reaches())
        self.assertGreater(len(recorded), 4)
        self.assertFalse([each for each in recorded if PHONE.mac.encode() in each])
        for each in recorded:
            spy.publish("scopion/kilnhaven/orders/pit", each)
        spy.publish("scopion/kilnhaven/orders/pit", b'{"form":"sealed/1","sealed":"AAAA"}')
        wait_for("what nobody sealed is noticed", lambda: "hearing orders" in self.log("pit"))
        self.assertTrue(self.reaches())

    def test_over_ssh_from_there(self) -> None:
        """A router in that place, which the sensor logs in to: its file is changed in its list, and put back."""
        home, path = self.folder / "ssh", self.folder / "wireless"
        Services(self.net, self.folder, self).ssh_server("pit20", home, "192.0.2.20")
        text = (
            "config wifi-device 'radio0'\n\toption band '5g'\n\nconfig wifi-iface 'one'\n\toption device 'radio0'\n"
            "\toption ssid 'Yard'\n\toption key 'secret'\n"
        )
        path.write_text(text, encoding="ascii")
        with (self.site / "site.toml").open("a") as settings:
            settings.write(
                f'\n[[enforcer]]\nname = "router"\ntype = "uci"\nnetwork = "Yard"\nvia = "pit"\nfile = "{path}"\n'
                f'reload = ["touch", "{path}.reloaded"]\n[enforcer.ssh]\nhost = "192.0.2.20"\nkey = "{home}/key"\n'
                f'known_hosts = "{home}/known_hosts"\n'
            )
        self.at_desk("sensor", "orders", "pit")
        self.sensor("kiln and router")
        self.at_desk("wifi", "deny", "Yard", PHONE.mac)
        self.at_desk("wifi", "mode", "Yard", "deny")
        self.at_desk("wifi", "push", "Yard", "--yes", "--no-verify")
        self.assertEqual(path.read_text(), f"{text}\toption macfilter 'deny'\n\tlist maclist '{PHONE.mac}'\n")
        self.assertTrue(Path(f"{path}.reloaded").exists())
        self.at_desk("wifi", "audit", "Yard")
        self.at_desk("wifi", "revert", "Yard", "--yes")
        self.assertIn("macfilter 'disable'", path.read_text())

    def test_it_takes_back_by_itself(self) -> None:
        """The line is dead at the deadline: the sensor goes back; kept in time, it does not."""
        self.at_desk("sensor", "orders", "pit")
        self.sensor()
        self.listed()
        self.at_desk("wifi", "push", "Clay", "--yes", "--no-verify", "--revert-after", "15s")
        self.assertFalse(self.reaches())
        self.cut()
        self.assertIn("will be taken back where it is", self.at_desk("wifi", "keep", code=1))
        self.assertFalse(self.reaches())
        wait_for("it is taken back", self.reaches, 30)
        self.cut(up=True)
        wait_for("the line is back", self.answers, 60)
        late = self.net.scopion(["wifi", "keep"], self.site)  # by now it may be noted here, too
        self.assertNotEqual(late.returncode, 0, late.stderr)
        self.assertRegex(late.stderr, "has taken it back already|no push is waiting")
        self.assertTrue(self.reaches())
        self.at_desk("wifi", "push", "Clay", "--yes", "--no-verify", "--revert-after", "10s")
        self.at_desk("wifi", "keep")
        time.sleep(11)
        self.assertFalse(self.reaches())
        self.assertEqual(json.loads((self.sensing("pit") / "guards.json").read_text())["guards"], [])

    def test_the_line_dies_in_the_middle(self) -> None:
        """The push ends as one that may have come through; once there is a line it goes on."""
        self.at_desk("sensor", "orders", "pit")
        self.sensor()
        self.listed()
        (self.folder / "slow").touch()

        def pushed() -> None:
            with closing(Site(self.site)) as site, patch.multiple(order_line, _DONE_S=9.0, _WORD_S=3.0):
                try:
                    push(site, "Clay", PushRequest(insist=True))
                except Divided as error:
                    (self.folder / "said").write_text(str(error))

        child = self.net.forked("desk", pushed)
        wait_for("the firewall program has begun", (self.folder / "begun").exists, 20)
        self.cut()
        os.waitpid(child, 0)
        self.assertRegex((self.folder / "said").read_text(), "pit does not answer .*; it could not be rolled back")
        (self.folder / "slow").unlink()
        self.cut(up=True)
        self.assertFalse(self.reaches())  # it had begun, and came to its end
        wait_for("the line is back", self.answers, 60)
        self.at_desk("wifi", "push", "Clay", "--yes", "--no-verify")
        self.assertFalse(self.reaches())
