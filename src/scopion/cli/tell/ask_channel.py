"""Asks for a channel in the words that people use, and tries it: shared by ``alerts add`` and ``setup``."""

from __future__ import annotations

import shlex
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import click

from scopion.cli.parts.session import Session, shell_word
from scopion.cli.parts.terminal import prompt
from scopion.model.errors import ScopionError
from scopion.operations.notify.set_channels import NewChannel, free_name

# What people call it, what it does, and the name that it gets.
KINDS = {
    "mail": ("a mail, by a server that takes it from you", "mail"),
    "chat": ("a chat service that takes an HTTP POST", "chat"),
    "push": ("a push service for telephones that takes an HTTP POST", "push"),
    "log": ("a syslog receiver", "log"),
    "mqtt": ("a document at an MQTT broker, for home automation and scripts", "mqtt"),
    "desktop": ("a notification, where scopion watch runs in your session", "screen"),
    "sound": ("a short tone, where scopion watch runs in your session", "sound"),
    "bell": ("the bell of the terminal in which scopion watch runs", "bell"),
    "program": ("a program of yours, with the alert as JSON on its standard input", "program"),
    "file": ("a line of JSON for each alert", "file"),
}
_CHAT_BODY = '{"text": {{ (subject ~ "\\n\\n" ~ text)|tojson }}}'
_PUSH_BODY = "{{ subject }}\n\n{{ text }}"
_TLS_PORT = 465  # the port of mail that is encrypted from its first octet (RFC 8314, 7.3)
_REFERENCES = ("env:", "file:", "credential:")


@dataclass(frozen=True, slots=True)
class ChannelOptions:
    """What was given instead of being asked; empty: it is asked, or left at its default."""

    name: str = ""
    to: tuple[str, ...] = ()
    sender: str = ""
    server: str = ""
    security: str = ""
    user: str = ""
    password: str = ""  # where it is: env:NAME, file:PATH, credential:NAME
    url: str = ""
    path: str = ""
    program: str = ""
    more: tuple[str, ...] = ()  # KEY=VALUE


def ask_channel(session: Session, kind: str, given: ChannelOptions, taken: Sequence[str]) -> NewChannel:
    """Return a channel of a kind; what is not given is asked in a terminal. Raises UsageError without one."""
    ask = _Asking(session, given)
    values, secrets, type_name = dict[str, Any](), dict[str, tuple[str, str]](), kind
    name = given.name or free_name(KINDS[kind][1], taken)
    if kind == "mail":
        type_name = "email"
        values, secrets = _mail(ask, given, name)
    elif kind in ("chat", "push"):
        type_name = "webhook"
        url = ask.text(given.url, "--url", "Its address (https://...)")
        if url.startswith(_REFERENCES):
            values = {"url_secret": url}
        else:
            secrets = {"url_secret": (f"{name}-url", url)}
        values["body"] = _CHAT_BODY if kind == "chat" else _PUSH_BODY
        values["content_type"] = None if kind == "chat" else "text/plain; charset=utf-8"
    elif kind == "log":
        type_name = "syslog"
        host, port = _host(ask.text(given.server, "--server", "On which machine? (name or address, or with :port)"))
        values = {"host": host, "port": port, "transport": given.security or None}
    elif kind == "mqtt":
        values, secrets = _mqtt(ask, given, name)
    elif kind == "program":
        type_name = "command"
        words = shlex.split(ask.text(given.program, "--program", "Which program, with its arguments?"))
        values = {"command": [_whole_path(words[0]), *words[1:]]} if words else {}
    elif kind == "file":
        values = {"path": given.path or "alerts.jsonl"}
    return NewChannel(type_name, name, {**values, **_more(given.more)}, secrets)


def _mail(ask: _Asking, given: ChannelOptions, name: str) -> tuple[dict[str, Any], dict[str, tuple[str, str]]]:
    to = list(given.to) or [ask.text("", "--to", "To which address?")]
    domain = to[0].rpartition("@")[2]
    host, port = _host(ask.text(given.server, "--server", "By which server? (name, or name:port)", f"smtp.{domain}"))
    security = given.security or ("tls" if port == _TLS_PORT else "starttls")
    values: dict[str, Any] = {
        "to": to, "sender": given.sender or to[0], "host": host, "port": port, "security": security,
    }  # fmt: skip
    return _account(ask, given, name, values, to[0])


def _mqtt(ask: _Asking, given: ChannelOptions, name: str) -> tuple[dict[str, Any], dict[str, tuple[str, str]]]:
    host, port = _host(ask.text(given.server, "--server", "At which broker? (name or address, or with :port)"))
    topic = next(iter(given.to), "") or ask.text("", "--to", "On which topic?", "scopion/alerts")
    plain = given.security == "plain"
    values = {"host": host, "port": port or (1883 if plain else None), "tls": False if plain else None, "topic": topic}
    return _account(ask, given, name, values, "-")


def _account(
    ask: _Asking, given: ChannelOptions, name: str, values: dict[str, Any], proposed: str
) -> tuple[dict[str, Any], dict[str, tuple[str, str]]]:
    """Return the settings with the user and the password at a server, if it has any."""
    user = ask.text(given.user, "--user", "As which user? (- for none)", proposed)
    if user == "-":
        return values, {}
    values = {**values, "user": user}
    if given.password:
        return {**values, "password": given.password}, {}
    return values, {
        "password": (f"{name}-password", ask.secret("--password", "Its password (kept in a file of its own)"))
    }


class _Asking:
    """Asks for what was not given, if there is a person."""

    def __init__(self, session: Session, given: ChannelOptions) -> None:
        self._session, self._given = session, given

    def text(self, given: str, option: str, question: str, proposed: str | None = None) -> str:
        """Return a text: given, asked for, or proposed where no person can be asked."""
        if given:
            return given
        self._require(option)
        return str(prompt(question, default=proposed)).strip()

    def secret(self, option: str, question: str) -> str:
        """Return a secret that is typed and not shown."""
        self._require(option)
        return str(prompt(question, hide_input=True))

    def _require(self, option: str) -> None:
        if not self._session.can_ask:
            raise click.UsageError(f"{option} is needed, because there is no terminal to ask at")


def _host(text: str) -> tuple[str, int | None]:
    """Return a host and its port, if one was written behind it."""
    host, _, port = text.rpartition(":") if text.count(":") == 1 else (text, "", "")
    return (host, int(port)) if port.isdecimal() else (text, None)


def _whole_path(program: str) -> str:
    """Return where a program is: the watch may have another search path."""
    return shutil.which(program) or program


def _more(settings: Sequence[str]) -> dict[str, Any]:
    """Return settings that were written as KEY=VALUE; a number stays one."""
    found: dict[str, Any] = {}
    for each in settings:
        key, equals, text = each.partition("=")
        if not equals or not key.strip().isidentifier():
            raise click.UsageError(f"{each!r} is no setting: write --set KEY=VALUE, as in scopion's docs/settings.md")
        plain = text.strip()
        found[key.strip()] = float(plain) if plain.replace(".", "", 1).isdecimal() else plain
    return found


def try_channel(session: Session, name: str) -> bool:
    """Send a test and print each step; a failure is said. Returns whether it works."""
    from scopion.operations.notify.manage_alerts import test_channel

    session.note(f"\nA test by {name}:")
    try:
        test_channel(session.site, name, lambda step: session.note(f"  {step}"))
    except ScopionError as problem:
        session.note(f"  {problem}")
        session.note(f"It does not work yet: correct it in site.toml, then try scopion alerts test {shell_word(name)}")
        return False
    session.note("It works: look whether the test has arrived.")
    return True


def tell_learning(session: Session) -> None:
    """Say that alerts of devices that join wait a day, and how to end that; nothing if no subnet is being learnt."""
    from scopion.operations.notify.manage_alerts import learning_subnets

    learnt = learning_subnets(session.site) if session.site.settings.channel else []
    if learnt:
        until = session.site.clock.local(max(each.until for each in learnt))
        names = ", ".join(each.name for each in learnt)
        session.note(
            f"{names}: being learnt until {until:%A %d %B, %H:%M}, so that what joins is told once a day. "
            "scopion alerts learning --end ends that."
        )
