"""Real daemons inside a lab's namespaces, each with its own state folder, ended by the process number they were given.

Nothing here touches the machine's resolv.conf, /run or /var/lib: what a daemon insists on is mounted over, in the mount
namespace that ``ip netns exec`` makes for it.
"""

from __future__ import annotations

import subprocess
import sys
import time
import unittest
from collections.abc import Callable, Sequence
from pathlib import Path

from tests.lab.lab import Lab, require_tools
from tests.receivers import MAIL_PORT
from tests.support import ROOT

TOOLS = ("dnsmasq", "udhcpc", "avahi-daemon", "nmbd", "snmpd")


class Services:
    """Starts daemons in a lab; all are ended with the test."""

    def __init__(self, lab: Lab, folder: Path, test: unittest.TestCase | type[unittest.TestCase]) -> None:
        require_tools(*TOOLS)
        self._lab = lab
        self._folder = folder
        self._clean_up = test.addClassCleanup if isinstance(test, type) else test.addCleanup

    def start(self, host: str, command: Sequence[str], **environment: str) -> subprocess.Popen[bytes]:
        """Run a daemon in the foreground in a host's namespace."""
        log = (self._folder / f"{host}-{Path(command[0]).name}.log").open("wb")
        variables = [f"{name}={value}" for name, value in environment.items()]
        process = subprocess.Popen(
            ["ip", "netns", "exec", self._lab.namespace(host), "env", *variables, *command],
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=log,
        )
        log.close()
        self._clean_up(_end, process)
        return process

    def ssh_server(self, host: str, home: Path, address: str) -> None:
        """A server for root with a key; ``key`` and ``known_hosts`` in ``home`` are for who logs in."""
        home.mkdir(mode=0o700)
        for name in ("host", "key"):
            subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(home / name)], check=True)
        (home / "authorized").write_bytes((home / "key.pub").read_bytes())
        (home / "known_hosts").write_text(f"{address} {(home / 'host.pub').read_text()}", encoding="ascii")
        (home / "config").write_text(
            f"HostKey {home}/host\nAuthorizedKeysFile {home}/authorized\nStrictModes no\nUsePAM no\n"
            "PermitRootLogin prohibit-password\nPasswordAuthentication no\nPidFile none\n",
            encoding="ascii",
        )
        command = f"mount -t tmpfs none /run && mkdir -m 755 /run/sshd && exec /usr/sbin/sshd -D -e -f {home}/config"
        self.start(host, ["sh", "-c", command])

        def listens() -> bool:
            return ":22 " in self._lab.run(host, ["ss", "-Hlnt"])

        wait_for("the SSH server", listens)

    def mail_server(self, host: str, spool: Path, *mood: str) -> subprocess.Popen[bytes]:
        """A mail server (``tests.receivers``), a line in the spool for each mail."""
        spool.touch()
        command = [sys.executable, "-m", "tests.receivers", str(MAIL_PORT), str(spool), *mood]
        return self.start(host, command, PYTHONPATH=str(ROOT))

    def dnsmasq(self, host: str, *options: str, leases: str = "leases") -> Path:
        """A name and DHCP server; its lease file."""
        path = self._folder / leases
        # Without --no-ping it asks for three seconds whether an address is free before it offers it.
        self.start(
            host,
            [
                "dnsmasq", "--keep-in-foreground", "--conf-file=/dev/null", "--no-resolv", "--no-hosts", "--user=root",
                "--no-ping", "--pid-file=", f"--dhcp-leasefile={path}", "--log-facility=-", *options,
            ],
        )  # fmt: skip
        return path

    def dhcp_client(self, host: str, name: str, vendor_class: str) -> subprocess.Popen[bytes]:
        """A client that gives its interface the address that it is granted, and touches nothing else."""
        script = self._folder / "take-address"
        script.write_text(
            '#!/bin/sh\ncase $1 in bound|renew) ip addr replace "$ip/$mask" dev "$interface";; esac\n', encoding="ascii"
        )
        script.chmod(0o755)
        traits = ["-x", f"hostname:{name}", "-V", vendor_class]
        return self.start(host, ["udhcpc", "-f", "-i", "eth0", "-s", str(script), *traits, "-t", "20", "-T", "1"])

    def avahi(self, host: str, name: str, service: str = "") -> None:
        """A multicast DNS responder with a host name and a service type."""
        home = self._folder / f"avahi-{host}"
        (home / "services").mkdir(parents=True)
        (home / "daemon.conf").write_text(
            f"[server]\nhost-name={name}\nuse-ipv4=yes\nuse-ipv6=yes\nallow-interfaces=eth0\nenable-dbus=no\n"
            "[wide-area]\nenable-wide-area=no\n[publish]\npublish-hinfo=no\npublish-workstation=no\n",
            encoding="ascii",
        )
        if service:
            (home / "services" / "one.service").write_text(
                '<?xml version="1.0"?><!DOCTYPE service-group SYSTEM "avahi-service.dtd"><service-group>'
                f"<name>The {name}</name><service><type>{service}</type><port>631</port>"
                "<txt-record>ty=Clayfield LP-2</txt-record></service></service-group>",
                encoding="ascii",
            )
        # Its folders for services and for its process number cannot be set: they are mounted over.
        self.start(
            host,
            [
                "sh", "-c",
                "mount -t tmpfs none /run && mkdir /run/avahi-daemon && "
                f"mount --bind {home}/services /etc/avahi/services && "
                f"exec avahi-daemon -f {home}/daemon.conf --no-drop-root --no-chroot --no-rlimits",
            ],
        )  # fmt: skip

    def nmbd(self, host: str, name: str) -> None:
        """A NetBIOS name service."""
        home = self._folder / f"nmbd-{host}"
        home.mkdir()
        folders = (
            "lock directory",
            "state directory",
            "cache directory",
            "pid directory",
            "private dir",
            "ncalrpc dir",
        )
        settings = "".join(f"{key} = {home}\n" for key in folders)
        (home / "smb.conf").write_text(
            f"[global]\nnetbios name = {name}\nworkgroup = KILNS\ninterfaces = eth0\nbind interfaces only = yes\n"
            f"log file = {home}/log\ndisable netbios = no\n{settings}",
            encoding="ascii",
        )
        self.start(host, ["nmbd", "--foreground", "--no-process-group", f"--configfile={home}/smb.conf"])

    def snmpd(self, host: str, community: str, user: str, key: str, privacy: str) -> None:
        """An SNMP agent for versions 2c and 3, read only."""
        home = self._folder / f"snmpd-{host}"
        home.mkdir()
        (home / "snmpd.conf").write_text(
            f'rocommunity {community}\ncreateUser {user} SHA-256 "{key}" AES "{privacy}"\nrouser {user} priv\n',
            encoding="ascii",
        )
        self.start(
            host,
            ["snmpd", "-f", "-C", "-c", f"{home}/snmpd.conf", "-Lo", "-p", f"{home}/pid", "udp:161"],
            SNMP_PERSISTENT_DIR=str(home),
        )


def wait_for(what: str, check: Callable[[], object], within_s: float = 15.0, every_s: float = 0.2) -> None:
    """Wait until a condition holds; the lab's daemons need a moment to be ready."""
    ends = time.monotonic() + within_s
    while not check():
        if time.monotonic() > ends:
            raise AssertionError(f"{what} did not happen within {within_s:g} s")
        time.sleep(every_s)


def _end(process: subprocess.Popen[bytes]) -> None:
    """End a daemon that we have started, by its number."""
    process.terminate()
    try:
        process.wait(5)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait(5)
