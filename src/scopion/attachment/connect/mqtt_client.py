"""MQTT 5 by a maintained library: a client for an account, its connection, and what went wrong in plain words."""

from __future__ import annotations

import ssl
import time
from pathlib import Path
from typing import Any

from scopion.attachment.connect.connection_words import network_problem, tls_problem
from scopion.attachment.connect.trusted import present_itself, trusting
from scopion.attachment.live_lock import require_unlocked_towards
from scopion.attachment.ports import BrokerAccess
from scopion.model.text import clean

# A line that is dead is noticed after one and a half times this.
_KEEP_ALIVE_S = 20
# The broker sends so many documents before the first of them is acknowledged: that bounds our memory.
RECEIVE_AT_ONCE = 64
_LARGEST = 1 << 20  # octets; the broker drops what is larger


class BrokerFailed(Exception):
    """The broker could not be reached, or refuses something; the text says why, and what to look at."""


def new_client(access: BrokerAccess, name: str, within_s: float) -> Any:
    """Return a client; ``name`` is that of its session. Raises LiveNetworkLocked, InvalidSettings."""
    from paho.mqtt import client as paho  # only where a broker is in use
    from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

    require_unlocked_towards(access.host)
    made: Any = paho.Client(
        CallbackAPIVersion.VERSION2, client_id=name, protocol=MQTTProtocolVersion.MQTTv5, manual_ack=True,
        reconnect_on_failure=False,
    )  # fmt: skip
    made.connect_timeout = within_s
    if access.user:
        made.username_pw_set(access.user, access.password)
    if access.tls:
        context = trusting(Path(access.trust) if access.trust else None)
        if access.certificate:
            present_itself(context, Path(access.certificate), Path(access.key) if access.key else None)
        made.tls_set_context(context)
    # Then the library writes in the thread only that calls its loop: two that use one TLS connection corrupt memory.
    made.on_socket_register_write = lambda *_: None
    return made


def open_connection(client: Any, access: BrokerAccess, within_s: float, session_s: int = 0) -> None:
    """Connect; the broker's answer comes while its loop is called. Raises BrokerFailed.

    ``session_s``: for how long the broker keeps what comes after the connection has ended.
    """
    from paho.mqtt.packettypes import PacketTypes
    from paho.mqtt.properties import Properties

    properties: Any = Properties(PacketTypes.CONNECT)  # type: ignore[no-untyped-call]
    properties.SessionExpiryInterval = session_s
    properties.ReceiveMaximum = RECEIVE_AT_ONCE
    properties.MaximumPacketSize = _LARGEST
    try:
        client.connect(access.host, access.port, _KEEP_ALIVE_S, clean_start=not session_s, properties=properties)
    except ssl.SSLError as error:
        raise BrokerFailed(tls_problem(error, access.host, access.port, otherwise="one without TLS")) from None
    except OSError as error:
        raise BrokerFailed(network_problem(error, within_s)) from None
    except ValueError as error:
        raise BrokerFailed(clean(str(error), 120)) from None


def refusal(reason: str) -> str:
    """Return why the broker refused us, and what to look at."""
    said = clean(reason, 80)
    if "authori" in said.casefold() or "password" in said.casefold():
        return f"the broker refuses this account ({said.lower()}): see its password file and its access control"
    return f"the broker refuses the connection ({said.lower()})"


def may_not(what: str, reason: str) -> str:
    """Return that an account may not do something at the broker."""
    return f"the broker does not let this account {what} here ({clean(reason, 80).lower()}): see its access control"


def publish_once(access: BrokerAccess, topic: str, octets: bytes, *, retain: bool, within_s: float) -> None:
    """Connect, publish one document, wait until the broker has it, and leave.

    Raises BrokerFailed, LiveNetworkLocked, InvalidSettings.
    """
    client = new_client(access, "", within_s)
    said: dict[str, Any] = {}
    client.on_connect = lambda client, data, flags, reason, properties: said.setdefault("connected", reason)
    client.on_publish = lambda client, data, number, reason, properties: said.setdefault("published", reason)
    client.on_disconnect = lambda client, data, flags, reason, properties: said.setdefault("ended", reason)
    end = time.monotonic() + within_s
    try:
        open_connection(client, access, within_s)
        answer = _awaited(client, said, "connected", end)
        if answer.is_failure:
            raise BrokerFailed(refusal(str(answer)))
        client.publish(topic, octets, qos=1, retain=retain)
        answer = _awaited(client, said, "published", end)
        if answer.is_failure:
            raise BrokerFailed(may_not("write", str(answer)))
        client.disconnect()
        client.loop(0.1)
    finally:
        line = client.socket()
        if line is not None:
            line.close()


def _awaited(client: Any, said: dict[str, Any], what: str, end: float) -> Any:
    """Return what the broker answers. Raises BrokerFailed if it does not in time."""
    while what not in said:
        left = end - time.monotonic()
        if left <= 0:
            raise BrokerFailed("the broker did not answer in time")
        if client.loop(min(left, 1.0)) != 0 and what not in said:
            ended = said.get("ended")
            raise BrokerFailed("the broker ended the connection" if ended is None else _ended(ended))
    return said[what]


def _ended(reason: Any) -> str:
    return f"the broker ended the connection ({clean(str(reason), 80).lower()})"
