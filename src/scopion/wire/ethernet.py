"""Ethernet II headers (IEEE Std 802.3-2018, 3.1.1)."""

from __future__ import annotations

from dataclasses import dataclass

from scopion.model.mac import MacAddress
from scopion.wire.cursor import Cursor

TYPE_ARP = 0x0806
# Tags of four octets between the source address and the type: a VLAN's, and a provider's around it (IEEE Std 802.1Q,
# before 802.1ad), also with the number that was used before.
_TAGS = (0x8100, 0x88A8, 0x9100)
_MOST_TAGS = 3
BROADCAST = MacAddress(b"\xff" * 6)
MIN_FRAME = 60  # octets without the frame check sequence; shorter frames are padded


@dataclass(frozen=True, slots=True)
class EthernetHeader:
    """Sender, receiver and type of a frame."""

    destination: MacAddress
    source: MacAddress
    type: int


def decode_header(frame: bytes) -> tuple[EthernetHeader, Cursor]:
    """Return the header of a frame, and a cursor at its payload. Raises MalformedFrame if it is cut."""
    cursor = Cursor(frame)
    destination, source = MacAddress(cursor.take(6)), MacAddress(cursor.take(6))
    ethertype = cursor.number(2)
    for _ in range(_MOST_TAGS):
        if ethertype not in _TAGS:
            break
        cursor.take(2)
        ethertype = cursor.number(2)
    return EthernetHeader(destination, source, ethertype), cursor


def encode_frame(destination: MacAddress, source: MacAddress, ethertype: int, payload: bytes) -> bytes:
    """Return a whole frame, padded to the minimum length."""
    frame = destination.octets + source.octets + ethertype.to_bytes(2) + payload
    return frame.ljust(MIN_FRAME, b"\0")
