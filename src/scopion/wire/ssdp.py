"""Announcements and answers of the Simple Service Discovery Protocol (UPnP Device Architecture 2.0, 1.2 and 1.3)."""

from __future__ import annotations

from dataclasses import dataclass

from scopion.model.errors import MalformedFrame

PORT = 1900
_FIRST_LINES = (b"NOTIFY * HTTP/1.", b"HTTP/1.1 200", b"HTTP/1.0 200")
_GOODBYE = "ssdp:byebye"
# One datagram; the standard's messages have a dozen headers.
_MAX_HEADERS = 64


@dataclass(frozen=True, slots=True)
class SsdpMessage:
    """What a device offers, and the software that it names. Texts are raw."""

    target: str  # a device or service type
    server: str
    leaving: bool = False


def decode_ssdp(payload: bytes) -> SsdpMessage | None:
    """Return an announcement or an answer; None for a search, which tells nothing. Raises MalformedFrame."""
    if payload.startswith(b"M-SEARCH "):
        return None
    if not payload.startswith(_FIRST_LINES):
        raise MalformedFrame("a datagram to the discovery port that is not a discovery message")
    lines = payload.split(b"\n", _MAX_HEADERS + 1)[1 : _MAX_HEADERS + 1]
    headers: dict[str, str] = {}
    for line in lines:
        name, colon, value = line.partition(b":")
        if colon:
            headers.setdefault(name.strip().lower().decode("latin-1"), value.strip().decode("utf-8", "replace"))
    target = headers.get("nt") or headers.get("st") or ""
    return SsdpMessage(target, headers.get("server", ""), leaving=headers.get("nts") == _GOODBYE)
