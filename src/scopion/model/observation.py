"""What a source saw: this MAC used this address at this time. The only thing that folding accepts."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from ipaddress import IPv4Address

from scopion.model.mac import MacAddress


class Source(StrEnum):
    """Where an observation came from."""

    ARP = "arp"  # an answer, or another frame, on the wire
    NEIGHBOURS = "neighbours"  # the kernel's neighbour table after a touch
    OWN = "own"  # this machine's own interface


class Medium(StrEnum):
    """What an adapter is connected by."""

    WIRELESS = "wireless"
    CABLE = "cable"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Observation:
    """One fact from one source at one time (UTC)."""

    mac: MacAddress
    address: IPv4Address
    at: datetime
    source: Source
    medium: Medium = Medium.UNKNOWN
    rtt_s: float | None = None  # from the latest request to its answer; None when nothing was measured
