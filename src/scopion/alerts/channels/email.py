"""E-mail (RFC 5321, 5322, 6409): one message with a text and an HTML part, in threads per device.

TLS from the first byte, or required STARTTLS, or plain if the settings ask for it. The Message-ID is made from the
alert's identity, so that a message which arrives twice is shown once.
"""

from __future__ import annotations

import base64
import smtplib
import socket
import ssl
from contextlib import suppress
from email.message import EmailMessage
from email.utils import localtime
from pathlib import Path

from scopion.alerts.alert_settings import EmailSettings
from scopion.alerts.channels.channel import DeliveryFailed, SecretReader, Trace
from scopion.alerts.channels.connect import connect, secured, tls_context
from scopion.alerts.message import Message
from scopion.attachment.connect.bounded_connection import Bounds
from scopion.attachment.connect.connection_words import network_problem, tls_problem
from scopion.model.alert import Severity
from scopion.model.text import clean

_PASSWORD_ADVICE = (
    "many providers refuse the account's own password here: make an application password in its settings or use a "
    "token; some refuse passwords altogether, then send by a relay that takes mail from this machine"
)
_AFTER_WRONG_PASSWORD_S = 900.0
_GREYLISTED = (450, 451, 452, 421)


class EmailChannel:
    """Sends mail through one server."""

    lasts_s = None

    def __init__(self, settings: EmailSettings, read_secret: SecretReader, folder: Path) -> None:
        self._settings = settings
        self._read_secret = read_secret
        self._folder = folder

    def deliver(self, message: Message, trace: Trace) -> None:
        """Hand the mail to the server. Raises DeliveryFailed."""
        settings = self._settings
        mail = composed(message, settings.sender, settings.to, self._folder)
        bounds = Bounds(settings.timeout_s)
        left = [each for each in settings.to if each not in message.reached]
        if not left:  # the others were removed from site.toml meanwhile
            trace("every recipient has it already")
            return
        try:
            server = self._signed_in(bounds, trace)
            try:
                self._send(server, mail, left, trace)
            finally:
                server.close()
        except smtplib.SMTPServerDisconnected as error:
            # The library reports a timeout in the same way, and keeps the system's words.
            late = "timed out" in str(error)
            if "more than any answer" in str(error):
                raise DeliveryFailed(f"{settings.host} sends without end: is it a mail server?") from None
            said = f"said nothing within {settings.timeout_s:g} seconds" if late else "broke off the connection"
            raise DeliveryFailed(f"{settings.host} {said} in the middle of the conversation") from None
        except smtplib.SMTPResponseException as error:
            raise DeliveryFailed(f"{settings.host} refused: {_said(error.smtp_code, error.smtp_error)}") from None
        except smtplib.SMTPException as error:
            raise DeliveryFailed(f"{settings.host}: {clean(str(error), 200)}") from None
        except OSError as error:
            raise DeliveryFailed(f"{settings.host}: {network_problem(error, settings.timeout_s)}") from None

    def _signed_in(self, bounds: Bounds, trace: Trace) -> _Conversation:
        settings = self._settings
        password, token = (
            self._read_secret(reference, f"the {what} of channel {settings.name}") if reference else ""
            for what, reference in (("password", settings.password), ("token", settings.token))
        )
        context = tls_context(settings.trust, self._folder, bounds) if settings.security != "plain" else None
        line = connect(settings.host, settings.at_port, bounds, trace)
        if settings.security == "tls":
            assert context is not None
            line = secured(line, context, settings.host, settings.at_port, trace)
        server = _Conversation(line, settings.host, settings.timeout_s)
        try:
            server.greeted(settings.at_port)
            trace(f"{settings.host} greets: ready")
            server.ehlo_or_helo_if_needed()
            if settings.security == "starttls":
                assert context is not None
                self._start_tls(server, context, trace)
            if settings.user:
                self._sign_in(server, password, token, trace)
        except BaseException:
            server.close()
            raise
        return server

    def _start_tls(self, server: _Conversation, context: ssl.SSLContext, trace: Trace) -> None:
        host, port = self._settings.host, self._settings.at_port
        if not server.has_extn("starttls"):
            raise DeliveryFailed(
                f"{host} does not offer STARTTLS at port {port}, so that mail and password could be read on the way: "
                'use port 465 with security = "tls"; only on a network of your own is security = "plain" an answer'
            )
        try:
            server.starttls(context=context)
        except OSError as error:
            raise DeliveryFailed(tls_problem(error, host, port)) from None
        trace(f"STARTTLS: the connection is secured, the certificate is that of {host}")
        server.ehlo()

    def _sign_in(self, server: _Conversation, password: str, token: str, trace: Trace) -> None:
        settings = self._settings
        if not server.has_extn("auth"):
            raise DeliveryFailed(
                f"{settings.host} takes no password at port {settings.at_port}: leave user and password out, or use "
                "the port for submission, 465 or 587"
            )
        try:
            if token:
                _sign_in_by_token(server, settings.user, token)
            else:
                server.login(settings.user, password)
        except smtplib.SMTPAuthenticationError as error:
            what = "token" if token else "password"
            advice = "a token lasts an hour or so: what renews it?" if token else _PASSWORD_ADVICE
            raise DeliveryFailed(
                f"{settings.host} does not accept the user {settings.user} with this {what} "
                f"({_said(error.smtp_code, error.smtp_error)}); {advice}",
                wait_s=_AFTER_WRONG_PASSWORD_S,
            ) from None
        except smtplib.SMTPNotSupportedError:
            raise DeliveryFailed(
                f"{settings.host} offers no way to sign in that we know (PLAIN, LOGIN, CRAM-MD5): {_PASSWORD_ADVICE}",
                wait_s=_AFTER_WRONG_PASSWORD_S,
            ) from None
        except UnicodeEncodeError:
            raise DeliveryFailed("user and password have to be ASCII for this server", wait_s=60) from None
        trace(f"signed in as {settings.user}")

    def _send(self, server: smtplib.SMTP, mail: EmailMessage, to: list[str], trace: Trace) -> None:
        settings = self._settings
        try:
            refused = server.send_message(mail, settings.sender, to)
        except smtplib.SMTPSenderRefused as error:
            raise _refused(f"the sender {settings.sender}", error.smtp_code, error.smtp_error, settings.host) from None
        except smtplib.SMTPRecipientsRefused as error:
            later = {each: said for each, said in error.recipients.items() if said[0] < 500}
            address, (code, said) = next(iter((later or error.recipients).items()))
            raise _refused(f"the recipient {address}", code, said, settings.host) from None
        except smtplib.SMTPDataError as error:
            raise _refused("the message", error.smtp_code, error.smtp_error, settings.host) from None
        taken = [each for each in to if each not in refused]
        trace(f"{settings.host} has taken the mail for {', '.join(taken)}")
        with suppress(smtplib.SMTPException, OSError):  # it has been taken: an error while closing does not matter
            server.quit()
        if refused:  # recipients that have it do not get it again; the others are tried alone
            later = {each: said for each, said in refused.items() if said[0] < 500}
            address, (code, said) = next(iter((later or refused).items()))
            failure = _refused(f"the recipient {address}", code, said, settings.host)
            others = f"; {', '.join(taken)} has it" if len(taken) == 1 else f"; {len(taken)} others have it"
            raise DeliveryFailed(f"{failure}{others}", permanent=not later, reached=tuple(taken))


class _Conversation(smtplib.SMTP):
    """SMTP over a connection that is open already."""

    def __init__(self, line: socket.socket, host: str, timeout_s: float) -> None:
        super().__init__(timeout=timeout_s, local_hostname=_own_name())
        self._host = host  # STARTTLS compares the certificate with this name
        self.sock = line
        self.file = None

    def greeted(self, port: int) -> None:
        """Wait for the server's greeting. Raises DeliveryFailed."""
        try:
            code, said = self.getreply()
        except TimeoutError:
            raise DeliveryFailed(
                f"{self._host} says nothing at port {port}: is it the port for tls from the first byte (465)?"
            ) from None
        if code != 220:
            raise DeliveryFailed(f"{self._host} does not want to talk to this machine: {_said(code, said)}")


def _own_name() -> str:
    """Return the name in our greeting: the machine's name if it is valid, else an address literal (RFC 5321, 4.1.3)."""
    name = socket.gethostname()
    return name if "." in name and name.isascii() and " " not in name else "[127.0.0.1]"


def _sign_in_by_token(server: smtplib.SMTP, user: str, token: str) -> None:
    """Sign in by OAUTHBEARER (RFC 7628), or by the older XOAUTH2 if only that is offered."""
    offered = server.esmtp_features.get("auth", "").upper().split()
    if "OAUTHBEARER" in offered:
        name, words = "OAUTHBEARER", f"n,a={user},\x01auth=Bearer {token}\x01\x01"
    else:
        name, words = "XOAUTH2", f"user={user}\x01auth=Bearer {token}\x01\x01"
    code, said = server.docmd("AUTH", f"{name} {base64.b64encode(words.encode()).decode()}")
    if code == 334:  # the reason comes as a challenge, to be answered before the refusal (RFC 7628, 3.2.3)
        code, said = server.docmd(base64.b64encode(b"\x01").decode())
    if code != 235:
        raise smtplib.SMTPAuthenticationError(code, said)


def _said(code: int, text: bytes | str) -> str:
    words = text.decode("utf-8", "replace") if isinstance(text, bytes) else text
    return f"{code} {clean(words, 200)}"


def _refused(what: str, code: int, text: bytes | str, host: str) -> DeliveryFailed:
    if code in _GREYLISTED:
        return DeliveryFailed(
            f"{host} does not take {what} just now ({_said(code, text)}): many servers turn a new sender away for some "
            "minutes (greylisting) or have too much to do; it is tried again"
        )
    advice = "is it the account's own address?" if "sender" in what else "is it spelt right?" if "rec" in what else ""
    return DeliveryFailed(f"{host} refuses {what}: {_said(code, text)}; {advice}".rstrip("; "), permanent=True)


def composed(message: Message, sender: str, to: tuple[str, ...], folder: Path) -> EmailMessage:
    """Return the mail. The standard library sets every header, and refuses line ends in them."""
    from scopion.alerts.html_templates import html_of

    domain = sender.rpartition("@")[2]
    mail = EmailMessage()
    mail["Subject"] = clean(message.subject)
    mail["From"] = sender
    mail["To"] = ", ".join(to)
    mail["Date"] = localtime()  # of the sending: people look for a late mail among today's
    mail["Message-ID"] = f"<{message.identity}@{domain}>"
    # All messages about one device answer one that does not exist: mail programs show them together.
    if message.thread:
        root = f"<{message.thread}.{_token(message.site)}@{domain}>"
        mail["In-Reply-To"] = root
        mail["References"] = root
    mail["Auto-Submitted"] = "auto-generated"  # RFC 3834: no vacation notice answers it
    if message.severity is Severity.HIGH:
        mail["Importance"] = "high"
    mail.set_content(f"{message.text}\n\n-- \n{message.site}, by scopion\n")
    mail.add_alternative(html_of(message), subtype="html")
    if message.page:
        with suppress(OSError):  # the page was removed: the message says what matters
            page = (folder / message.page).read_text(encoding="utf-8")
            mail.add_attachment(page, subtype="html", filename=Path(message.page).name)
    return mail


def _token(text: str) -> str:
    return "".join(character for character in text.casefold() if character.isascii() and character.isalnum()) or "site"
