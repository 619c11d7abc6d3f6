"""A document published at an MQTT 5 broker: the alert as JSON, which the broker has to confirm.

``id`` is the identity, by which a reader recognises a repetition.
"""

from __future__ import annotations

import json
from pathlib import Path

from scopion.alerts.alert_settings import MqttSettings
from scopion.alerts.channels.channel import DeliveryFailed, SecretReader, Trace
from scopion.alerts.channels.connect import require_allowed
from scopion.alerts.message import Message
from scopion.attachment.ports import BrokerAccess
from scopion.model.errors import InvalidSettings


class MqttChannel:
    """Publishes on one topic."""

    lasts_s = None

    def __init__(self, settings: MqttSettings, read_secret: SecretReader, folder: Path) -> None:
        self._settings, self._read_secret, self._folder = settings, read_secret, folder

    def deliver(self, message: Message, trace: Trace) -> None:
        """Publish the message; only the broker's confirmation counts. Raises DeliveryFailed."""
        from scopion.attachment.connect.mqtt_client import BrokerFailed, publish_once

        settings = self._settings
        require_allowed(settings.host)
        body = json.dumps(message.document(), ensure_ascii=False).encode()
        trace(f"publishing {len(body)} octets on {settings.topic} at {settings.host}, port {settings.port}")
        try:
            publish_once(self._access(), settings.topic, body, retain=settings.retain, within_s=settings.timeout_s)
        except BrokerFailed as error:
            raise DeliveryFailed(f"{settings.host}, port {settings.port}: {error}") from None
        except InvalidSettings as error:
            raise DeliveryFailed(str(error)) from None
        trace(f"{settings.host} has confirmed it")

    def _access(self) -> BrokerAccess:
        settings = self._settings
        what = f"the password of channel {settings.name}"
        password = self._read_secret(settings.password, what) if settings.password else ""
        return BrokerAccess.of(settings, self._folder, settings.user, password)
