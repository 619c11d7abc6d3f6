"""One request over HTTP or HTTPS, and the beginning of its answer, within a deadline and a limit.

It is the standard library's client over a connection of our own, because there a bounded connection can be put under
it. Nothing is decompressed: no compressed answer is asked for.
"""

from __future__ import annotations

import base64
import http.client
import ssl
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from socket import SOCK_STREAM, socket
from urllib.parse import SplitResult, quote, unquote, urlsplit

from scopion.attachment.connect.bounded_connection import Bounds, addresses_of, bound_tls, connected, first_connected

_PART = 16_384
_AS_IT_IS = "/%:@!$&'()*+,;=?~-._"  # characters that a path or query may have unescaped (RFC 3986, 3.3 and 3.4)


class BadAddress(ValueError):
    """Not an address of the web."""


@dataclass(frozen=True, slots=True)
class HttpResponse:
    """The answer of a server: status, headers by lower-case names, the beginning of the body."""

    status: int
    headers: Mapping[str, str]
    body: bytes
    whole: bool  # whether that is the whole body

    @property
    def is_success(self) -> bool:
        """Tell whether the server accepted the request."""
        return 200 <= self.status < 300


# Opens a connection to a host and port, secured if there is a context. It raises what its caller wants to see.
Opener = Callable[[str, int, ssl.SSLContext | None], socket]


def parts_of(url: str) -> SplitResult:
    """Return the parts of an address as they can be sent: path and query with escapes (RFC 3986). Raises BadAddress."""
    try:
        parts = urlsplit(url)
        port, host = parts.port, host_of(parts) if parts.hostname else ""
    except (ValueError, UnicodeError):
        raise BadAddress("its address cannot be understood") from None
    if parts.scheme not in ("http", "https") or not host or port == 0 or not url.isprintable() or " " in url:
        raise BadAddress("its address is not an http or https address")
    return parts._replace(path=quote(parts.path, safe=_AS_IT_IS), query=quote(parts.query, safe=_AS_IT_IS))


def host_of(parts: SplitResult) -> str:
    """Return the host in ASCII, without the brackets of an IPv6 address."""
    host = str(parts.hostname)
    return host if host.isascii() else host.encode("idna").decode()


def port_of(parts: SplitResult) -> int:
    """Return the port, by default that of the scheme."""
    return parts.port or (443 if parts.scheme == "https" else 80)


def opener(bounds: Bounds) -> Opener:
    """Return a function that opens connections within limits. They raise OSError and UnicodeError."""

    def opened(host: str, port: int, context: ssl.SSLContext | None) -> socket:
        line, _ = first_connected(addresses_of(host, port, SOCK_STREAM, bounds), connected, bounds)
        return context.wrap_socket(line, server_hostname=host) if context is not None else line

    return opened


@dataclass(frozen=True, slots=True)
class HttpRequest:
    """One request, and which part of its answer is wanted."""

    method: str
    url: str
    most: int  # octets of the answer's body that are read
    body: bytes | None = None
    headers: Mapping[str, str] = field(default_factory=dict)
    only_status: bool = False  # only the status of the answer counts, even if its body breaks off


def ask(request: HttpRequest, bounds: Bounds, open_line: Opener, context: ssl.SSLContext | None = None) -> HttpResponse:
    """Send one request and read the answer; redirections are not followed.

    Raises BadAddress, OSError (TimeoutError, TooMuch), http.client.HTTPException.
    """
    parts, most = parts_of(request.url), request.most
    host, port = host_of(parts), port_of(parts)
    secure = bound_tls(context or ssl.create_default_context(), bounds) if parts.scheme == "https" else None
    client = http.client.HTTPConnection(host, port)
    client.sock = open_line(host, port, secure)
    try:
        target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        named = f"[{host}]" if ":" in host else host
        given = {
            "Host": f"{named}:{parts.port}" if parts.port else named,
            "User-Agent": "scopion",
            "Accept-Encoding": "identity",
            "Connection": "close",
            **request.headers,
        }
        if parts.username is not None:
            who = f"{unquote(parts.username)}:{unquote(parts.password or '')}"
            given["Authorization"] = "Basic " + base64.b64encode(who.encode()).decode()
        client.request(request.method, target, request.body, given)
        answer = client.getresponse()
        read, whole = bytearray(), False
        with suppress(*((OSError, http.client.HTTPException) if request.only_status else ())):
            while len(read) <= most and (part := answer.read(min(_PART, most + 1 - len(read)))):
                read += part
            if answer.length and len(read) <= most:  # it ended before its announced length
                raise http.client.IncompleteRead(bytes(read[:0]), answer.length)
            whole = len(read) <= most
        said = {key.lower(): value for key, value in answer.getheaders()}
        return HttpResponse(answer.status, said, bytes(read[:most]), whole)
    finally:
        client.close()
