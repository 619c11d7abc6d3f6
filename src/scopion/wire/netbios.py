"""The NetBIOS name service (RFC 1001, RFC 1002): node status, and names in broadcasts."""

from __future__ import annotations

from dataclasses import dataclass

from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.wire.cursor import Cursor

PORT = 137
_NAME, _STATUS = 0x0020, 0x0021  # NB and NBSTAT
_INTERNET = 1
_RESPONSE = 0x8000
_GROUP = 0x8000  # in a name's flags
_ANY = b"*".ljust(16, b"\0")
_QUERY, _REGISTRATION, _REFRESHES = 0, 5, (8, 9)  # RFC 1002, 4.2.1.1; some senders use 9
WORKSTATION, FILE_SERVER, BROWSER = 0x00, 0x20, 0x1D  # the last octet of a name says which service has it
# A reply fits one datagram of 576 bytes (RFC 1002, 4.2.18): 18 bytes a name.
_MAX_NAMES = 28


@dataclass(frozen=True, slots=True)
class NetbiosName:
    """A name without its padding, its service, and whether several hosts share it."""

    text: str
    suffix: int
    group: bool = False


@dataclass(frozen=True, slots=True)
class NodeStatus:
    """The answer of a host that is asked for its names."""

    transaction: int
    names: tuple[NetbiosName, ...]
    mac: MacAddress | None  # the host's own claim; some send zeros


@dataclass(frozen=True, slots=True)
class NameClaim:
    """A broadcast in which a host registers or refreshes a name of its own."""

    name: NetbiosName


def encode_status_request(transaction: int) -> bytes:
    """Return a request for all names of a host (RFC 1002, 4.2.17)."""
    return _header(transaction, 0, questions=1) + _encode_name(_ANY) + _STATUS.to_bytes(2) + _INTERNET.to_bytes(2)


def encode_status_reply(status: NodeStatus) -> bytes:
    """Return the answer to such a request (RFC 1002, 4.2.18)."""
    body = bytes((len(status.names),))
    for name in status.names:
        body += _padded(name) + (_GROUP if name.group else 0x0400).to_bytes(2)
    body += (status.mac.octets if status.mac else bytes(6)) + bytes(40)
    head = _header(status.transaction, _RESPONSE | 0x0400, answers=1) + _encode_name(_ANY)
    return head + _STATUS.to_bytes(2) + _INTERNET.to_bytes(2) + bytes(4) + len(body).to_bytes(2) + body


def encode_claim(name: NetbiosName, address: bytes) -> bytes:
    """Return a registration as a host broadcasts it (RFC 1002, 4.2.2); ``address`` has four octets."""
    question = _encode_name(_padded(name)) + _NAME.to_bytes(2) + _INTERNET.to_bytes(2)
    record = b"\xc0\x0c" + _NAME.to_bytes(2) + _INTERNET.to_bytes(2) + bytes(4) + (6).to_bytes(2)
    flags = (_GROUP if name.group else 0).to_bytes(2)
    head = _header(1, _REGISTRATION << 11 | 0x0110, questions=1, extra=1)
    return head + question + record + flags + address


def decode_netbios(payload: bytes) -> NodeStatus | NameClaim | None:
    """Return a node status, or the claim in a broadcast; None for anything else. Raises MalformedFrame if it is cut."""
    cursor = Cursor(payload)
    transaction, flags = cursor.number(2), cursor.number(2)
    questions, answers = cursor.number(2), cursor.number(2)
    cursor.take(2)
    extra = cursor.number(2)
    operation = flags >> 11 & 0x0F
    if flags & _RESPONSE:
        return _status(cursor, transaction) if answers == 1 and not questions else None
    if operation in (_REGISTRATION, *_REFRESHES) and questions == 1 and extra == 1:
        return NameClaim(_claimed(cursor))
    return None


def _status(cursor: Cursor, transaction: int) -> NodeStatus | None:
    _decode_name(cursor)
    if cursor.number(2) != _STATUS:
        return None
    cursor.take(2 + 4 + 2)
    count = cursor.number(1)
    if count > _MAX_NAMES:
        raise MalformedFrame(f"a node status with {count} names: at most {_MAX_NAMES} fit a datagram")
    names = []
    for _ in range(count):
        raw, flags = cursor.take(16), cursor.number(2)
        names.append(_named(raw, group=bool(flags & _GROUP)))
    octets = cursor.take(6)
    return NodeStatus(transaction, tuple(names), MacAddress(octets) if any(octets) else None)


def _claimed(cursor: Cursor) -> NetbiosName:
    raw = _decode_name(cursor)
    cursor.take(4)
    # The record repeats the name, by a pointer or in full; then type, class, time to live, length, flags, address.
    if cursor.number(1) & 0xC0:
        cursor.take(1)
    else:
        cursor.at -= 1
        _decode_name(cursor)
    cursor.take(2 + 2 + 4 + 2)
    return _named(raw, group=bool(cursor.number(2) & _GROUP))


def _header(transaction: int, flags: int, questions: int = 0, answers: int = 0, extra: int = 0) -> bytes:
    return b"".join(field.to_bytes(2) for field in (transaction, flags, questions, answers, 0, extra))


def _padded(name: NetbiosName) -> bytes:
    return name.text.encode("cp437", "replace")[:15].ljust(15) + bytes((name.suffix,))


def _named(raw: bytes, *, group: bool) -> NetbiosName:
    # RFC 1001, 5.2 leaves the character set open; makers used that of early personal computers, where each byte is a
    # sign.
    return NetbiosName(raw[:15].decode("cp437").rstrip(" \0"), raw[15], group)


def _encode_name(raw: bytes) -> bytes:
    """Return the first-level encoding (RFC 1001, 14.1): each half octet as a letter from A on."""
    letters = bytes(half + 0x41 for octet in raw for half in (octet >> 4, octet & 0x0F))
    return bytes((len(letters),)) + letters + b"\0"


def _decode_name(cursor: Cursor) -> bytes:
    if cursor.number(1) != 32:
        raise MalformedFrame("a NetBIOS name that is not 32 letters")
    halves = [letter - 0x41 for letter in cursor.take(32)]
    if not all(0 <= half < 16 for half in halves):
        raise MalformedFrame("a NetBIOS name with other letters than A to P")
    _skip_scope(cursor)
    return bytes(halves[at] << 4 | halves[at + 1] for at in range(0, 32, 2))


def _skip_scope(cursor: Cursor) -> None:
    """Skip the scope that may follow a name: labels up to an empty one. Each takes a byte, so this ends."""
    while length := cursor.number(1):
        if length & 0xC0:
            raise MalformedFrame("a NetBIOS scope with a pointer")
        cursor.take(length)
