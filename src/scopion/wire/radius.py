"""RADIUS packets: authentication (RFC 2865), accounting (RFC 2866, 2869), Status-Server (RFC 5997) and disconnection
(RFC 5176), by pyrad's codec.

Numbers are checked here before that codec sees a packet, so that its work is bounded. To check what signs a request
and to write a reply is done here as well: hundreds of devices may wait for it at once, and it takes a quarter less
time. A test holds that both are as that codec does them. Who may ask, and what is answered, is decided elsewhere.
"""

from __future__ import annotations

import hashlib
import hmac
import io
from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from enum import Enum, IntEnum
from functools import cache, lru_cache
from typing import Any

from scopion.model.errors import MalformedFrame
from scopion.model.text import clean

_HEADER, _LONGEST = 20, 4096  # octets (RFC 2865, 3)
# An access point sends about twenty. Each proxy on the way may add a Proxy-State, which a reply has to give back.
_MOST_ATTRIBUTES, _MOST_PROXIES = 64, 8
_PROXY_STATE, _MESSAGE_AUTHENTICATOR = 33, 80
_SIGNATURE = 18  # octets of a Message-Authenticator

# The attributes that are read and written, with their numbers and types: RFC 2865 (1 to 61), RFC 2866 (40 to 49),
# RFC 2868 (64 to 81), RFC 2869 (52 to 85), RFC 5176 (101).
_DICTIONARY = """
ATTRIBUTE User-Name 1 string
ATTRIBUTE User-Password 2 octets
ATTRIBUTE CHAP-Password 3 octets
ATTRIBUTE NAS-IP-Address 4 ipaddr
ATTRIBUTE NAS-Port 5 integer
ATTRIBUTE Service-Type 6 integer
ATTRIBUTE Framed-IP-Address 8 ipaddr
ATTRIBUTE Reply-Message 18 string
ATTRIBUTE Session-Timeout 27 integer
ATTRIBUTE Termination-Action 29 integer
ATTRIBUTE Called-Station-Id 30 string
ATTRIBUTE Calling-Station-Id 31 string
ATTRIBUTE NAS-Identifier 32 string
ATTRIBUTE Proxy-State 33 octets
ATTRIBUTE Acct-Status-Type 40 integer
ATTRIBUTE Acct-Input-Octets 42 integer
ATTRIBUTE Acct-Output-Octets 43 integer
ATTRIBUTE Acct-Session-Id 44 string
ATTRIBUTE Acct-Session-Time 46 integer
ATTRIBUTE Acct-Terminate-Cause 49 integer
ATTRIBUTE Acct-Input-Gigawords 52 integer
ATTRIBUTE Acct-Output-Gigawords 53 integer
ATTRIBUTE Event-Timestamp 55 date
ATTRIBUTE CHAP-Challenge 60 octets
ATTRIBUTE NAS-Port-Type 61 integer
ATTRIBUTE Tunnel-Type 64 integer has_tag
ATTRIBUTE Tunnel-Medium-Type 65 integer has_tag
ATTRIBUTE Connect-Info 77 string
ATTRIBUTE EAP-Message 79 octets
ATTRIBUTE Message-Authenticator 80 octets
ATTRIBUTE Tunnel-Private-Group-Id 81 string has_tag
ATTRIBUTE Acct-Interim-Interval 85 integer
ATTRIBUTE Error-Cause 101 integer
"""
_NUMBERS = {words[1]: int(words[2]) for words in map(str.split, _DICTIONARY.strip().splitlines())}
Value = str | int | bytes
Attributes = Mapping[str, Value]  # by the names of the RFCs


class Code(IntEnum):
    """What a packet is."""

    ACCESS_REQUEST = 1
    ACCESS_ACCEPT = 2
    ACCESS_REJECT = 3
    ACCOUNTING_REQUEST = 4
    ACCOUNTING_RESPONSE = 5
    STATUS_SERVER = 12
    DISCONNECT_REQUEST = 40
    DISCONNECT_ACK = 41
    DISCONNECT_NAK = 42


_SIGNED_REPLIES = (Code.ACCESS_REQUEST, Code.STATUS_SERVER)  # requests whose replies have a Message-Authenticator
# Requests whose authenticator is made last, so that it counts as zeros in a Message-Authenticator (RFC 5176, 3.3).
_MADE_LAST = (Code.ACCOUNTING_REQUEST, Code.DISCONNECT_REQUEST, 43)  # 43: CoA-Request


class Signature(Enum):
    """What a packet's Message-Authenticator says (RFC 2869, 5.14)."""

    GOOD = "good"
    WRONG = "wrong"  # the secrets differ, or the packet was changed on its way
    NONE = "none"  # it has none


class RadiusMessage:
    """A packet that was received; it is read with the secret that the two sides share, and never shown."""

    __slots__ = ("_packet", "_signature", "_signed_at")

    def __init__(self, packet: Any, signed_at: int = 0) -> None:
        """``signed_at``: the offset of a request's Message-Authenticator; 0: it has none."""
        self._packet, self._signed_at = packet, signed_at
        self._signature: Signature | None = None

    @property
    def code(self) -> int:
        """Return the number that says what it is."""
        return int(self._packet.code)

    @property
    def identifier(self) -> int:
        """Return the number by which a reply is put to its request."""
        return int(self._packet.id)

    @property
    def authenticator(self) -> bytes:
        """Return its 16 octets that a reply depends on."""
        return bytes(self._packet.authenticator)

    def text(self, name: str) -> str:
        """Return an attribute as clean text; empty if there is none, or if it is no UTF-8."""
        raw = self._raw(name)
        return _text(raw) if raw else ""

    def number(self, name: str) -> int | None:
        """Return an attribute of four octets; None if there is none, or if it has another length."""
        raw = self._raw(name)
        return int.from_bytes(raw) if raw is not None and len(raw) == 4 else None

    def has(self, name: str) -> bool:
        """Tell whether there is such an attribute."""
        return self._raw(name) is not None

    def _raw(self, name: str) -> bytes | None:
        values = dict.get(self._packet, _NUMBERS[name])  # it is a dict by number; its own ``get`` costs a lot
        return values[0] if values else None

    def signature(self) -> Signature:
        """Check the Message-Authenticator of a request."""
        if self._signature is None:
            self._signature = self._checked() if self._signed_at else Signature.NONE
        return self._signature

    def _checked(self) -> Signature:
        data, begin = self._packet.raw_packet, self._signed_at + 2
        end = begin + 16
        asked = bytes(16) if data[0] in _MADE_LAST else data[4:_HEADER]
        unsigned = data[:4] + asked + data[_HEADER:begin] + bytes(16) + data[end:]
        good = hmac.compare_digest(hmac.digest(self._packet.secret, unsigned, "md5"), data[begin:end])
        return Signature.GOOD if good else Signature.WRONG

    def has_genuine_authenticator(self) -> bool:
        """Tell whether a request of accounting or disconnection was made with the secret (RFC 2866, 3; RFC 5176, 2.3).

        That of an Access-Request is a random number, which proves nothing.
        """
        checked = (Code.ACCOUNTING_REQUEST, Code.DISCONNECT_REQUEST)
        return self.code in checked and bool(self._packet.VerifyAuthRequest())

    def password(self) -> str | None:
        """Return User-Password in plain text (RFC 2865, 5.2); None without one. Another secret makes it garbage."""
        raw = self._raw("User-Password")
        if raw is None or not 16 <= len(raw) <= 128 or len(raw) % 16:
            return None
        return str(self._packet.PwDecrypt(raw))

    def chap_is_one_of(self, passwords: Iterable[str]) -> bool:
        """Tell whether CHAP-Password was made of one of these (RFC 2865, 5.3)."""
        return any(self._packet.VerifyChapPasswd(each.encode()) for each in passwords)

    def reply(self, code: Code, attributes: Attributes) -> bytes:
        """Return a reply. A Message-Authenticator comes first in it where one is allowed (against the forgery of 2024).

        Each Proxy-State of the request is in it, in its order (RFC 2865, 5.33).
        """
        packet = self._packet
        rest = _octets_of(tuple(attributes.items()))
        if (proxies := dict.get(packet, _PROXY_STATE)) is not None:
            rest = b"".join(_attribute(_PROXY_STATE, each) for each in proxies) + rest
        signed = packet.code in _SIGNED_REPLIES
        length = _HEADER + (_SIGNATURE if signed else 0) + len(rest)
        head, asked, secret = bytes((code, packet.id)) + length.to_bytes(2), packet.authenticator, packet.secret
        if signed:
            unsigned = head + asked + _attribute(_MESSAGE_AUTHENTICATOR, bytes(16)) + rest
            rest = _attribute(_MESSAGE_AUTHENTICATOR, hmac.digest(secret, unsigned, "md5")) + rest
        return head + hashlib.md5(head + asked + rest + secret, usedforsecurity=False).digest() + rest


@dataclass(frozen=True, slots=True)
class SentRequest:
    """A request on its way: its octets, and what is needed to check the reply."""

    octets: bytes
    _packet: Any = field(repr=False)

    def read_reply(self, data: bytes, *, signed: bool = False) -> RadiusMessage | None:
        """Return the reply in a datagram; None if it is none to this request, or not made with the secret.

        ``signed``: it has to have a Message-Authenticator.
        """
        from pyrad.packet import PacketError

        try:
            _check(data)
            reply = self._packet.CreateReply(packet=data)
            if not self._packet.VerifyReply(reply, data, enforce_ma=signed):
                return None
        except (MalformedFrame, PacketError):
            return None
        return RadiusMessage(reply)


def load_library() -> None:
    """Import pyrad and read the dictionary, before time matters."""
    _reader()


def decode_radius(data: bytes, secret: bytes) -> RadiusMessage:
    """Return the request in a datagram, to be read with a secret. Raises MalformedFrame."""
    signed_at = _check(data)
    return RadiusMessage(_reader()(data, secret), signed_at)


def encode_request(
    code: Code,
    secret: bytes,
    attributes: Attributes,
    *,
    identifier: int,
    password: str | None = None,
    chap: bool = False,
    signed: bool = True,
) -> SentRequest:
    """Return a request with its attributes, with a Message-Authenticator if it is to be ``signed``.

    A ``password`` is hidden by the secret (PAP), or goes as its checksum with a random number (``chap``).
    """
    from pyrad.packet import AcctPacket, AuthPacket, CoAPacket, Packet

    kinds: Mapping[Code, Any] = {Code.ACCOUNTING_REQUEST: AcctPacket, Code.DISCONNECT_REQUEST: CoAPacket}
    kind = kinds.get(code, AuthPacket)
    packet = kind(code=code, id=identifier, secret=secret, dict=_dictionary())
    if kind is AuthPacket:
        packet.authenticator = Packet.CreateAuthenticator()
    if signed:
        packet.add_message_authenticator()
    for name, value in attributes.items():
        packet[name] = value
    if password is not None and chap:
        packet["CHAP-Password"] = _chap_password(identifier, password, packet.authenticator)
    elif password is not None:
        packet["User-Password"] = packet.PwCrypt(password)
    return SentRequest(bytes(packet.RequestPacket()), packet)


def _chap_password(identifier: int, password: str, challenge: bytes) -> bytes:
    number = bytes([identifier])
    return number + hashlib.md5(number + password.encode() + challenge, usedforsecurity=False).digest()


def _check(data: bytes) -> int:
    """See that the lengths of a packet fit together (RFC 2865, 3).

    Returns the offset of its Message-Authenticator, 0 without one. Raises MalformedFrame.
    """
    if not _HEADER <= len(data) <= _LONGEST:
        raise MalformedFrame(f"a RADIUS packet has {_HEADER} to {_LONGEST} octets, not {len(data)}")
    length = int.from_bytes(data[2:4])
    if not _HEADER <= length <= len(data):
        raise MalformedFrame(f"a RADIUS packet of {len(data)} octets says that it has {length}")
    at, signed_at, kinds = _HEADER, 0, bytearray()
    while at < length:
        kind, size = data[at], data[at + 1] if at + 1 < length else 0
        if size < 2 or at + size > length:
            raise MalformedFrame(f"an attribute at offset {at} of a RADIUS packet has a wrong length")
        if kind == _MESSAGE_AUTHENTICATOR:
            if size != _SIGNATURE or signed_at:
                raise MalformedFrame("a RADIUS packet has one Message-Authenticator at most, of 16 octets")
            signed_at = at
        kinds.append(kind)
        at += size
    if len(kinds) > _MOST_ATTRIBUTES or kinds.count(_PROXY_STATE) > _MOST_PROXIES:
        raise MalformedFrame(f"a RADIUS packet has {len(kinds)} attributes, {kinds.count(_PROXY_STATE)} of proxies")
    return signed_at


@lru_cache(4_096)  # the same devices ask again and again
def _text(raw: bytes) -> str:
    try:
        return clean(raw.decode())
    except UnicodeDecodeError:
        return ""


@lru_cache(4_096)  # replies have the same few again and again
def _octets_of(attributes: tuple[tuple[str, Value], ...]) -> bytes:
    from pyrad.packet import Packet

    packet = Packet(dict=_dictionary(), id=0)
    for name, value in attributes:
        packet[name] = value
    return b"".join(_attribute(number, each) for number, values in dict.items(packet) for each in values)


def _attribute(number: int, value: bytes) -> bytes:
    return bytes((number, 2 + len(value))) + value


@cache
def _reader() -> Callable[[bytes, bytes], Any]:
    """Return what makes pyrad's packet of octets and a secret; it raises MalformedFrame."""
    from pyrad.packet import AuthPacket, PacketError

    class Numbered(AuthPacket):  # type: ignore[misc]
        """A packet whose attributes are put by number, which needs none of the look-ups by name."""

        def setdefault(self, key: Any, default: Any = None) -> Any:
            found = dict.get(self, key)
            if found is None:
                OrderedDict.__setitem__(self, key, default)
            return default if found is None else found

    dictionary = _dictionary()

    def read(data: bytes, secret: bytes) -> Any:
        try:
            packet = Numbered(packet=data, secret=secret)  # for all codes: they differ in how a request is made
        except PacketError as error:
            raise MalformedFrame(f"no RADIUS packet: {error}") from None
        packet.dict = dictionary  # not before: attributes within attributes stay unread, which halves the time
        return packet

    return read


@cache
def _dictionary() -> Any:
    from pyrad.dictionary import Dictionary

    return Dictionary(io.StringIO(_DICTIONARY))
