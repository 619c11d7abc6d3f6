"""Made-up access points that ask by RADIUS whether a station may associate, and are told to disconnect one.

They behave as hostapd does: a question for each association, a decision that is remembered for half a minute, sessions
that end when they are to, accounting. What they know is kept in the site's folder, so that a story goes on.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, Protocol

from scopion.model.errors import InvalidSettings, UsageError
from scopion.model.mac import MacAddress, Notation
from scopion.roster.store.write_files import write_atomically
from scopion.scenes.scene import SceneAskingPoint, SceneHost
from scopion.scenes.scene_clock import SceneClock
from scopion.wire.radius import Attributes, Code, RadiusMessage, decode_radius, encode_request
from scopion.wire.radius_ports import ACCOUNTING_PORT, AUTHENTICATION_PORT

FILE = "asking-points.json"
_REMEMBERS = timedelta(seconds=30)
_REPORTS = timedelta(minutes=5)
_NO_SUCH_SESSION = 503  # Error-Cause (RFC 5176, 3.5)
_START, _STOP, _INTERIM = 1, 2, 3  # Acct-Status-Type (RFC 2866, 5.1)


class RadiusServer(Protocol):
    """The server that made-up access points ask."""

    def answer(self, data: bytes, source: str, port: int) -> bytes | None:
        """Return the reply to a packet that came to a port, if there is one."""

    def orders(self) -> list[tuple[str, bytes]]:
        """Return requests to disconnect that are due, with the address of the access point that each is for."""

    def hear(self, data: bytes, source: str) -> None:
        """Take in the reply to such a request."""


@dataclass(frozen=True, slots=True)
class Decision:
    """What an access point was told about a station, and when."""

    at: datetime
    accepted: bool
    session_s: int = 0


@dataclass(frozen=True, slots=True)
class Association:
    """A station of an access point."""

    point: str
    number: str
    since: datetime
    until: datetime  # its session ends then
    reported: datetime


class AskingPoints:
    """All of a scene at a moment of its story."""

    def __init__(
        self,
        points: Sequence[SceneAskingPoint],
        clock: SceneClock,
        server: Callable[[], RadiusServer | None],
        folder: Path | None = None,
    ) -> None:
        """``server`` is asked for when there is a question; None: no server answers.

        The folder keeps what they know, and their secrets.
        """
        self._points = {each.name: each for each in points}
        self._clock, self._server, self._folder = clock, server, folder
        self._hosts: tuple[SceneHost, ...] = ()
        self._here: dict[MacAddress, Association] = {}
        self._decided: dict[tuple[str, MacAddress], Decision] = {}
        self._identifier = self._begun = 0
        self._looking = False
        self._read()

    def look_after(self, hosts: Sequence[SceneHost]) -> None:
        """Take over the hosts of the scene."""
        self._hosts = tuple(host for host in hosts if host.asks)

    def admits(self, host: SceneHost) -> bool:
        """Tell whether a host can be on the network, as far as these access points decide that."""
        if not host.asks:
            return True
        self.look()
        return host.mac in self._here

    def look(self) -> None:
        """Let everything happen that is due by now: orders, ends of sessions, questions, reports."""
        server = self._server() if not self._looking else None
        if server is None or not self._hosts:
            return
        self._looking = True  # the server may look at the network itself
        try:
            before = dict(self._here), dict(self._decided)
            for address, order in server.orders():
                self._obey(server, address, order)
            for host in self._hosts:
                self._look_at(server, host)
            if (self._here, self._decided) != before:
                self._write()
        finally:
            self._looking = False

    def _look_at(self, server: RadiusServer, host: SceneHost) -> None:
        now, known = self._clock.now(), self._here.get(host.mac)
        present = any(period.holds(now) for period in host.periods)
        if known is not None and (not present or known.until <= now):
            self._report(server, host.mac, known, _STOP)
            del self._here[host.mac]
            known = None
        if known is not None and now - known.reported >= _REPORTS:
            self._report(server, host.mac, known, _INTERIM)
            self._here[host.mac] = replace(known, reported=now)
        if known is None and present:
            for name in host.asks:
                decision = self._decision(server, self._points[name], host.mac)
                if decision.accepted:
                    until = now + timedelta(seconds=decision.session_s)
                    self._begun += 1
                    self._here[host.mac] = begun = Association(name, f"{name}-{self._begun}", now, until, now)
                    self._report(server, host.mac, begun, _START)
                    return

    def _decision(self, server: RadiusServer, point: SceneAskingPoint, mac: MacAddress) -> Decision:
        now = self._clock.now()
        remembered = self._decided.get((point.name, mac))
        if remembered is not None and now - remembered.at < _REMEMBERS:
            return remembered
        reply = self._asked(server, point, AUTHENTICATION_PORT, mac, {})
        accepted = reply is not None and reply.code == Code.ACCESS_ACCEPT
        seconds = (reply.number("Session-Timeout") if reply is not None else None) or 86_400
        found = Decision(now, accepted, seconds)
        if reply is not None:  # silence is not remembered
            self._decided[point.name, mac] = found
        return found

    def _report(self, server: RadiusServer, mac: MacAddress, association: Association, kind: int) -> None:
        lasted = int((self._clock.now() - association.since).total_seconds())
        weight = mac.octets[5] + 3  # the same each time: by the address, and by how long it has been here
        counts: Attributes = {
            "Acct-Status-Type": kind,
            "Acct-Session-Id": association.number,
            "Acct-Session-Time": lasted,
            "Acct-Input-Octets": lasted * weight * 37 % 2**32,
            "Acct-Output-Octets": lasted * weight * 210 % 2**32,
        }
        point = self._points[association.point]
        self._asked(server, point, ACCOUNTING_PORT, mac, counts)

    def _obey(self, server: RadiusServer, address: str, order: bytes) -> None:
        """Disconnect a station, and say so; or that there is none."""
        point = next((each for each in self._points.values() if each.address == address), None)
        if point is None:
            return
        message = decode_radius(order, self._secret(point))
        mac = MacAddress.parse(message.text("Calling-Station-Id"))
        known = self._here.get(mac)
        if known is None or known.point != point.name or not message.has_genuine_authenticator():
            server.hear(message.reply(Code.DISCONNECT_NAK, {"Error-Cause": _NO_SUCH_SESSION}), address)
            return
        server.hear(message.reply(Code.DISCONNECT_ACK, {}), address)
        self._report(server, mac, known, _STOP)
        del self._here[mac]

    def _asked(
        self, server: RadiusServer, point: SceneAskingPoint, port: int, mac: MacAddress, more: Attributes
    ) -> RadiusMessage | None:
        """Return the reply to a question, or to a report; None if there is none, or while no secret was entered."""
        secret = self._secret(point)
        if not secret:
            return None
        self._identifier = (self._identifier + 1) % 256
        attributes: Attributes = {
            "User-Name": mac.written(Notation.BARE),
            "Calling-Station-Id": mac.written(Notation.HYPHEN),
            "Called-Station-Id": f"{point.bssid.written(Notation.HYPHEN)}:{point.ssid}",
            "NAS-Identifier": f"{point.name}.kilnhaven.example",
            **more,
        }
        asks = port == AUTHENTICATION_PORT
        request = encode_request(
            Code.ACCESS_REQUEST if asks else Code.ACCOUNTING_REQUEST,
            secret,
            attributes,
            identifier=self._identifier,
            password=mac.written(Notation.BARE) if asks else None,
            signed=asks,
        )
        reply = server.answer(request.octets, point.address, port)
        return None if reply is None else request.read_reply(reply, signed=asks)

    def _secret(self, point: SceneAskingPoint) -> bytes:
        """Return the secret as it was entered in its page: the one that the site's folder keeps."""
        path = self._folder / f"{point.name}.secret" if self._folder is not None else None
        return path.read_bytes().strip() if path is not None and path.exists() else b""

    def _read(self) -> None:
        """Take over what was kept. Raises InvalidSettings if it is damaged."""
        path = self._folder / FILE if self._folder is not None else None
        if path is None or not path.exists():
            return
        moment = datetime.fromisoformat
        try:
            kept: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
            self._begun = int(kept["begun"])
            self._here = {
                MacAddress.parse(mac): Association(point, number, *map(moment, moments))
                for mac, point, number, *moments in kept["associated"]
            }
            self._decided = {
                (point, MacAddress.parse(mac)): Decision(moment(at), accepted, seconds)
                for point, mac, at, accepted, seconds in kept["decided"]
            }
        except (OSError, ValueError, KeyError, TypeError, UsageError) as error:
            raise InvalidSettings(f"{path} is damaged ({error}): start again with scopion demo --keep") from None

    def _write(self) -> None:
        if self._folder is None:
            return
        now = self._clock.now()
        kept = {
            "begun": self._begun,
            "associated": [
                [str(mac), each.point, each.number, *(at.isoformat() for at in (each.since, each.until, each.reported))]
                for mac, each in self._here.items()
            ],
            "decided": [
                [point, str(mac), each.at.isoformat(), each.accepted, each.session_s]
                for (point, mac), each in self._decided.items()
                if now - each.at < _REMEMBERS
            ],
        }
        write_atomically(self._folder / FILE, (json.dumps(kept, indent=1) + "\n").encode())
