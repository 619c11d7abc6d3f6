"""A notification on the user's desktop, through the common interface org.freedesktop.Notifications."""

from __future__ import annotations

import os
from html import escape

from scopion.alerts.channels.channel import DeliveryFailed, Trace
from scopion.alerts.message import Message
from scopion.model.alert import Severity

_URGENCY = {Severity.LOW: 0, Severity.NORMAL: 1, Severity.HIGH: 2}
_TIMEOUT_S = 5.0
_SHOWN = 400


class DesktopChannel:
    """Uses the notification service of the session in which the site is watched."""

    lasts_s: float | None = 3600.0

    def deliver(self, message: Message, trace: Trace) -> None:
        """Show the message. Raises DeliveryFailed."""
        from jeepney import DBusAddress, DBusErrorResponse, MessageType, new_method_call
        from jeepney.io.blocking import open_dbus_connection

        if not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
            raise DeliveryFailed(
                "there is no desktop session here (DBUS_SESSION_BUS_ADDRESS is not set): a service cannot show "
                "anything on a desktop, run scopion watch in the session instead"
            )
        service = DBusAddress(
            "/org/freedesktop/Notifications", "org.freedesktop.Notifications", "org.freedesktop.Notifications"
        )
        body = escape("\n".join(message.paragraphs or message.items)[:_SHOWN])
        hints = {"urgency": ("y", _URGENCY[message.severity]), "category": ("s", "network")}
        call = new_method_call(
            service, "Notify", "susssasa{sv}i", ("Scopion", 0, "", message.subject, body, [], hints, -1)
        )
        try:
            with open_dbus_connection() as bus:
                trace("connected to the session's bus")
                answer = bus.send_and_get_reply(call, timeout=_TIMEOUT_S)
        except (OSError, TimeoutError, DBusErrorResponse, ValueError, KeyError) as error:
            raise DeliveryFailed(f"the desktop session cannot be reached: {error}") from None
        if answer.header.message_type is MessageType.error:
            raise DeliveryFailed("the desktop shows no notifications: no notification service runs in the session")
        trace("the desktop has taken the notification")
