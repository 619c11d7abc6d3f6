"""An HTTP POST (RFC 9110) with the alert as JSON, or in whatever form a template gives it.

``Scopion-Alert`` carries the identity, by which the receiver can tell a repetition; with a key, ``Scopion-Signature``
is ``sha256=`` and the HMAC (RFC 2104) of the moment in ``Scopion-Time``, a full stop, and the body.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import time
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from scopion.alerts.channels.base import DeliveryFailed, SecretReader, Trace
from scopion.alerts.channels.connecting import network_problem, require_allowed, tls_context, tls_problem
from scopion.alerts.message import Message
from scopion.alerts.settings import WebhookSettings
from scopion.model.text import clean

if TYPE_CHECKING:
    import httpx

_LATER = (408, 425, 429)  # the request is not wrong, it comes at the wrong time
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
        """Post, and take only an answer of success for one. Raises DeliveryFailed."""
        import httpx

        settings = self._settings
        url, where = self._address()
        body = self._body(message)
        require_allowed(self._ends(url)[0])
        trace(f"posting {len(body)} octets to {where}")
        try:
            # Redirections are not followed: what was to be secret would go elsewhere.
            with httpx.Client(
                verify=tls_context(settings.trust, self._folder),
                timeout=settings.timeout_s,
                follow_redirects=False,
                trust_env=False,
            ) as client:
                headers = self._headers(message, body)
                with client.stream("POST", url, content=body, headers=headers) as answer:
                    said = self._beginning(answer)
        except (httpx.InvalidURL, httpx.UnsupportedProtocol):
            raise DeliveryFailed(f"the address of channel {settings.name} is no http or https address") from None
        except httpx.TimeoutException:
            raise DeliveryFailed(f"{where} did not answer within {settings.timeout_s:g} seconds") from None
        except httpx.HTTPError as error:
            raise DeliveryFailed(self._explained(error, where)) from None
        if answer.is_success:
            trace(f"{where} answers {answer.status_code}: taken")
            return
        raise _refused(answer, said, where)

    def _beginning(self, answer: httpx.Response) -> str:
        """What the answer says, as far as it is of use: whoever answers without end is not listened to."""
        read, ends = b"", time.monotonic() + self._settings.timeout_s
        for part in answer.iter_bytes(_ANSWER_READ):
            read += part
            if len(read) >= _ANSWER_READ or time.monotonic() > ends:
                break
        return clean(read[:_ANSWER_READ].decode("utf-8", "replace"), _ANSWER_SHOWN)

    def _address(self) -> tuple[str, str]:
        """The address, and what may be shown of it: neither path nor query, which are often the secret."""
        settings = self._settings
        url = settings.url or self._read_secret(settings.url_secret, f"the address of channel {settings.name}")
        scheme, _, rest = url.partition("://")
        host = rest.split("/", 1)[0].rpartition("@")[2]
        return url, f"{scheme}://{clean(host)}"

    def _ends(self, url: str) -> tuple[str, int]:
        """Host and port. Raises DeliveryFailed."""
        try:
            parts = urlsplit(url)
            return parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)
        except ValueError:
            raise DeliveryFailed(f"the address of channel {self._settings.name} cannot be understood") from None

    def _body(self, message: Message) -> bytes:
        if not self._settings.body:
            return json.dumps(message.document(), ensure_ascii=False).encode()
        from scopion.alerts.html import filled

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

    def _explained(self, error: httpx.HTTPError, where: str) -> str:
        """Httpx keeps the system's own error among the causes."""
        cause: BaseException | None = error
        while cause is not None:
            if isinstance(cause, OSError):
                break
            cause = cause.__cause__ or cause.__context__
        if isinstance(cause, OSError):
            import socket
            import ssl

            host, port = self._ends(where)
            if isinstance(cause, ssl.SSLError):
                return tls_problem(cause, host, port)
            if isinstance(cause, socket.gaierror):
                return f"the name {host} was not found: is it spelt right, and does this machine have a name server?"
            return f"{where} could not be reached: {network_problem(cause, self._settings.timeout_s)}"
        return f"{where}: {clean(str(error), 160) or type(error).__name__}"


def signature(key: str, at: str, body: bytes) -> str:
    """What ``Scopion-Signature`` says: the receiver computes the same with the shared key."""
    return "sha256=" + hmac.new(key.encode(), at.encode() + b"." + body, hashlib.sha256).hexdigest()


def _refused(answer: httpx.Response, said: str, where: str) -> DeliveryFailed:
    status = answer.status_code
    quoted = f": {said}" if said else ""
    wait = answer.headers.get("Retry-After", "")
    wait_s = min(float(wait), _LONGEST_WAIT_S) if wait.isdecimal() else 0.0
    if status in _LATER or status >= 500:
        return DeliveryFailed(f"{where} answers {status}, try later{quoted}", wait_s=wait_s)
    if status in (401, 403):
        advice = "it does not accept what this machine shows: is the address or the key still valid?"
        return DeliveryFailed(f"{where} answers {status}, {advice}{quoted}", wait_s=900.0)
    if 300 <= status < 400:
        return DeliveryFailed(f"{where} answers {status} and sends elsewhere: write the new address into site.toml")
    return DeliveryFailed(f"{where} refuses with {status}{quoted}", permanent=True)
