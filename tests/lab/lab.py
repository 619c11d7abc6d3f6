"""Builds a segment of real kernel hosts: a bridge in one namespace, each host in its own, joined by veth pairs.

Nothing here touches the machine's own network: every interface is made inside a namespace of ours, and all of them
are deleted at the end. Names begin with ``scl<pid>`` so that two runs do not meet.
"""

from __future__ import annotations

import ctypes
import json
import os
import shutil
import signal
import subprocess
import sys
import traceback
import unittest
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

PROGRAM = str(Path(sys.executable).with_name("scopion"))
DROP_CAPABILITIES = ("setpriv", "--bounding-set=-all", "--inh-caps=-all")
NO_IPV6 = [f"net.ipv6.conf.{each}.disable_ipv6=1" for each in ("all", "default")]
_CLONE_NEWNET = 0x40000000
_FORWARDING = "3"  # the state of a bridge's port (linux/if_bridge.h)
_PATH = f"{os.environ.get('PATH', os.defpath)}:/usr/sbin:/sbin"  # daemons live there


def require_lab() -> None:
    """Skip where the lab cannot run; fail instead where a skip would hide something."""
    require_tools("ip", "nft", "setpriv")


def require_tools(*tools: str) -> None:
    """The same for some programs."""
    missing = [tool for tool in tools if shutil.which(tool, path=_PATH) is None]
    if sys.platform != "linux":
        reason = f"the lab needs Linux, this is {sys.platform}"
    elif os.geteuid() != 0:
        reason = "the lab needs root: it makes network namespaces"
    elif missing:
        reason = f"the lab needs {', '.join(missing)}: make test as root installs them on Debian"
    else:
        return
    if os.environ.get("CI"):
        raise AssertionError(f"{reason}; in CI the lab may not be skipped")
    raise unittest.SkipTest(reason)


@dataclass(frozen=True)
class LabHost:
    """A kernel host: its MAC address and where it is."""

    name: str
    mac: str
    addresses: tuple[str, ...]
    ipv6: bool = True  # its kernel speaks by itself as soon as it is plugged in


class Lab:
    """A segment 192.0.2.0/24 with a desk, where the program runs, and hosts."""

    desk_mac = "60:f2:a7:10:00:0a"
    desk_address = "192.0.2.10"

    def __init__(self, hosts: Sequence[LabHost], gateway: str | None = "192.0.2.1") -> None:
        self._tag = f"scl{os.getpid()}"
        self.hosts = list(hosts)
        self._made: list[str] = []
        self._ports = 0
        self._port_of: dict[str, str] = {}
        try:
            self.add_namespace("switch")
            # A switch is no host: it has no address of its own, in IPv6 neither.
            self.run("switch", ["sysctl", "-qw", *NO_IPV6])
            self._in("switch", "link add bridge type bridge forward_delay 0\nlink set bridge up")
            self._plug("desk", self.desk_mac, [self.desk_address])
            if gateway:
                self._in("desk", f"route add default via {gateway}")
            for host in hosts:
                self.join(host)
        except BaseException:
            self.close()
            raise

    def namespace(self, name: str) -> str:
        """The system's name of a namespace of this lab."""
        return f"{self._tag}-{name}"

    def join(self, host: LabHost) -> None:
        """Plug a host in."""
        self._plug(host.name, host.mac, host.addresses, ipv6=host.ipv6)

    def forwards(self, name: str) -> bool:
        """Whether the switch forwards what a host sends: it takes up to a second over a new port."""
        return self.run("switch", ["cat", f"/sys/class/net/{self._port_of[name]}/brport/state"]).strip() == _FORWARDING

    def addresses(self, name: str) -> list[str]:
        """The IPv4 addresses that a host has now."""
        told = json.loads(self.run(name, ["ip", "-j", "-4", "addr", "show", "dev", "eth0"]))
        return [each["local"] for each in told[0]["addr_info"]]

    def leave(self, name: str) -> None:
        """Pull a host's plug: its interface goes at once, its namespace when the kernel finds the time."""
        self._in("switch", f"link del {self._port_of.pop(name)}")
        _run(["ip", "netns", "del", self.namespace(name)])
        self._made.remove(self.namespace(name))

    def lose(self, name: str, percent: int, *, outgoing: bool = False) -> None:
        """Let a host's kernel drop so many of a hundred ARP frames, by chance (nftables' random numbers)."""
        rules = "table arp lossy {\n"
        for hook in ("input", "output") if outgoing else ("input",):
            rules += f"chain {hook} {{ type filter hook {hook} priority 0; numgen random mod 100 < {percent} drop; }}\n"
        self.run(name, ["nft", "-f", "-"], stdin=rules + "}\n")

    def every_third(self, name: str, address: str) -> None:
        """Let a host's kernel hear one of three ARP frames that ask for its address (nftables counts them)."""
        rule = f"arp operation request arp daddr ip {address} numgen inc mod 3 != 2 drop;"
        chain = f"chain input {{ type filter hook input priority 0; {rule} }}\n"
        self.run(name, ["nft", "-f", "-"], stdin=f"table arp deaf {{\n{chain}}}\n")

    def run(self, name: str, command: Sequence[str], stdin: str = "", check: bool = True, within_s: float = 30) -> str:
        """Run a command in a namespace; its standard output."""
        return _run(["ip", "netns", "exec", self.namespace(name), *command], stdin, check, within_s)

    def scopion(
        self,
        arguments: Sequence[str],
        site: Path,
        *,
        privileged: bool = True,
        **environment: str,
    ) -> subprocess.CompletedProcess[str]:
        """Run the installed program at the desk."""
        return subprocess.run(
            self.command(arguments, privileged=privileged),
            env={**os.environ, "SCOPION_SITE": str(site), "SCOPION_LIVE": "namespaces", **environment},
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )

    def begin(
        self, arguments: Sequence[str], site: Path, *, privileged: bool = True, at: str = "desk"
    ) -> subprocess.Popen[str]:
        """Start the installed program, at the desk if no other place is said, and go on."""
        return subprocess.Popen(
            self.command(arguments, privileged=privileged, at=at),
            env={**os.environ, "SCOPION_SITE": str(site), "SCOPION_LIVE": "namespaces"},
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )

    def command(self, arguments: Sequence[str], *, privileged: bool = True, at: str = "desk") -> list[str]:
        """The command line that runs the program in a namespace."""
        drop = () if privileged else DROP_CAPABILITIES
        return ["ip", "netns", "exec", self.namespace(at), *drop, PROGRAM, *arguments]

    def scan(self, site: Path, *arguments: str, privileged: bool = True) -> dict[str, Any]:
        """Scan at the desk; the JSON document. Fails the test that calls it if the program fails."""
        ended = self.scopion(["scan", "--format", "json", *arguments], site, privileged=privileged)
        if ended.returncode != 0:
            raise AssertionError(f"scan ended with {ended.returncode}: {ended.stderr}")
        document: dict[str, Any] = json.loads(ended.stdout)
        return document

    @contextmanager
    def inside(self, name: str) -> Iterator[None]:
        """Let this very thread work in a namespace: what it opens there belongs there."""
        libc = ctypes.CDLL(None, use_errno=True)
        with (
            Path("/proc/self/ns/net").open() as home,
            Path(f"/run/netns/{self.namespace(name)}").open() as other,
        ):
            if libc.setns(other.fileno(), _CLONE_NEWNET) != 0:
                raise OSError(ctypes.get_errno(), "setns")
            try:
                yield
            finally:
                libc.setns(home.fileno(), _CLONE_NEWNET)

    def forked(self, host: str, work: Callable[[], object]) -> int:
        """Do something in a process of its own in a host's namespace, as if it had been started there; its number."""
        with self.inside(host):
            child = os.fork()
            if child == 0:
                try:
                    work()
                except BaseException:
                    traceback.print_exc()
                finally:
                    os._exit(1)
        return child

    def close(self) -> None:
        """Delete everything that was made."""
        for name in reversed(self._made):
            _run(["ip", "netns", "del", name], check=False)
        self._made.clear()

    def add_namespace(self, name: str) -> None:
        """A namespace that is deleted with the lab."""
        _run(["ip", "netns", "add", self.namespace(name)])
        self._made.append(self.namespace(name))

    def connect(self, name: str, interface: str, mac: str, to: str, address: str) -> None:
        """Plug a second adapter of a host into another switch."""
        self._ports += 1
        port = f"port{self._ports}"
        _run(
            f"ip link add {port} netns {self.namespace(to)} type veth "
            f"peer name {interface} address {mac} netns {self.namespace(name)}".split()
        )
        self._in(to, f"link set {port} master bridge\nlink set {port} up")
        self._in(name, f"addr add {address} dev {interface}\nlink set {interface} up")

    def second_switch(self, name: str) -> None:
        """Another segment."""
        self.add_namespace(name)
        self.run(name, ["sysctl", "-qw", *NO_IPV6])
        self._in(name, "link add bridge type bridge forward_delay 0\nlink set bridge up")

    def host_on(self, switch: str, host: LabHost, gateway: str) -> None:
        """A host on another segment, with a router."""
        self.add_namespace(host.name)
        if not host.ipv6:
            self.run(host.name, ["sysctl", "-qw", *NO_IPV6])
        self.connect(host.name, "eth0", host.mac, switch, f"{host.addresses[0]}/24")
        self._in(host.name, f"link set lo up\nroute add default via {gateway}")

    def _plug(self, name: str, mac: str, addresses: Sequence[str], *, ipv6: bool = True) -> None:
        self.add_namespace(name)
        if not ipv6:
            self.run(name, ["sysctl", "-qw", *NO_IPV6])
        # Ready for use at once: no other host in a lab makes up the same IPv6 address.
        self.run(name, ["sysctl", "-qw", "net.ipv6.conf.default.accept_dad=0"])
        self._ports += 1
        port = self._port_of[name] = f"port{self._ports}"
        _run(
            f"ip link add {port} netns {self.namespace('switch')} type veth "
            f"peer name eth0 address {mac} netns {self.namespace(name)}".split()
        )
        self._in("switch", f"link set {port} master bridge\nlink set {port} up")
        given = "\n".join(f"addr add {address}/24 dev eth0" for address in addresses)
        self._in(name, f"link set lo up\n{given}\nlink set eth0 up")

    def add_own_interface(self, name: str, mac: str, address: str) -> None:
        """One more virtual interface of the desk in the same segment, as a container's bridge has them."""
        self._ports += 1
        port = f"port{self._ports}"
        _run(
            f"ip link add {port} netns {self.namespace('switch')} type veth "
            f"peer name {name} address {mac} netns {self.namespace('desk')}".split()
        )
        self._in("switch", f"link set {port} master bridge\nlink set {port} up")
        self._in("desk", f"addr add {address}/24 dev {name}\nlink set {name} up")

    def _in(self, name: str, batch: str) -> None:
        _run(["ip", "-n", self.namespace(name), "-batch", "-"], batch + "\n")


def kill(child: int) -> None:
    """End a process of ours with SIGKILL. Raises AssertionError if it had ended before, by itself."""
    os.kill(child, signal.SIGKILL)
    status = os.waitpid(child, 0)[1]
    if status != signal.SIGKILL:
        raise AssertionError(f"process {child} had ended before it was killed: {status}")


def _run(command: Sequence[str], stdin: str = "", check: bool = True, within_s: float = 30) -> str:
    ended = subprocess.run(command, input=stdin, capture_output=True, text=True, timeout=within_s, check=False)
    if check and ended.returncode != 0:
        raise RuntimeError(f"{' '.join(command)}: {ended.stderr.strip()}")
    return ended.stdout
