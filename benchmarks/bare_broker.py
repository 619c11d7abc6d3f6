"""The floor of what goes through a broker: a bare program that answers each batch with a note, and keeps nothing."""

from __future__ import annotations

import json
import ssl
import sys
from typing import Any

from paho.mqtt.client import Client
from paho.mqtt.enums import CallbackAPIVersion, MQTTProtocolVersion


def main() -> None:
    """Answer until it is ended. Arguments: host, port, certificate to trust, user, password, what topics begin with."""
    host, port, trust, user, password, begins = sys.argv[1:]
    client = Client(CallbackAPIVersion.VERSION2, protocol=MQTTProtocolVersion.MQTTv5)
    client.username_pw_set(user, password)
    client.tls_set_context(ssl.create_default_context(cafile=trust))

    def answer(client: Client, _: Any, message: Any) -> None:
        batch = json.loads(message.payload)
        note = {"form": "folded/1", "life": batch["life"], "number": batch["number"]}
        client.publish(f"{begins}/folded/{batch['sensor']}", json.dumps(note), qos=1, retain=True)

    def begin(client: Client, *_: Any) -> None:
        client.subscribe(f"{begins}/sensor/+/batch", 1)

    client.on_message, client.on_connect = answer, begin
    client.connect(host, int(port))
    client.loop_forever()


if __name__ == "__main__":
    main()
