"""The library's client with one limit more: a broker that announces a larger packet than any of ours is left.

MQTT 5 lets a client say how much it takes (3.1.2.11.4), and a broker that is in other hands need not heed that: the
library would make room for up to 268 MB at once.
"""

from __future__ import annotations

from paho.mqtt.client import Client
from paho.mqtt.enums import MQTTErrorCode

LARGEST = 1 << 20  # octets


class LimitedClient(Client):
    """Ends the connection by which more comes."""

    def _sock_recv(self, bufsize: int) -> bytes:
        if bufsize > LARGEST:  # asked for in one piece, once its length is known
            raise ConnectionError(f"a packet of {bufsize} octets is announced")
        return super()._sock_recv(bufsize)

    def _packet_read(self) -> MQTTErrorCode:
        told = super()._packet_read()
        return MQTTErrorCode.MQTT_ERR_PROTOCOL if self._in_packet["remaining_length"] > LARGEST else told
