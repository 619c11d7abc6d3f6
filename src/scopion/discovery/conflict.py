"""Address conflict detection (RFC 5227, 2.1): may this address be used? A state machine without I/O or clock."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address
from random import Random

from scopion.model.mac import MacAddress
from scopion.wire.arp import REQUEST, ArpPacket

# The standard's constants (section 1.1), in seconds.
PROBE_WAIT_S, PROBES, PROBE_MIN_S, PROBE_MAX_S, ANNOUNCE_WAIT_S = 1.0, 3, 1.0, 2.0, 2.0


@dataclass(frozen=True, slots=True)
class Conflict:
    """Another host has the address, or is about to take it."""

    mac: MacAddress
    uses: bool  # False: it only probes for the address, as we do


class ConflictProbe:
    """One run of probes for one address. All times are monotonic seconds of the driver."""

    def __init__(self, address: IPv4Address, own: MacAddress, now: float, chance: Random) -> None:
        self.address = address
        self.conflict: Conflict | None = None
        self.sent = 0
        self._own = own
        self._chance = chance
        self.next_at = now + chance.uniform(0.0, PROBE_WAIT_S)

    def due(self, now: float) -> bool:
        """Tell whether a probe has to be sent now; the state then counts it as sent."""
        if self.sent >= PROBES or now < self.next_at or self.conflict is not None:
            return False
        self.sent += 1
        gap = self._chance.uniform(PROBE_MIN_S, PROBE_MAX_S)
        self.next_at = now + (gap if self.sent < PROBES else ANNOUNCE_WAIT_S)
        return True

    def heard(self, packet: ArpPacket) -> None:
        """Take in an ARP packet: any packet from the address shows a user, a probe of another host for it a rival."""
        if packet.sender_mac == self._own or packet.sender_mac.is_multicast:
            return
        if packet.sender_address == self.address:
            self.conflict = Conflict(packet.sender_mac, uses=True)
        elif (
            packet.operation == REQUEST
            and packet.target_address == self.address
            and not packet.claims_an_address
            and self.conflict is None
        ):
            self.conflict = Conflict(packet.sender_mac, uses=False)

    def done(self, now: float) -> bool:
        """Tell whether it is decided: a conflict, or silence for long enough after the last probe."""
        return self.conflict is not None or (self.sent >= PROBES and now >= self.next_at)
