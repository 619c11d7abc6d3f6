"""Address conflict detection (RFC 5227, 2.1): may this address be taken? A state machine without I/O or clock."""

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
    """Somebody else has the address, or is about to take it."""

    mac: MacAddress
    uses: bool  # False: it only probes for it, as we do


class ConflictProbe:
    """One run of probes for one address. All times are monotonic seconds of whoever drives it."""

    def __init__(self, address: IPv4Address, own: MacAddress, now: float, chance: Random) -> None:
        self.address = address
        self.conflict: Conflict | None = None
        self.sent = 0
        self._own = own
        self._chance = chance
        self.next_at = now + chance.uniform(0.0, PROBE_WAIT_S)

    def due(self, now: float) -> bool:
        """Whether a probe is to be sent right now; it is taken as sent."""
        if self.sent >= PROBES or now < self.next_at or self.conflict is not None:
            return False
        self.sent += 1
        gap = self._chance.uniform(PROBE_MIN_S, PROBE_MAX_S)
        self.next_at = now + (gap if self.sent < PROBES else ANNOUNCE_WAIT_S)
        return True

    def heard(self, packet: ArpPacket) -> None:
        """Any ARP packet from the address shows a user; a probe of somebody else for it, a rival."""
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
        """Whether it is decided: a conflict, or silence for long enough after the last probe."""
        return self.conflict is not None or (self.sent >= PROBES and now >= self.next_at)
