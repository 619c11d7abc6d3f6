"""What ``site.toml`` says of alerts: times, rules and channels, as plain frozen values.

They are read and checked together with the other settings, in ``operations/site/load_settings.py``. Settings never hold
a secret, only where it is.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import field
from typing import Annotated, Literal

from annotated_types import Ge, Le, MaxLen, MinLen, Predicate

from scopion.model.alert import Severity
from scopion.model.broker_keys import BrokerKeys
from scopion.model.device import EventKind, Standing
from scopion.model.errors import UsageError
from scopion.model.secret import Secret
from scopion.model.settings_table import settings_table
from scopion.model.week import Week, parse_time

Port = Annotated[int, Ge(1), Le(65_535)]
Name = Annotated[str, MinLen(1), MaxLen(40), Predicate(lambda text: re.fullmatch(r"[\w.-]+", text) is not None)]
# One address, without a name, and nothing by which a header or a command of SMTP could be continued.
MailAddress = Annotated[
    str, Predicate(lambda text: re.fullmatch(r"[^\s<>,;:\"()\\]+@[^\s<>,;:\"()\\@]+", text) is not None)
]
Timeout = Annotated[float, Ge(1), Le(300)]


def _are_hours(text: str) -> bool:
    try:
        return not text or bool(Week.parse(text))
    except UsageError:
        return False


def _is_time(text: str) -> bool:
    try:
        return parse_time(text) is not None
    except ValueError:
        return False


Hours = Annotated[str, Predicate(_are_hours)]


@settings_table
class AlertSettings:
    """When alerts are sent, whatever they are about."""

    # after a subnet's baseline: devices that join are told once a day
    learning_days: Annotated[float, Ge(0), Le(365)] = 7
    digest_at: Annotated[str, Predicate(_is_time)] = "08:00"  # when that is told
    night: Hours = ""  # alerts below high severity wait for the end of these hours
    # the same event of the same device is not told again sooner
    cool_down_s: Annotated[float, Ge(0), Le(7 * 86_400)] = 1800
    burst: Annotated[int, Ge(1), Le(1000)] = 5  # more alerts than this to a channel...
    burst_s: Annotated[float, Ge(1), Le(86_400)] = 600  # ...within this time become one
    keep_days: Annotated[int, Ge(1), Le(36_500)] = 90  # ended alerts stay in the list
    give_up_days: Annotated[float, Ge(0.01), Le(60)] = 5  # how long a delivery is tried


@settings_table
class RuleSettings:
    """Which events go to which channels. An empty setting fits all; the first rule that fits a channel counts."""

    channels: Annotated[tuple[Name, ...], MaxLen(64)] = ()  # empty: all of them
    events: Annotated[tuple[EventKind, ...], MaxLen(32)] = ()
    standings: Annotated[tuple[Standing, ...], MaxLen(8)] = ()
    kinds: Annotated[tuple[str, ...], MaxLen(64)] = ()  # of devices: camera, phone...
    subnets: Annotated[tuple[str, ...], MaxLen(64)] = ()  # ranges, or names of site.toml
    places: Annotated[tuple[str, ...], MaxLen(64)] = ()
    devices: Annotated[tuple[str, ...], MaxLen(64)] = ()  # labels or MACs
    hours: Hours = ""  # on the site's clock, as "mon-fri 08:00-18:00"
    severity: Severity | None = None  # None: by the kind of event
    silent: bool = False  # fitting events are not told to these channels
    # an alert of high severity is told again so often until someone has seen it; None: once
    repeat_s: Annotated[float, Ge(300), Le(86_400)] | None = None
    repeat_times: Annotated[int, Ge(1), Le(24)] = 6  # at most
    second: Name | None = None  # a channel that gets such an alert if this one fails, or if it is not seen...
    second_after_s: Annotated[float, Ge(60), Le(86_400)] = 900  # ...for so long


@settings_table
class ChannelSettings:
    """What the settings of every channel have; each type adds its own."""

    type: str
    name: Name


@settings_table
class BellSettings(ChannelSettings):
    """The bell of the terminal in which ``scopion watch`` runs."""

    type: Literal["bell"]


@settings_table
class DesktopSettings(ChannelSettings):
    """A notification on the desktop of the user who runs ``scopion watch``."""

    type: Literal["desktop"]


@settings_table
class SoundSettings(ChannelSettings):
    """A short tone on the desktop where ``scopion watch`` runs, another for each severity; else the bell."""

    type: Literal["sound"]


@settings_table
class EmailSettings(ChannelSettings):
    """E-mail through a server that takes it from us (RFC 6409)."""

    type: Literal["email"]
    to: Annotated[tuple[MailAddress, ...], MinLen(1), MaxLen(20)]
    sender: MailAddress
    host: Annotated[str, MinLen(1), MaxLen(253)]
    port: Port | None = None  # None: 465 with tls, 587 with starttls, 25 with plain
    security: Literal["tls", "starttls", "plain"] = "starttls"
    user: Annotated[str, MaxLen(255)] = ""
    password: Secret = ""
    token: Secret = ""  # an OAuth bearer token (RFC 7628) in place of a password
    trust: Annotated[str, MaxLen(4096)] = ""  # a file with certificates to trust in place of the system's
    timeout_s: Timeout = 30  # for the whole delivery, even if the other side answers slowly

    @property
    def at_port(self) -> int:
        """Return the port, by default that of the security."""
        return self.port or {"tls": 465, "starttls": 587, "plain": 25}[self.security]


@settings_table
class WebhookSettings(ChannelSettings):
    """An HTTP POST, which any chat or push service can take."""

    type: Literal["webhook"]
    url: Annotated[str, MaxLen(2048)] | None = None
    url_secret: Secret = ""  # where the address itself is the secret
    body: Annotated[str, MaxLen(20_000)] = ""  # a Jinja2 template; empty: the event as JSON
    content_type: Annotated[str, MaxLen(100), Predicate(lambda text: text.isascii() and text.isprintable())] = (
        "application/json"
    )
    headers: dict[str, Secret] = field(default_factory=dict)  # such as Authorization; their values are secrets
    key: Secret = ""  # signs the body: HMAC-SHA256 in Scopion-Signature
    trust: Annotated[str, MaxLen(4096)] = ""
    timeout_s: Timeout = 15  # for the whole delivery, even if the other side answers slowly


@settings_table
class SyslogSettings(ChannelSettings):
    """A syslog receiver (RFC 5424)."""

    type: Literal["syslog"]
    host: Annotated[str, MinLen(1), MaxLen(253)]
    transport: Literal["udp", "tcp", "tls"] = "udp"
    port: Port | None = None  # None: 514, with tls 6514 (RFC 5425)
    facility: Annotated[int, Ge(0), Le(23)] = 10  # security messages (RFC 5424, 6.2.1)
    trust: Annotated[str, MaxLen(4096)] = ""
    timeout_s: Timeout = 10  # for the whole delivery, even if the other side answers slowly

    @property
    def at_port(self) -> int:
        """Return the port, by default the assigned one."""
        return self.port or (6514 if self.transport == "tls" else 514)


# No wildcard of a subscription, nor a topic of the broker's own (MQTT 5, 4.7).
Topic = Annotated[str, MaxLen(200), Predicate(lambda text: re.fullmatch(r"[^\s#+$\0][^#+\0\r\n]*", text) is not None)]


@settings_table
class MqttSettings(ChannelSettings, BrokerKeys):
    """A document at an MQTT 5 broker."""

    type: Literal["mqtt"]
    topic: Topic
    retain: bool = False  # the broker keeps the last one for who comes later
    timeout_s: Timeout = 15  # for the whole delivery, even if the other side answers slowly


@settings_table
class CommandSettings(ChannelSettings):
    """A program of yours; it gets the event as JSON on standard input."""

    type: Literal["command"]
    command: Annotated[tuple[str, ...], MinLen(1), MaxLen(64)]  # the program and its arguments; no shell
    timeout_s: Timeout = 30  # for the whole delivery, even if the other side answers slowly


@settings_table
class FileSettings(ChannelSettings):
    """A file to which one line of JSON is added for each event."""

    type: Literal["file"]
    path: Annotated[str, MinLen(1), MaxLen(4096)]  # relative to the site's folder


# Without any channel the person at the terminal is told.
TERMINAL = BellSettings(type="bell", name="terminal")


def unknown_channel(channels: Sequence[ChannelSettings], named: Sequence[str], what: str, *also: str) -> str:
    """Return a sentence about a channel that is named and does not exist; empty if all exist."""
    names = [each.name for each in channels]
    unknown = [name for name in named if name not in (*names, *also)]
    if not unknown:
        return ""
    known = f"there are {', '.join(names)}" if names else "there is none"
    return f"{what} goes to channel {unknown[0]!r}, which does not exist: {known}"
