"""Mutated replies of daemons, programs and servers: an access point's, a firewall's, a mail and a web server's.

The clients of ours are the real ones; only the line under them is made up, and says what it likes.
"""

from __future__ import annotations

import http.client
import io
import json
import random
import smtplib
import sys
from collections.abc import Sequence
from typing import Any

from scopion.alerts.channels.channel import DeliveryFailed
from scopion.alerts.channels.email import _Conversation
from scopion.attachment.connect.bounded_connection import Bounds
from scopion.attachment.connect.one_by_one import OneByOne
from scopion.attachment.connect.web_client import BadAddress, HttpRequest, ask
from scopion.attachment.ports import Ran, Shell
from scopion.model.errors import ScopionError
from scopion.model.mac import MacAddress
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcer_settings import BridgePort, HostapdRadio, HostapdSettings, NftablesSettings
from scopion.wireless.enforcers.bridge import BridgeFirewall
from scopion.wireless.enforcers.enforcer import Act, Held, ListStep, RadioStep, whole
from scopion.wireless.enforcers.hostapd import Hostapd
from scopion.wireless.posture import of_hostapd
from tests.fuzz import damaged

_MAC = MacAddress.parse("10:c0:de:00:00:09")
_STATION = (
    b"10:c0:de:00:00:09\nflags=[AUTH][ASSOC][AUTHORIZED]\nconnected_time=120\nsignal=-61\nrx_bytes=100\ntx_bytes=90\n"
    b"peer_addr[0]=10:c0:de:00:00:0a\n"
)
_SAID = {
    "STATUS": b"state=ENABLED\nssid[0]=K\nbss[0]=wlan0\nchannel=36\n",
    "GET_CONFIG": b"bssid=10:c0:de:00:00:01\nssid=K\nwps_state=disabled\nwpa=2\nkey_mgmt=WPA-PSK SAE\n",
    "SHOW": b"10:c0:de:00:00:09 VLAN_ID=0\n10:c0:de:00:00:0a VLAN_ID=0\n",
    "STA": _STATION,
}


class Liar:
    """A control line, a shell, and a socket, each of which says a damaged form of what it should say."""

    def __init__(self, chance: random.Random) -> None:
        self.chance = chance
        self.said = b""
        self.remark = ""

    def _damaged(self, sample: bytes) -> str:
        self.said = damaged(sample, self.chance) if self.chance.random() < 0.9 else sample
        return self.said.decode("utf-8", "surrogateescape")

    def ask(self, command: str) -> str:
        return self._damaged(next((said for word, said in _SAID.items() if word in command), b"OK\n"))

    def run(self, command: Sequence[str], stdin: str = "") -> Ran:
        if command[0] == "ip":
            return Ran(0, self._damaged(b'[{"ifname": "wlan0", "master": "br0"}]'), "")
        return Ran(
            self.chance.choice((0, 0, 0, 1)), self._damaged(json.dumps(_TABLE).encode()), self._damaged(b"Error: x")
        )

    def read(self, path: str) -> str | None:
        return self._damaged(b"10:c0:de:00:00:09\n")

    def write(self, path: str, text: str) -> None:
        pass

    def log(self, words: Sequence[str]) -> str:
        return self._damaged(b"wlan0: Ignore Authentication frame from 10:c0:de:00:00:09 due to ACL reject\n")

    def shell(self) -> Shell:
        """What enforcers use."""
        return LyingShell(self)

    def mode_of(self, path: str) -> tuple[int, str] | None:
        return None

    def close(self) -> None:
        pass

    def makefile(self, *_: Any) -> io.BytesIO:
        return io.BytesIO(self.said)

    def sendall(self, *_: Any) -> None:
        pass


class LyingShell(OneByOne):
    """Does the jobs by what the liar says."""

    def __init__(self, liar: Liar) -> None:
        super().__init__(liar, lambda _: liar)

    def mode_of(self, path: str) -> tuple[int, str] | None:
        return None


_TABLE = {"nftables": [
    {"metainfo": {"version": "1.0.6"}}, {"table": {"family": "bridge", "name": "scopion_a", "handle": 1}},
    {"set": {"family": "bridge", "name": "deny_5", "table": "scopion_a", "type": "ether_addr", "handle": 2,
             "elem": [{"elem": {"val": "10:c0:de:00:00:09", "counter": {"packets": 3, "bytes": 90}}}]}},
    {"chain": {"family": "bridge", "table": "scopion_a", "name": "input", "handle": 3, "type": "filter",
    "hook": "input",
               "prio": -200, "policy": "accept"}},
    {"rule": {"family": "bridge", "table": "scopion_a", "chain": "input", "handle": 4, "expr": [{"drop": None}]}},
]}  # fmt: skip
_SMTP = b"220 mail ESMTP\r\n250-mail\r\n250-STARTTLS\r\n250-AUTH PLAIN LOGIN\r\n250 SIZE 1000\r\n250 ok\r\n354 go\r\n"
_HTTP = (
    b"HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 5\r\n\r\nhello",
    b"HTTP/1.1 503 Later\r\nRetry-After: 30\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nhello\r\n0\r\n\r\n",
    b"HTTP/1.1 100 Continue\r\n\r\nHTTP/1.0 204 No\r\nLocation: http://x/\r\n\r\n",
)


def attack(count: int, seed: int) -> dict[str, int]:
    """So many replies in all; how many each client got. Raises what none of them should raise."""
    chance = random.Random(seed)
    liar = Liar(chance)
    daemon = Hostapd(
        HostapdSettings(type="hostapd", name="a", network="K", radio={"5": HostapdRadio(socket="/run/hostapd/wlan0")}),
        liar.shell,
    )
    firewall = BridgeFirewall(
        NftablesSettings(type="nftables", name="a", network="K", radio={"5": BridgePort(interface="wlan0")}),
        liar.shell,
    )
    held, add = Held(frozenset(), frozenset([_MAC]), ListMode.DENY), ListStep(Act.ADD, ListMode.DENY, _MAC)

    def mail() -> None:
        liar.said = damaged(_SMTP, chance)
        server = _Conversation(liar, "mail", 1.0)  # type: ignore[arg-type]  # what it uses of a socket
        server.greeted(25)
        server.ehlo_or_helo_if_needed()
        server.has_extn("auth")
        server.sendmail("s@kilnhaven.example", ["o@kilnhaven.example"], b"x")

    def web() -> None:
        liar.said = damaged(chance.choice(_HTTP), chance)
        ask(HttpRequest("POST", "http://127.0.0.1/x", 4096, b"x"), Bounds(60), lambda *_: liar)  # type: ignore[arg-type]

    clients = {
        "hostapd: lists and stations": lambda: whole(daemon.read(files=True)),
        "hostapd: step": lambda: daemon.take([RadioStep("5", add)], lambda _: None),
        "hostapd: configuration": lambda: daemon.configuration("5"),
        "hostapd: judged": lambda: of_hostapd("a", liar.read("x") or "", "wlan0"),
        "hostapd: files": lambda: daemon.keep({"5": held}),
        "nft: list": lambda: whole(firewall.read()),
        "nft: step": lambda: firewall.take([RadioStep("5", ListStep(Act.REPLACE, held=held))], lambda _: None),
        "mail": mail,
        "web": web,
    }
    allowed = (ScopionError, DeliveryFailed, OSError, smtplib.SMTPException, http.client.HTTPException, BadAddress)
    tried: dict[str, int] = {}
    for number in range(count):
        name = list(clients)[number % len(clients)]
        try:
            clients[name]()
        except allowed:
            pass
        except BaseException:
            print(f"{name} breaks on {liar.said.hex()}", file=sys.stderr)
            raise
        tried[name] = tried.get(name, 0) + 1
    return tried
