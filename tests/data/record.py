"""Records ``tests/data/lab.pcap`` from real services in a lab: ``python -m tests.data.record FILE``, as root on Linux.

A DHCP client, a multicast DNS responder and a NetBIOS name service start on a segment, and what a bystander hears is
written down. The tests import the file everywhere, also where no lab can run.
"""

from __future__ import annotations

import socket
import sys
import tempfile
import time
import unittest
from pathlib import Path

from tests.frames import pcap
from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.services import Services

HOSTS = [
    LabHost("gateway", "0c:be:11:00:00:01", ("192.0.2.1",)),
    LabHost("printer", "24:d3:a1:20:7e:14", ("192.0.2.20",)),
    LabHost("storage", "10:c0:de:4a:11:05", ("192.0.2.5",)),
    LabHost("tablet", "7c:a4:b1:33:02:61", ()),
]
SECONDS = 12.0
_EVERYTHING = 0x0003


class Recording(unittest.TestCase):
    """Not a test: it lends its clean-up to the services."""

    def record(self) -> list[tuple[float, bytes]]:
        """What the desk hears, with the times."""
        require_lab()
        lab = Lab(HOSTS)
        self.addCleanup(lab.close)
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        services = Services(lab, Path(holder.name), self)
        heard: list[tuple[float, bytes]] = []
        with lab.inside("desk"), socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_EVERYTHING)) as link:
            link.bind(("eth0", _EVERYTHING))
            link.settimeout(0.2)
            services.dnsmasq(
                "gateway", "--interface=eth0", "--bind-interfaces", "--dhcp-authoritative",
                "--dhcp-range=192.0.2.100,192.0.2.120,1h",
            )  # fmt: skip
            services.avahi("printer", "label-printer", "_ipp._tcp")
            services.nmbd("storage", "STORAGE")
            services.dhcp_client("tablet", "door-tablet", "android-dhcp-13")
            ends = time.monotonic() + SECONDS
            while time.monotonic() < ends:
                try:
                    heard.append((time.time(), link.recv(2048)))
                except TimeoutError:
                    continue
        return heard


if __name__ == "__main__":
    recording = Recording()
    frames = recording.record()
    recording.doCleanups()
    Path(sys.argv[1]).write_bytes(pcap(frames))
    print(f"{len(frames)} frames")
