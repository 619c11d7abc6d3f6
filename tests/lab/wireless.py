"""A real access point in a lab: hostapd on wired ports, a bridge with stations behind it, and an SSH server.

The radios are veth pairs: hostapd's wired driver makes a station of a sender of EAPOL-Start, which is as far as one
comes without radios. The bridge's ports are what the bridge firewall sees of a wireless interface.
"""

from __future__ import annotations

import socket
import subprocess
from pathlib import Path

from tests.lab.lab import Lab, LabHost, require_tools
from tests.lab.services import Services, wait_for

ADDRESS = "192.0.2.2"
EAPOL_START = bytes.fromhex("0180c2000003") + b"%s" + bytes.fromhex("888e01010000")


class AccessPoint:
    """Namespace ``ap`` of a lab, at 192.0.2.2: a bridge that leads to the lab's segment."""

    def __init__(self, lab: Lab, services: Services, folder: Path) -> None:
        require_tools("hostapd", "hostapd_cli", "sshd", "ssh-keygen")
        self._lab, self._services, self.folder = lab, services, folder
        self._started: tuple[list[str], tuple[str, ...]] = ([], ())
        lab.second_switch("ap")
        names = (lab.namespace("ap"), lab.namespace("switch"))
        subprocess.run(
            [
                "ip",
                "link",
                "add",
                "uplink",
                "netns",
                names[0],
                "type",
                "veth",
                "peer",
                "name",
                "toap",
                "netns",
                names[1],
            ],
            check=True,
        )
        for name, port in zip(("ap", "switch"), ("uplink", "toap"), strict=True):
            lab.run(name, ["ip", "link", "set", port, "master", "bridge", "up"])
        lab.run("ap", ["ip", "addr", "add", f"{ADDRESS}/24", "dev", "bridge"])
        lab.run("ap", ["ip", "link", "set", "lo", "up"])

    def station(self, host: LabHost, radio: str) -> None:
        """A host that is on the air: behind the bridge's port, which has the radio's name."""
        self._lab.add_namespace(host.name)
        names = (self._lab.namespace("ap"), self._lab.namespace(host.name))
        command = f"ip link add {radio} netns {names[0]} type veth peer name eth0 address {host.mac} netns {names[1]}"
        subprocess.run(command.split(), check=True)
        self._lab.run("ap", ["ip", "link", "set", radio, "master", "bridge", "up"])
        self._lab.run(host.name, ["ip", "addr", "add", f"{host.addresses[0]}/24", "dev", "eth0"])
        self._lab.run(host.name, ["ip", "link", "set", "lo", "up"])
        self._lab.run(host.name, ["ip", "link", "set", "eth0", "up"])

    def radio(self, interface: str, mac: str) -> None:
        """A port on which hostapd can listen, with somebody at its other end, in the namespace ``air-INTERFACE``."""
        self._lab.add_namespace(f"air-{interface}")
        names = (self._lab.namespace("ap"), self._lab.namespace(f"air-{interface}"))
        command = f"ip link add {interface} netns {names[0]} type veth peer name eth0 address {mac} netns {names[1]}"
        subprocess.run(command.split(), check=True)
        self._lab.run("ap", ["ip", "link", "set", interface, "up"])
        self._lab.run(f"air-{interface}", ["ip", "link", "set", "eth0", "up"])

    def hostapd(self, *interfaces: str, ssid: str = "Kilnhaven", more: str = "") -> subprocess.Popen[bytes]:
        """The daemon, with a BSS on each port; its control sockets are in ``ctrl``, its lists in files."""
        paths = []
        for interface in interfaces:
            path = self.folder / f"{interface}.conf"
            for name in ("accept", "deny"):
                (self.folder / f"{interface}.{name}").touch()
            path.write_text(
                f"interface={interface}\ndriver=wired\nctrl_interface={self.folder}/ctrl\nssid={ssid}\n"
                f"accept_mac_file={self.folder}/{interface}.accept\ndeny_mac_file={self.folder}/{interface}.deny\n{more}",
                encoding="utf-8",
            )
            paths.append(str(path))
        self._started = (["hostapd", *paths], interfaces)
        return self.hostapd_again()

    def hostapd_again(self) -> subprocess.Popen[bytes]:
        """The daemon with the settings that it had."""
        command, interfaces = self._started
        process = self._services.start("ap", command)
        wait_for("the daemon's sockets", lambda: all(self.socket(each).exists() for each in interfaces))
        return process

    def socket(self, interface: str) -> Path:
        """A control socket."""
        return self.folder / "ctrl" / interface

    def associate(self, interface: str) -> None:
        """Let who is at the other end of a port say that it wants to be a station."""
        with self._lab.inside(f"air-{interface}"), socket.socket(socket.AF_PACKET, socket.SOCK_RAW) as link:
            link.bind(("eth0", 0))
            link.send(EAPOL_START % link.getsockname()[4])

    def ssh_server(self) -> None:
        """A server for root with a key; ``key``, ``known_hosts`` are for who logs in."""
        self._services.ssh_server("ap", self.folder / "ssh", ADDRESS)
