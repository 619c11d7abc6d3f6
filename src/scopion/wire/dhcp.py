"""DHCP for IPv4 (RFC 2131, options RFC 2132): what a client says of itself, and what a server grants it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import IntEnum
from ipaddress import IPv4Address

from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.wire.cursor import Cursor

SERVER_PORT, CLIENT_PORT = 67, 68
_MAGIC = bytes.fromhex("63825363")
_ETHERNET = 1
_PAD, _END = 0, 255
HOST_NAME, REQUESTED_ADDRESS, OVERLOAD, MESSAGE_TYPE = 12, 50, 52, 53
SERVER_IDENTIFIER, REQUESTED_OPTIONS, VENDOR_CLASS, CLIENT_IDENTIFIER, FULL_NAME = 54, 55, 60, 61, 81
# In the flags of a full name (RFC 4702, 2.1): the name is in DNS wire form, not in plain text.
_NAME_IN_WIRE_FORM = 0x04


class DhcpKind(IntEnum):
    """The message types (RFC 2132, 9.6)."""

    DISCOVER = 1
    OFFER = 2
    REQUEST = 3
    DECLINE = 4
    ACK = 5
    NAK = 6
    RELEASE = 7
    INFORM = 8


_KINDS = {int(kind): kind for kind in DhcpKind}


@dataclass(frozen=True, slots=True)
class DhcpMessage:
    """One message; ``mac`` is the client's. Texts are raw and have to be cleaned before they are kept."""

    kind: DhcpKind
    from_server: bool
    transaction: int
    mac: MacAddress
    client_address: IPv4Address | None  # that it uses already
    granted_address: IPv4Address | None
    options: Mapping[int, bytes]

    @property
    def requested_address(self) -> IPv4Address | None:
        """Return the address that the client asks for."""
        return self._address(REQUESTED_ADDRESS)

    @property
    def server(self) -> IPv4Address | None:
        """Return the server that sent a message, or that it is meant for."""
        return self._address(SERVER_IDENTIFIER)

    @property
    def host_name(self) -> str:
        """Return the client's name: the host name option, else the first label of its full name."""
        plain = self.options.get(HOST_NAME, b"")
        full = self.options.get(FULL_NAME, b"")
        if not plain and len(full) > 3:
            plain = _first_label(full[3:]) if full[0] & _NAME_IN_WIRE_FORM else full[3:]
        return plain.rstrip(b"\0").decode("utf-8", "replace")

    @property
    def vendor_class(self) -> str:
        """Return how the client's maker calls this kind of client."""
        return self.options.get(VENDOR_CLASS, b"").rstrip(b"\0").decode("utf-8", "replace")

    def _address(self, option: int) -> IPv4Address | None:
        value = self.options.get(option, b"")
        return IPv4Address(value) if len(value) == 4 else None


def decode_dhcp(payload: bytes) -> DhcpMessage | None:
    """Return the message in a UDP payload; None for plain BOOTP and for other hardware than Ethernet.

    Raises MalformedFrame if it is cut, has no magic cookie, or an option is too long.
    """
    cursor = Cursor(payload)
    operation, hardware, length = cursor.number(1), cursor.number(1), cursor.number(1)
    cursor.take(1)
    transaction = cursor.number(4)
    cursor.take(4)
    client, granted = _address(cursor), _address(cursor)
    cursor.take(8)
    octets = cursor.take(16)[:6]
    server_name, file = cursor.take(64), cursor.take(128)
    if cursor.take(4) != _MAGIC:
        raise MalformedFrame("a DHCP message without its magic cookie")
    options = _options(cursor.take(cursor.left))
    # The fields for file and server name may hold more options (RFC 2132, 9.3), in this order (RFC 3396, section 5).
    overload = options.get(OVERLOAD, b"\0")[-1:]
    for bit, field in ((1, file), (2, server_name)):
        if overload and overload[0] & bit:
            for option, value in _options(field).items():
                options[option] = options.get(option, b"") + value
    kind = options.get(MESSAGE_TYPE, b"")
    if hardware != _ETHERNET or length != 6 or len(kind) != 1 or kind[0] not in _KINDS or operation not in (1, 2):
        return None
    return DhcpMessage(_KINDS[kind[0]], operation == 2, transaction, MacAddress(octets), client, granted, options)


def encode_dhcp(message: DhcpMessage) -> bytes:
    """Return a message as a UDP payload; the type is first, the other options keep their order."""
    fixed = bytes((2 if message.from_server else 1, _ETHERNET, 6, 0)) + message.transaction.to_bytes(4) + bytes(4)
    fixed += (message.client_address or IPv4Address(0)).packed + (message.granted_address or IPv4Address(0)).packed
    fixed += bytes(8) + message.mac.octets + bytes(10 + 64 + 128) + _MAGIC
    options = {MESSAGE_TYPE: bytes((message.kind,)), **message.options}
    return fixed + b"".join(bytes((option, len(value))) + value for option, value in options.items()) + bytes((_END,))


def _address(cursor: Cursor) -> IPv4Address | None:
    address = IPv4Address(cursor.take(4))
    return address if int(address) else None


def _options(data: bytes) -> dict[int, bytes]:
    """Return the options by number; the parts of a repeated option are joined (RFC 3396)."""
    found: dict[int, bytes] = {}
    cursor = Cursor(data)
    while cursor.left:
        option = cursor.number(1)
        if option == _END:
            break
        if option != _PAD:
            found[option] = found.get(option, b"") + cursor.take(cursor.number(1))
    return found


def _first_label(name: bytes) -> bytes:
    return name[1 : 1 + name[0]] if name else b""
