"""Access points and stations on real 802.11 stacks: radios of the kernel's simulation, hostapd, and wpa_supplicant.

The machine's home namespace is the first access point: its cable, its bridge, a radio for each band, an SSH server. The
others have namespaces of their own, and their cables lead into the first one's bridge: the second, and two that ask by
RADIUS whether a station may associate. Each station has a namespace and a radio.
"""

from __future__ import annotations

import itertools
import re
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from tests.air.machine import KERNEL, Ended, Machine
from tests.lab import services
from tests.lab.lab import Lab

SSID, HIDDEN = "Kilnhaven", "Kilnhaven office"
PASSPHRASE = "made-up words"
FIRST, SECOND = "192.0.2.2", "192.0.2.3"  # the access points
CAFE, SHARED = "Kilnhaven café", "made-up secret of the café"  # the network of those that ask, and the RADIUS secret
ASKING = {"counter": ("192.0.2.4", 2462), "terrace": ("192.0.2.5", 5200)}  # the ones that ask: address and MHz
COUNTRY = "DE"
STANDBY = "192.0.2.20"  # the second server that they ask
# All is slow in there, and slower beside other tests.
wait_for = partial(services.wait_for, within_s=90.0)
BUSYBOX = str(KERNEL / "bin/busybox")
_FREQUENCIES = {"2.4": 2412, "5": 5180, "6": 5975}  # MHz: of the first access point
_SECOND = 2437
_BAND = {
    2412: "hw_mode=g\nchannel=1\nieee80211n=1\n",
    2437: "hw_mode=g\nchannel=6\nieee80211n=1\n",
    2462: "hw_mode=g\nchannel=11\nieee80211n=1\n",
    5200: "hw_mode=a\nchannel=40\nieee80211n=1\n",
    5180: "hw_mode=a\nchannel=36\nieee80211n=1\n",
    5975: "hw_mode=a\nchannel=5\nop_class=131\nieee80211ax=1\n",
}
_BOTH = "wpa_key_mgmt=WPA-PSK SAE\nieee80211w=1\nsae_require_mfp=1\n"  # WPA2 beside WPA3, as access points come
_WPA3 = "wpa_key_mgmt=SAE\nieee80211w=2\nsae_pwe=1\n"  # frame protection is required
_WITH_LOG = ("-d", "-f", "/var/log/messages")  # of the second: it tells all that happens
_FILES = (
    "ctrl_interface=/run/{name}\naccept_mac_file=/etc/{name}/{interface}.accept\n"
    "deny_mac_file=/etc/{name}/{interface}.deny\n"
)


@dataclass(frozen=True)
class Bss:
    """A network on a radio of an access point."""

    interface: str
    ssid: str
    mhz: int
    security: str
    more: str = ""

    def text(self, point: str) -> str:
        """The lines of hostapd's configuration after ``interface`` or ``bss``."""
        return (
            f"bridge=br0\nssid={self.ssid}\n{_FILES.format(name=point, interface=self.interface)}auth_algs=1\nwpa=2\n"
            f"rsn_pairwise=CCMP\nwpa_passphrase={PASSPHRASE}\n{self.security}{self.more}"
        )


class AccessPoint:
    """A running access point."""

    def __init__(
        self, machine: Machine, name: str, address: str, at: str, networks: Sequence[Bss], flags: Sequence[str] = ()
    ) -> None:
        self._machine, self.name, self.address, self.at = machine, name, address, at
        self.networks, self.flags = networks, flags
        self.hostapd = 0
        self._paths: Sequence[str] = ()

    def configuration(self) -> list[str]:
        """Write the configuration, a file a radio. Their paths."""
        paths = []
        for radio in dict.fromkeys(each.interface.partition("_")[0] for each in self.networks):
            own = [each for each in self.networks if each.interface.partition("_")[0] == radio]
            first = own[0]
            text = (
                f"driver=nl80211\ncountry_code={COUNTRY}\n{_BAND[first.mhz]}interface={radio}\n{first.text(self.name)}"
            )
            text += "".join(f"bss={each.interface}\n{each.text(self.name)}" for each in own[1:])
            paths.append(f"/etc/{self.name}/{radio}.conf")
            self._machine.write(paths[-1], text)
            for each in own:
                for which in ("accept", "deny"):
                    self._machine.write(f"/etc/{self.name}/{each.interface}.{which}", "")
        return paths

    def restart(self) -> None:
        """End the daemon, and start it again with the files that it has."""
        self._machine.end(self.hostapd)
        self.start(self._paths)

    def reload(self) -> None:
        """Let the daemon read its files again."""
        self._machine.do(f"kill -HUP {self.hostapd}")  # ip-netns(8) has become the daemon

    def start(self, paths: Sequence[str]) -> None:
        """Start the daemon, and wait until all its networks are on the air."""
        self._paths = paths
        command = ["hostapd", *self.flags, *paths]
        self.hostapd = self._machine.start(command, f"/tmp/{self.name}.log", at=self.at)
        wait_for(f"{self.name} is on the air", lambda: all(self.is_up(each) for each in self.networks))

    def is_up(self, each: Bss) -> bool:
        """Whether a network is on the air."""
        return "state=ENABLED" in self.ask(each.interface, "STATUS")

    def has(self, mac: str) -> bool:
        """Whether a station is associated, as the daemon knows it."""
        return any("[ASSOC]" in self.ask(each.interface, f"STA {mac}") for each in self.networks)

    def ask(self, interface: str, command: str) -> str:
        """Ask the daemon."""
        return self._machine.control(f"/run/{self.name}/{interface}", command)


def network(
    ssid: str = SSID,
    *,
    security: str = "WPA-PSK",
    mhz: Sequence[int] = (2412, 5180),
    protected: int | None = None,
    more: str = "",
) -> str:
    """The network block of a station's configuration; it looks on these frequencies only, which is quick.

    ``protected``: whether it protects management frames (802.11w): 0 no, 1 if the access point does, 2 always.
    """
    if protected is None:
        protected = 2 if security == "SAE" else 1
    frequencies = " ".join(map(str, mhz))
    return (
        f'ssid="{ssid}"\npsk="{PASSPHRASE}"\nkey_mgmt={security}\nieee80211w={protected}\n'
        f"scan_freq={frequencies}\nfreq_list={frequencies}\n{more}"
    )


class Beat:
    """A host of the machine that asks another for an echo ten times a second."""

    def __init__(self, machine: Machine, at: str, to: str, count: int = 600) -> None:
        self._machine, self._at, self._log = machine, at, f"/tmp/{at}.beat"
        machine.write(self._log, "")
        command = [BUSYBOX, "ping", "-i", "0.1", "-c", str(count), to]
        self._process = machine.start(command, self._log, at=at)

    def end(self) -> float:
        """The longest gap between two answers, in seconds."""
        self._machine.end(self._process, "SIGINT")
        told = self._machine.read(self._log)
        numbers = [int(each) for each in re.findall(r"seq=(\d+)", told)]
        if len(numbers) < 2:
            raise AssertionError(f"{self._at} had no answers: {told}")
        return max(after - before for before, after in itertools.pairwise(numbers)) / 10


class Station:
    """A station in a namespace of its own."""

    def __init__(self, machine: Machine, name: str, interface: str, address: str) -> None:
        self._machine, self.name, self.interface, self.address = machine, name, interface, address
        self.supplicant = 0

    def join(self, network: str, *, more: str = "", wait: bool = True) -> None:
        """Start the supplicant with one network block."""
        path = f"/etc/stations/{self.name}.conf"
        self._machine.write(path, f"ctrl_interface=/run/stations/{self.name}\n{more}network={{\n{network}\n}}\n")
        self._start()
        if wait:
            self.wait()

    def switch_off_and_on(self) -> None:
        """Start its supplicant anew, as when a person switches a telephone's Wi-Fi off and on."""
        self._machine.end(self.supplicant)
        self._start()
        self.wait()

    def _start(self) -> None:
        path = f"/etc/stations/{self.name}.conf"
        command = ["wpa_supplicant", "-t", "-D", "nl80211", "-i", self.interface, "-c", path]
        self.supplicant = self._machine.start(command, f"/tmp/{self.name}.log", at=self.name)

    def wait(self) -> None:
        """Wait until it is associated."""
        try:
            wait_for(f"{self.name} is associated", self.is_connected)
        except AssertionError as error:
            raise AssertionError(f"{error}\n{self.status()}\n{self.log()[-2000:]}") from None

    def is_connected(self) -> bool:
        """Whether it is associated and may send: by the last word of its log.

        Its state is no help: where all is slow, a message that was sent twice leaves it in the handshake.
        """
        words = re.findall(r"CTRL-EVENT-(CONNECTED|DISCONNECTED)", self.log())
        return words[-1:] == ["CONNECTED"]

    def status(self) -> dict[str, str]:
        """What its supplicant says."""
        return dict(line.split("=", 1) for line in self.ask("STATUS").splitlines() if "=" in line)

    def ask(self, command: str) -> str:
        """Ask its supplicant."""
        return self._machine.control(f"/run/stations/{self.name}/{self.interface}", command)

    @property
    def mac(self) -> str:
        """Its address on the air now."""
        return self.status()["address"]

    def run(self, *command: str) -> Ended:
        """Run a program there."""
        return self._machine.run(command, at=self.name)

    def again(self) -> None:
        """Look for its network at once, as if nothing had been refused before."""
        for command in ("BSSID_IGNORE clear", "DISABLE_NETWORK 0", "ENABLE_NETWORK 0", "REASSOCIATE"):
            self.ask(command)

    def be(self, mac: str, mhz: Sequence[int]) -> None:
        """Come back under another address, on other frequencies."""
        self.look_on(mhz)
        self.ask("DISCONNECT")
        link = f"ip link set {self.interface}"
        self._machine.do(f"{link} down", f"{link} address {mac}", f"{link} up", at=self.name)
        wait_for("its address", lambda: self.mac == mac)
        self.again()
        wait_for(f"{self.name} is there", lambda: self.status().get("freq", "") in map(str, mhz))
        self.wait()

    def look_on(self, mhz: Sequence[int]) -> None:
        """Join on these frequencies only from now on."""
        for key in ("scan_freq", "freq_list"):
            self.ask(f"SET_NETWORK 0 {key} {' '.join(map(str, mhz))}")

    def go_to(self, mhz: int) -> None:
        """Be on this frequency only from now on."""
        self.look_on((mhz,))
        self.again()
        wait_for(f"{self.name} is on {mhz} MHz", lambda: self.status().get("freq") == str(mhz) and self.is_connected())

    def log(self) -> str:
        """What its supplicant wrote."""
        return self._machine.read(f"/tmp/{self.name}.log")


def _behind(name: str, address: str, number: int) -> list[str]:
    """The commands that make a namespace for an access point with a radio, its cable in the first one's bridge."""
    return [
        f"ip netns add {name}",
        f"ip link add to{name} type veth peer name eth0 netns {name}",
        f"ip link set to{name} master br0 up",
        f"iw phy $(cat /sys/class/net/wlan{number}/phy80211/name) set netns name {name}",
        f"ip -n {name} link set lo up",
        f"ip -n {name} link add br0 type bridge forward_delay 0",
        f"ip -n {name} link set eth0 master br0 up",
        f"ip -n {name} addr add {address}/24 dev br0",
        f"ip -n {name} link set br0 up",
    ]


def _asks(name: str, address: str) -> str:
    """The lines by which hostapd asks the desk of the lab about each station, and the host ``standby`` after it."""
    servers = "".join(
        f"{kind}_server_addr={server}\n{kind}_server_port={port}\n{kind}_server_shared_secret={SHARED}\n"
        for kind, port in (("auth", 1812), ("acct", 1813))
        for server in (Lab.desk_address, STANDBY)
    )
    orders = "".join(f"radius_das_client={server} {SHARED}\n" for server in (Lab.desk_address,))
    return (
        f"macaddr_acl=2\nown_ip_addr={address}\nnas_identifier={name}.kilnhaven.example\n{servers}"
        f"radius_das_port=3799\n{orders}"
    )


class Air:
    """All of it."""

    def __init__(self, machine: Machine, stations: Sequence[str], *, bands: Sequence[str] = ("2.4", "5")) -> None:
        self.machine = machine
        second = len(bands)
        radios = second + 1 + len(ASKING) + len(stations)
        made = machine.run(["modprobe", "mac80211_hwsim", f"radios={radios}"], within_s=120)  # two seconds for each
        assert made.code == 0, made.errors
        machine.do(
            f"iw reg set {COUNTRY}",
            "ip link add br0 type bridge forward_delay 0",
            "ip link set eth0 master br0 up",
            f"ip addr add {FIRST}/24 dev br0",
            "ip link set br0 up",
            *_behind("ap2", SECOND, second),
        )
        networks = [
            Bss(f"wlan{number}", SSID, _FREQUENCIES[band], _WPA3 if band == "6" else _BOTH)
            for number, band in enumerate(bands)
        ]
        networks.append(Bss("wlan0_1", HIDDEN, _FREQUENCIES["2.4"], _WPA3, "ignore_broadcast_ssid=1\n"))
        self.first = AccessPoint(machine, "ap1", FIRST, "", networks)
        self.second = AccessPoint(
            machine, "ap2", SECOND, "ap2", [Bss(f"wlan{second}", SSID, _SECOND, _BOTH)], _WITH_LOG
        )
        self.asking: dict[str, AccessPoint] = {}
        for number, (name, (address, mhz)) in enumerate(ASKING.items(), second + 1):
            machine.do(*_behind(name, address, number))
            bss = Bss(f"wlan{number}", CAFE, mhz, _BOTH, _asks(name, address))
            self.asking[name] = AccessPoint(machine, name, address, name, [bss])
        self.stations: dict[str, Station] = {}
        lines = ["mkdir -p /run/stations"]
        for number, name in enumerate(stations, second + 1 + len(ASKING)):
            address = f"192.0.2.{50 + len(self.stations)}"
            lines += [
                f"ip netns add {name}",
                f"iw phy $(cat /sys/class/net/wlan{number}/phy80211/name) set netns name {name}",
                f"ip -n {name} addr add {address}/24 dev wlan{number}",
                f"ip -n {name} link set lo up",
            ]
            self.stations[name] = Station(machine, name, f"wlan{number}", address)
        machine.do(*lines)

    def seat(self, lab: Lab, name: str) -> None:
        """Make a namespace ``seat`` of the lab whose only way out is a station's radio.

        The station translates its addresses, so that on the air there is nothing but the station.
        """
        lab.add_namespace("seat")
        lab.run("switch", ["ip", "link", "set", "seat", "netns", lab.namespace("seat")])
        for line in (
            "addr add 198.51.100.1/30 dev seat",
            "link set lo up",
            "link set seat up",
            "route add default via 198.51.100.2",
        ):
            lab.run("seat", ["ip", *line.split()])
        self.machine.do(
            f"ip link set eth1 netns {name}",
            f"ip -n {name} addr add 198.51.100.2/30 dev eth1",
            f"ip -n {name} link set eth1 up",
            f"ip netns exec {name} sysctl -qw net.ipv4.ip_forward=1",
            f"ip netns exec {name} nft 'add table ip seat; add chain ip seat out "
            "{ type nat hook postrouting priority 100; }; "
            f"add rule ip seat out oifname {self.stations[name].interface} masquerade'",
        )

    def ssh_servers(self, folder: Path) -> None:
        """An SSH server on each access point, for root with ``folder/key``; ``folder/known_hosts`` knows them."""
        folder.mkdir(mode=0o700, exist_ok=True)
        for name in ("host", "key"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True)
        host = (folder / "host.pub").read_text()
        (folder / "known_hosts").write_text(f"{FIRST} {host}{SECOND} {host}", encoding="ascii")
        self.machine.write("/etc/air/host", (folder / "host").read_text(), 0o600)
        self.machine.write("/etc/air/authorized", (folder / "key.pub").read_text())
        self.machine.write(
            "/etc/air/sshd_config",
            "HostKey /etc/air/host\nAuthorizedKeysFile /etc/air/authorized\nStrictModes no\nUsePAM no\nUseDNS no\n"
            "PermitRootLogin prohibit-password\nPasswordAuthentication no\nPidFile none\n",
        )
        for point in (self.first, self.second):
            command = ["/usr/sbin/sshd", "-D", "-e", "-f", "/etc/air/sshd_config"]
            self.machine.start(command, f"/tmp/{point.name}-sshd.log", at=point.at)
