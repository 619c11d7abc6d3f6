"""An HTTP POST (RFC 9110) with the alert as JSON, or in the form of a template.

``Scopion-Alert`` carries the identity, by which the receiver recognises a repetition; with a key, ``Scopion-Signature``
is ``sha256=`` and the HMAC (RFC 2104) of the moment in ``Scopion-Time``, a full stop, and the body.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import socket
import ssl
import time
from pathlib import Path

from scopion.alerts.alert_settings import WebhookSettings
from scopion.alerts.channels.channel import DeliveryFailed, SecretReader, Trace
from scopion.alerts.channels.connect import connect, secured, tls_context
from scopion.alerts.message import Message
from scopion.attachment.connect.bounded_connection import Bounds
from scopion.attachment.connect.connection_words import network_problem, tls_problem
from scopion.attachment.connect.web_client import BadAddress, HttpRequest, HttpResponse, ask, host_of, parts_of, port_of
from scopion.model.text import clean, whole_number

_LATER = (408, 425, 429)  # the request is right, and comes at the wrong time
_LONGEST_WAIT_S = 3600.0
_ANSWER_READ, _ANSWER_SHOWN = 4096, 200


class WebhookChannel:
    """Posts to one address."""

    lasts_s = None

    def __init__(self, settings: WebhookSettings, read_secret: SecretReader, folder: Path) -> None:
        self._settings = settings
        self._read_secret = read_secret
        self._folder = folder

    def deliver(self, message: Message, trace: Trace) -> None:
        """Post the message; only an answer of success counts. Raises DeliveryFailed."""
        import http.client

        settings = self._settings
        url, where = self._address()
        body = self._body(message)
        bounds = Bounds(settings.timeout_s)
        try:
            parts = parts_of(url)
        except BadAddress:
            raise DeliveryFailed(f"the address of channel {settings.name} is not an http or https address") from None
        host, port = host_of(parts), port_of(parts)
        headers = self._headers(message, body)

        def open_line(host: str, port: int, context: ssl.SSLContext | None) -> socket.socket:
            line = connect(host, port, bounds, trace)
            return line if context is None else secured(line, context, host, port, trace)

        context = tls_context(settings.trust, self._folder, bounds) if parts.scheme == "https" else None
        trace(f"posting {len(body)} octets to {where}")
        try:
            # Redirections are not followed: they could take a secret to another server.
            answer = ask(HttpRequest("POST", url, _ANSWER_READ, body, headers, True), bounds, open_line, context)
        except TimeoutError:
            raise DeliveryFailed(f"{where} did not answer within {settings.timeout_s:g} seconds") from None
        except ssl.SSLError as error:
            raise DeliveryFailed(tls_problem(error, host, port)) from None
        except OSError as error:
            raise DeliveryFailed(f"{where}: {network_problem(error, settings.timeout_s)}") from None
        except http.client.HTTPException as error:
            raise DeliveryFailed(f"{where} gives no answer of HTTP ({type(error).__name__})") from None
        said = clean(answer.body.decode("utf-8", "replace"), _ANSWER_SHOWN)
        if answer.is_success:
            trace(f"{where} answers {answer.status}: taken")
            return
        raise _refused(answer, said, where)

    def _address(self) -> tuple[str, str]:
        """Return the address, and the part that may be shown: without path and query, which are often the secret."""
        settings = self._settings
        url = settings.url or self._read_secret(settings.url_secret, f"the address of channel {settings.name}")
        scheme, _, rest = url.partition("://")
        host = rest.split("/", 1)[0].rpartition("@")[2]
        return url, f"{scheme}://{clean(host)}"

    def _body(self, message: Message) -> bytes:
        if not self._settings.body:
            return json.dumps(message.document(), ensure_ascii=False).encode()
        from scopion.alerts.html_templates import filled

        try:
            return filled(self._settings.body, message).encode()
        except ValueError as error:
            raise DeliveryFailed(f"the body of channel {self._settings.name} in site.toml: {error}") from None

    def _headers(self, message: Message, body: bytes) -> dict[str, str]:
        settings = self._settings
        headers = {
            "Content-Type": settings.content_type,
            "User-Agent": "scopion",
            "Scopion-Alert": message.identity,
        }
        for name, reference in settings.headers.items():
            value = self._read_secret(reference, f"the header {name} of channel {settings.name}")
            # The library would quote what it refuses, and this is a secret.
            if not (name + value).isascii() or not (name + value).isprintable():
                raise DeliveryFailed(f"the header {name} of channel {settings.name} is not plain ASCII in one line")
            headers[name] = value
        if settings.key:
            key = self._read_secret(settings.key, f"the key of channel {settings.name}")
            headers["Scopion-Time"] = at = str(int(time.time()))
            headers["Scopion-Signature"] = signature(key, at, body)
        return headers


def signature(key: str, at: str, body: bytes) -> str:
    """Return the value of ``Scopion-Signature``: the receiver computes the same with the shared key."""
    return "sha256=" + hmac.new(key.encode(), at.encode() + b"." + body, hashlib.sha256).hexdigest()


def _refused(answer: HttpResponse, said: str, where: str) -> DeliveryFailed:
    status = answer.status
    quoted = f": {said}" if said else ""
    wait = answer.headers.get("retry-after", "")
    wait_s = min(float(max(0, whole_number(wait, 10**9) or 0)), _LONGEST_WAIT_S)
    if status in _LATER or status >= 500:
        return DeliveryFailed(f"{where} answers {status}, try later{quoted}", wait_s=wait_s)
    if status in (401, 403):
        advice = "it does not accept what this machine shows: is the address or the key still valid?"
        return DeliveryFailed(f"{where} answers {status}, {advice}{quoted}", wait_s=900.0)
    if 300 <= status < 400:
        return DeliveryFailed(f"{where} answers {status} and redirects elsewhere: write the new address into site.toml")
    return DeliveryFailed(f"{where} refuses with {status}{quoted}", permanent=True)
