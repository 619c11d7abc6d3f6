"""DNS messages (RFC 1035) as multicast DNS (RFC 6762), LLMNR (RFC 4795) and reverse look-ups use them.

dnspython reads names and writes whole messages. The few record types that matter here are read by hand, because
multicast DNS puts a flag into the class and compresses names where the library rightly refuses it in plain DNS.
"""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address

from scopion.model.address import Address
from scopion.model.errors import MalformedFrame
from scopion.wire.cursor import Cursor

DNS_PORT, MDNS_PORT, LLMNR_PORT = 53, 5353, 5355
MDNS_GROUP, MDNS_GROUP_6 = IPv4Address("224.0.0.251"), IPv6Address("ff02::fb")
LLMNR_GROUP, LLMNR_GROUP_6 = IPv4Address("224.0.0.252"), IPv6Address("ff02::1:3")
# The largest mDNS message (RFC 6762, section 17). It limits the number of records: each takes at least eleven bytes.
_MAX_MESSAGE = 9000
# A host announces a dozen records; of a message with hundreds only the first ones are read.
MAX_RECORDS = 64
_RESPONSE = 0x8000
_READ = {1: "A", 12: "PTR", 16: "TXT", 28: "AAAA", 33: "SRV"}
_UNICAST_REPLY = 0x8000  # RFC 6762, 5.4: the top bit of a question's class


@dataclass(frozen=True, slots=True)
class DnsRecord:
    """One record of an answer. ``value`` is a name (PTR, SRV), an address (A, AAAA) or texts (TXT)."""

    name: str
    type: str
    value: str | Address | tuple[str, ...]


@dataclass(frozen=True, slots=True)
class DnsMessage:
    """The parts of a message that are used here."""

    id: int
    response: bool
    questions: tuple[tuple[str, str], ...]  # name and type
    records: tuple[DnsRecord, ...]  # of the answer and additional sections

    def values(self, kind: str) -> list[DnsRecord]:
        """Return the records of one type."""
        return [record for record in self.records if record.type == kind]


def reverse_name(address: Address) -> str:
    """Return the name under which the names of an address are kept (RFC 1035, 3.5; RFC 3596, 2.5)."""
    return address.reverse_pointer


def load_library() -> None:
    """Import the library now, so that it is not loaded in the middle of something timed."""
    import dns.message
    import dns.rdtypes.ANY.PTR  # noqa: F401


def encode_question(identifier: int, name: str, kind: str = "PTR", *, recurse: bool, unicast: bool = False) -> bytes:
    """Return a question; ``recurse`` for a name server, ``unicast`` asks a multicast responder for a direct answer."""
    import dns.flags
    import dns.message
    import dns.name

    message = dns.message.make_query(dns.name.from_text(name), kind, flags=dns.flags.RD if recurse else 0)
    message.id = identifier
    wire: bytes = message.to_wire()
    if unicast:
        wire = wire[:-2] + (int.from_bytes(wire[-2:]) | _UNICAST_REPLY).to_bytes(2)
    return wire


def encode_answer(identifier: int, records: tuple[DnsRecord, ...]) -> bytes:
    """Return an authoritative answer with these records, as a responder on the link gives it."""
    import dns.flags
    import dns.message
    import dns.rrset

    message = dns.message.Message(id=identifier)
    message.flags = dns.flags.QR | dns.flags.AA
    for record in records:
        message.answer.append(dns.rrset.from_text(_dotted(record.name), 120, "IN", record.type, _presentation(record)))
    wire: bytes = message.to_wire()
    return wire


def decode_dns(payload: bytes) -> DnsMessage:
    """Return a message, at least its first records. Raises MalformedFrame if it is none; never anything else."""
    if len(payload) > _MAX_MESSAGE:
        raise MalformedFrame(f"a DNS message of {len(payload)} bytes: at most {_MAX_MESSAGE} are sent")
    cursor = Cursor(payload)
    identifier, flags, asked = cursor.number(2), cursor.number(2), cursor.number(2)
    kept = cursor.number(2) + cursor.number(2) + cursor.number(2)
    if asked > MAX_RECORDS:
        raise MalformedFrame(f"a DNS message with {asked} questions")
    questions = []
    for _ in range(asked):
        questions.append((_name(cursor), _READ.get(cursor.number(2), "")))
        cursor.take(2)
    records = [_record(cursor) for _ in range(min(kept, MAX_RECORDS))]
    return DnsMessage(
        identifier, bool(flags & _RESPONSE), tuple(questions), tuple(record for record in records if record)
    )


def _record(cursor: Cursor) -> DnsRecord | None:
    owner = _name(cursor)
    kind = _READ.get(cursor.number(2))
    # The class is ignored: in multicast DNS its top bit is a flag (RFC 6762, 10.2), and only one class is used.
    cursor.take(6)
    body = cursor.within(cursor.number(2))
    return DnsRecord(owner, kind, _value(kind, body)) if kind else None


def _value(kind: str, body: Cursor) -> str | Address | tuple[str, ...]:
    if kind == "A":
        return IPv4Address(body.take(4))
    if kind == "AAAA":
        return IPv6Address(body.take(16))
    if kind == "TXT":
        texts = []
        while body.left:
            texts.append(body.take(body.number(1)).decode("utf-8", "replace"))
        return tuple(texts)
    if kind == "SRV":
        body.take(6)  # priority, weight, port
    return _name(body)


def _name(cursor: Cursor) -> str:
    """Return a name without its final dot; dots inside a label (multicast DNS has them) are kept."""
    import dns.exception
    import dns.name

    try:
        name, used = dns.name.from_wire(cursor.data, cursor.at)
    except (dns.exception.DNSException, ValueError) as error:
        raise MalformedFrame(f"an invalid DNS name: {error}") from None
    cursor.take(used)
    return ".".join(label.decode("utf-8", "replace") for label in name.labels if label)


def _presentation(record: DnsRecord) -> str:
    if record.type == "TXT":
        texts = record.value if isinstance(record.value, tuple) else ()
        return " ".join('"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"' for text in texts)
    if record.type in ("A", "AAAA"):
        return str(record.value)
    target = _dotted(str(record.value))
    return f"0 0 9 {target}" if record.type == "SRV" else target


def _dotted(name: str) -> str:
    """Return a name as a zone file writes it; a blank in a service's name is escaped."""
    return name.replace(" ", "\\032") + "."
