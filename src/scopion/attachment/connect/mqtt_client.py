"""MQTT 5 by a maintained library: a client for an account, its connection, and what went wrong in plain words."""

from __future__ import annotations

import ssl
import threading
import time
from pathlib import Path
from typing import Any

from scopion.attachment.connect.connection_words import network_problem, tls_problem
from scopion.attachment.connect.trusted import present_itself, trusting
from scopion.attachment.live_lock import require_unlocked_towards
from scopion.attachment.ports import BrokerAccess
from scopion.model.errors import place_of
from scopion.model.text import clean

# A line that is dead is noticed after one and a half times this.
_KEEP_ALIVE_S = 20
# The broker sends so many documents before the first of them is acknowledged: that bounds our memory.
RECEIVE_AT_ONCE = 64


class BrokerFailed(Exception):
    """The broker could not be reached, or refuses something; the text says why, and what to look at."""


def new_client(access: BrokerAccess, name: str, within_s: float) -> Any:
    """Return a client; ``name`` is that of its session. Raises LiveNetworkLocked, InvalidSettings."""
    from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion

    from scopion.attachment.connect.limited_mqtt import LimitedClient  # only where a broker is in use

    require_unlocked_towards(access.host)
    made: Any = LimitedClient(
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

    from scopion.attachment.connect.limited_mqtt import LARGEST

    properties: Any = Properties(PacketTypes.CONNECT)  # type: ignore[no-untyped-call]
    properties.SessionExpiryInterval = session_s
    properties.ReceiveMaximum = RECEIVE_AT_ONCE
    properties.MaximumPacketSize = LARGEST  # the broker drops what is larger
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
    """Connect, publish one document, wait until the broker has it, and leave; all of it within a time.

    Raises BrokerFailed, LiveNetworkLocked, InvalidSettings.
    """
    once = _Once(access, topic, octets, retain=retain, within_s=within_s)
    # The library looks names up and shakes hands without a deadline for both.
    publishing = threading.Thread(target=once.run, name="scopion-publish", daemon=True)
    publishing.start()
    publishing.join(within_s)
    once.ends_at = 0.0  # nothing is published any more
    if once.problem is not None:
        raise once.problem
    if not once.is_published:
        raise BrokerFailed(f"no answer within {within_s:g} seconds: does a firewall drop it, or is it the wrong port?")


class _Once:
    """One document on its way, in a thread of its own."""

    def __init__(self, access: BrokerAccess, topic: str, octets: bytes, *, retain: bool, within_s: float) -> None:
        self._access, self._topic, self._octets, self._retain = access, topic, octets, retain
        self._within_s = within_s
        self.ends_at = time.monotonic() + within_s
        self.is_published = False
        self.problem: Exception | None = None
        self._said: dict[str, Any] = {}
        self._client = new_client(access, "", within_s)

    def run(self) -> None:
        """Publish it, and keep why that failed."""
        client, said = self._client, self._said
        client.on_connect = lambda client, data, flags, reason, properties: said.setdefault("connected", reason)
        client.on_publish = lambda client, data, number, reason, properties: said.setdefault("published", reason)
        client.on_disconnect = lambda client, data, flags, reason, properties: said.setdefault("ended", reason)
        try:
            open_connection(client, self._access, self._within_s)
            answer = self._awaited("connected")
            if answer.is_failure:
                raise BrokerFailed(refusal(str(answer)))
            client.publish(self._topic, self._octets, qos=1, retain=self._retain)
            answer = self._awaited("published")
            if answer.is_failure:
                raise BrokerFailed(may_not("write", str(answer)))
            self.is_published = True
            client.disconnect()
            client.loop(0.1)
        except BrokerFailed as error:
            self.problem = error
        except Exception as error:  # the library's, for what no broker sends
            self.problem = BrokerFailed(f"unexpected: {place_of(error)}")
        finally:
            line = client.socket()
            if line is not None:
                line.close()

    def _awaited(self, what: str) -> Any:
        """Return what the broker answers. Raises BrokerFailed if it does not in time."""
        while what not in self._said:
            left = self.ends_at - time.monotonic()
            if left <= 0:
                raise BrokerFailed(f"no answer within {self._within_s:g} seconds")
            if self._client.loop(min(left, 1.0)) != 0 and what not in self._said:
                ended = self._said.get("ended")
                if ended is None or "protocol" in str(ended).casefold():
                    raise BrokerFailed("this is no answer of a broker that speaks MQTT 5: is it the right port?")
                raise BrokerFailed(f"the broker ended the connection ({clean(str(ended), 80).lower()})")
        return self._said[what]
