"""Makes a channel from its settings. Nothing is connected and no secret read before there is something to deliver."""

from __future__ import annotations

from pathlib import Path

from scopion.alerts.alert_settings import (
    BellSettings,
    ChannelSettings,
    CommandSettings,
    DesktopSettings,
    EmailSettings,
    FileSettings,
    SyslogSettings,
)
from scopion.alerts.channels.channel import Channel, SecretReader


def open_channel(settings: ChannelSettings, read_secret: SecretReader, folder: Path) -> Channel:
    """The channel; what it needs is imported with it."""
    match settings:
        case BellSettings():
            from scopion.alerts.channels.bell import BellChannel

            return BellChannel()
        case DesktopSettings():
            from scopion.alerts.channels.desktop import DesktopChannel

            return DesktopChannel()
        case EmailSettings():
            from scopion.alerts.channels.email import EmailChannel

            return EmailChannel(settings, read_secret, folder)
        case SyslogSettings():
            from scopion.alerts.channels.syslog import SyslogChannel

            return SyslogChannel(settings, folder)
        case CommandSettings():
            from scopion.alerts.channels.command import CommandChannel

            return CommandChannel(settings, folder)
        case FileSettings():
            from scopion.alerts.channels.file import FileChannel

            return FileChannel(settings, folder)
        case _:
            from scopion.alerts.channels.webhook import WebhookChannel

            return WebhookChannel(settings, read_secret, folder)
