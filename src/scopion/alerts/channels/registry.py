"""The types of channels. One entry says all that the rest of the program asks about a type.

A new type is a settings class, a channel and an entry here: ``docs/extending.md`` has one from beginning to end. What
an entry needs of a channel's own file is imported when it is opened. Nothing is connected, and no secret read, before
there is something to deliver.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from scopion.alerts.alert_settings import (
    BellSettings,
    ChannelSettings,
    CommandSettings,
    DesktopSettings,
    EmailSettings,
    FileSettings,
    MqttSettings,
    SoundSettings,
    SyslogSettings,
    WebhookSettings,
)

if TYPE_CHECKING:
    from scopion.alerts.channels.channel import Channel, SecretReader


def _nothing(settings: Any) -> Sequence[str]:
    return ()


def _fits(settings: Any) -> str:
    return ""


@dataclass(frozen=True, slots=True)
class ChannelType:
    """One type of channel. The callables are given the settings of one channel of this type."""

    name: str  # ``type`` in site.toml
    settings: type  # the dataclass that its table in site.toml is read into
    open: Callable[[Any, SecretReader, Path], Channel]  # with the site's folder
    lacks: Callable[[Any], str] = _fits  # what does not fit together, after "channel 'name'"; empty: all fits
    secrets: Callable[[Any], Sequence[str]] = _nothing  # the references to secrets among the settings
    writes: Callable[[Any], Sequence[str]] = _nothing  # files that it writes; relative: the site's folder
    runs: Callable[[Any], Sequence[str]] = _nothing  # programs of this machine that it runs
    needs_session: bool = False  # only within a person's session, not from a service
    carries_page: bool = False  # the weekly report goes by it unless settings say otherwise


_TYPES: dict[str, ChannelType] = {}


def register(entry: ChannelType) -> None:
    """Add a type, before the settings of a site are first read."""
    _TYPES[entry.name] = entry


def channel_types() -> tuple[ChannelType, ...]:
    """All types."""
    return tuple(_TYPES.values())


def type_of(settings: ChannelSettings) -> ChannelType:
    """The entry of a channel's type. Settings of a type that has no entry cannot be read at all."""
    return _TYPES[settings.type]


def open_channel(settings: ChannelSettings, read_secret: SecretReader, folder: Path) -> Channel:
    """The channel that settings describe; ``folder`` is the site's."""
    return type_of(settings).open(settings, read_secret, folder)


def _open_bell(settings: BellSettings, read_secret: SecretReader, folder: Path) -> Channel:
    from scopion.alerts.channels.bell import BellChannel

    return BellChannel()


def _open_desktop(settings: DesktopSettings, read_secret: SecretReader, folder: Path) -> Channel:
    from scopion.alerts.channels.desktop import DesktopChannel

    return DesktopChannel()


def _open_sound(settings: SoundSettings, read_secret: SecretReader, folder: Path) -> Channel:
    from scopion.alerts.channels.sound import SoundChannel

    return SoundChannel(folder)


def _open_email(settings: EmailSettings, read_secret: SecretReader, folder: Path) -> Channel:
    from scopion.alerts.channels.email import EmailChannel

    return EmailChannel(settings, read_secret, folder)


def _email_lacks(settings: EmailSettings) -> str:
    if settings.password and settings.token:
        return "has a password and a token: a server takes one of them"
    if bool(settings.user) != bool(settings.password or settings.token):
        return "needs a user together with a password or a token"
    return ""


def _open_webhook(settings: WebhookSettings, read_secret: SecretReader, folder: Path) -> Channel:
    from scopion.alerts.channels.webhook import WebhookChannel

    return WebhookChannel(settings, read_secret, folder)


def _webhook_lacks(settings: WebhookSettings) -> str:
    if bool(settings.url) == bool(settings.url_secret):
        return "needs a url, or a url_secret that says where the address is kept"
    if settings.url and not settings.url.startswith(("https://", "http://")):
        return "has a url that begins neither with https:// nor with http://"
    return ""


def _open_syslog(settings: SyslogSettings, read_secret: SecretReader, folder: Path) -> Channel:
    from scopion.alerts.channels.syslog import SyslogChannel

    return SyslogChannel(settings, folder)


def _open_mqtt(settings: MqttSettings, read_secret: SecretReader, folder: Path) -> Channel:
    from scopion.alerts.channels.mqtt import MqttChannel

    return MqttChannel(settings, read_secret, folder)


def _mqtt_lacks(settings: MqttSettings) -> str:
    if settings.password and not settings.user:
        return "has a password and no user"
    return "has a key and no certificate" if settings.key and not settings.certificate else ""


def _open_command(settings: CommandSettings, read_secret: SecretReader, folder: Path) -> Channel:
    from scopion.alerts.channels.command import CommandChannel

    return CommandChannel(settings, folder)


def _open_file(settings: FileSettings, read_secret: SecretReader, folder: Path) -> Channel:
    from scopion.alerts.channels.file import FileChannel

    return FileChannel(settings, folder)


for _entry in (
    ChannelType("bell", BellSettings, _open_bell),
    ChannelType("desktop", DesktopSettings, _open_desktop, needs_session=True),
    ChannelType("sound", SoundSettings, _open_sound, needs_session=True),
    ChannelType(
        "email",
        EmailSettings,
        _open_email,
        lacks=_email_lacks,
        secrets=lambda settings: [settings.password, settings.token],
        carries_page=True,
    ),
    ChannelType(
        "webhook",
        WebhookSettings,
        _open_webhook,
        lacks=_webhook_lacks,
        secrets=lambda settings: [settings.url_secret, settings.key, *settings.headers.values()],
    ),
    ChannelType("syslog", SyslogSettings, _open_syslog),
    ChannelType("mqtt", MqttSettings, _open_mqtt, lacks=_mqtt_lacks, secrets=lambda settings: [settings.password]),
    ChannelType("command", CommandSettings, _open_command, runs=lambda settings: [settings.command[0]]),
    ChannelType("file", FileSettings, _open_file, writes=lambda settings: [settings.path]),
):
    register(_entry)
