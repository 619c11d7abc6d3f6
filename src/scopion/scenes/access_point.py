"""The made-up access point: it speaks hostapd's control dialect, and refuses and disconnects like a real one.

Hosts of the scene with radios are associated with the first radio that admits them; a host that all radios refuse is
not on the network. The lists are kept in the site's folder, so that a story goes on where it was.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from scopion.model.errors import EnforcerUnreachable, InvalidMacAddress
from scopion.model.mac import MacAddress
from scopion.roster.store.write_files import write_atomically
from scopion.scenes.scene import SceneAccessPoint, SceneHost
from scopion.scenes.scene_clock import SceneClock

FILE = "access-point.json"
_OK, _FAIL, _UNKNOWN = "OK\n", "FAIL\n", "UNKNOWN COMMAND\n"


@dataclass(slots=True)
class Bss:
    """One radio: its lists and its mode."""

    accept: list[MacAddress] = field(default_factory=list)
    deny: list[MacAddress] = field(default_factory=list)
    acl: int = 0  # macaddr_acl: 0 all but the denied, 1 only the accepted

    def admits(self, mac: MacAddress) -> bool:
        """Tell whether an address may associate: the accept list counts before the deny list."""
        return mac in self.accept or (mac not in self.deny and self.acl == 0)


class AccessPoint:
    """The access point of a scene at a moment of its story."""

    def __init__(self, described: SceneAccessPoint, clock: SceneClock, folder: Path | None = None) -> None:
        self.described = described
        self._clock = clock
        self._path = folder / FILE if folder is not None else None
        self._hosts: tuple[SceneHost, ...] = ()
        self._bss = {radio: Bss() for radio in described.sockets}
        self._where: dict[MacAddress, tuple[str, datetime]] = {}  # the radio of each host, and since when
        self._read()

    def look_after(self, hosts: tuple[SceneHost, ...]) -> None:
        """Take over the hosts of the scene."""
        self._hosts = tuple(host for host in hosts if host.radios)

    def admits(self, host: SceneHost) -> bool:
        """Tell whether a host can be on the network: by cable always, on the air if one of its radios admits it."""
        return not host.radios or self._radio_of(host) is not None

    def ask(self, path: str, command: str) -> str:
        """Return the reply to a command on a control socket. Raises EnforcerUnreachable if there is none."""
        radio = self._radio_at(path)
        word, _, rest = command.partition(" ")
        replies: dict[str, Callable[[], str]] = {
            "PING": lambda: "PONG\n",
            "STATUS": lambda: self._status(radio),
            "GET_CONFIG": lambda: self._configuration(radio),
            "SET": lambda: self._set(radio, rest),
            "GET": lambda: "2.10" if rest == "version" else _FAIL,
            "ACCEPT_ACL": lambda: self._acl(radio, self._bss[radio].accept, rest),
            "DENY_ACL": lambda: self._acl(radio, self._bss[radio].deny, rest),
            "DEAUTHENTICATE": lambda: self._disconnect(radio, rest),
            "DISASSOCIATE": lambda: self._disconnect(radio, rest),
            "STA-FIRST": lambda: self._station(radio, None),
            "STA-NEXT": lambda: self._station(radio, rest),
            "STA": lambda: self._one_station(radio, rest),
        }
        return replies[word]() if word in replies else _UNKNOWN

    def refusals(self, path: str) -> list[str]:
        """Return an event for each host that a radio turns away, because all of its radios do."""
        now, radio = self._clock.now(), self._radio_at(path)
        bss = self._bss[radio]
        return [
            f"<2>Ignore Authentication frame from {host.mac} due to ACL reject"
            for host in self._hosts
            if radio in host.radios
            and not bss.admits(host.mac)
            and any(period.holds(now) for period in host.periods)
            and self._radio_of(host) is None
        ]

    def _radio_at(self, path: str) -> str:
        radio = next((radio for radio, socket in self.described.sockets.items() if socket == path), None)
        if radio is None:
            raise EnforcerUnreachable(f"there is no control socket {path}: the made-up access point has other sockets")
        return radio

    def _status(self, radio: str) -> str:
        return (
            f"state=ENABLED\nfreq={self.described.frequency(radio)}\n"
            f"bss[0]={self.described.sockets[radio].rpartition('/')[2]}\n"
            f"ssid[0]={self.described.ssid}\nnum_sta[0]={len(self._associated(radio))}\n"
        )

    def _configuration(self, radio: str) -> str:
        return (
            f"bssid={self.described.bssid(radio)}\nssid={self.described.ssid}\nwps_state=disabled\nwpa=2\n"
            "key_mgmt=WPA-PSK\ngroup_cipher=CCMP\nrsn_pairwise_cipher=CCMP\n"
        )

    def _set(self, radio: str, rest: str) -> str:
        key, _, value = rest.partition(" ")
        if key != "macaddr_acl" or value not in ("0", "1"):
            return _FAIL
        self._bss[radio].acl = int(value)
        self._write()
        return _OK

    def _acl(self, radio: str, listed: list[MacAddress], rest: str) -> str:
        verb, _, text = rest.partition(" ")
        if verb == "SHOW":
            return "".join(f"{mac} VLAN_ID=0\n" for mac in sorted(listed))
        if verb == "CLEAR":
            listed.clear()
        elif verb in ("ADD_MAC", "DEL_MAC"):
            try:
                mac = MacAddress.parse(text.split(" ")[0])
            except InvalidMacAddress:
                return _FAIL
            bss = self._bss[radio]
            if verb == "ADD_MAC" and mac not in listed:
                if len(bss.accept) + len(bss.deny) >= self.described.room:
                    return _FAIL
                listed.append(mac)
            elif verb == "DEL_MAC" and mac in listed:
                listed.remove(mac)
            # What the daemon does then: all denied stations go, and those that are not accepted any more.
            gone = (
                bss.deny
                if listed is bss.deny
                else []
                if bss.acl == 0
                else [each for each in self._where if each not in bss.accept]
            )
            for each in gone:
                if self._where.get(each, ("",))[0] == radio:
                    del self._where[each]
        else:
            return _FAIL
        self._write()
        return _OK

    def _disconnect(self, radio: str, text: str) -> str:
        try:
            mac = MacAddress.parse(text)
        except InvalidMacAddress:
            return _FAIL
        if self._where.get(mac, ("",))[0] == radio:
            del self._where[mac]
            self._write()
        return _OK

    def _station(self, radio: str, after: str | None) -> str:
        here = self._associated(radio)
        if after is not None:
            macs = [str(host.mac) for host, _ in here]
            if after not in macs:
                return _FAIL
            here = here[macs.index(after) + 1 :]
        return self._told(*here[0]) if here else ""

    def _one_station(self, radio: str, text: str) -> str:
        found = [each for each in self._associated(radio) if str(each[0].mac) == text]
        return self._told(*found[0]) if found else _FAIL

    def _told(self, host: SceneHost, since: datetime) -> str:
        connected = int((self._clock.now() - since).total_seconds())
        # The same each time: by the address, and by how long the host has been here.
        weight = host.mac.octets[5] + 3
        return (
            f"{host.mac}\nflags=[AUTH][ASSOC][AUTHORIZED]\naid={host.mac.octets[5] % 64 + 1}\n"
            f"rx_bytes={connected * weight * 37}\ntx_bytes={connected * weight * 210}\n"
            f"signal={host.signal}\nconnected_time={connected}\n"
        )

    def _associated(self, radio: str) -> list[tuple[SceneHost, datetime]]:
        """Return the hosts on a radio now, in the order of their addresses, and since when."""
        now = self._clock.now()
        here = [host for host in self._hosts if any(period.holds(now) for period in host.periods)]
        found = [
            (host, max(self._where[host.mac][1], self._arrived(host)))
            for host in here
            if self._radio_of(host) == radio and host.mac in self._where
        ]
        return sorted(found, key=lambda each: each[0].mac)

    def _radio_of(self, host: SceneHost) -> str | None:
        """Return the radio of a host: the one before, else the first that admits it.

        Who is associated is not judged again, whatever the lists say by now: only a command disconnects.
        """
        known = self._where.get(host.mac)
        stayed = known is not None and known[1] >= self._arrived(host)
        if known is not None and (stayed or self._bss[known[0]].admits(host.mac)):
            return known[0]
        radio = next((each for each in host.radios if each in self._bss and self._bss[each].admits(host.mac)), None)
        if radio is None:
            self._where.pop(host.mac, None)
            return None
        since = self._arrived(host) if known is None else self._clock.now()
        self._where[host.mac] = (radio, since)
        return radio

    def _arrived(self, host: SceneHost) -> datetime:
        """Return since when a host is there: its period's beginning, its latest hours', or every third midnight."""
        now = self._clock.now()
        third = datetime.combine(date.fromordinal(now.toordinal() // 3 * 3), time.min, UTC)
        for period in host.periods:
            if period.holds(now):
                begins = [third, *([period.since] if period.since is not None else [])]
                begins += period.begins_on(now.date() - timedelta(days=1)) + period.begins_on(now.date())
                return max(at for at in begins if at <= now)
        return now

    def _read(self) -> None:
        if self._path is None or not self._path.exists():
            return
        kept: dict[str, Any] = json.loads(self._path.read_text(encoding="utf-8"))
        for radio, told in kept["radios"].items():
            if radio in self._bss:
                accept, deny = (list(map(MacAddress.parse, told[key])) for key in ("accept", "deny"))
                self._bss[radio] = Bss(accept, deny, told["acl"])
        self._where = {
            MacAddress.parse(mac): (radio, datetime.fromisoformat(since))
            for mac, (radio, since) in kept["associated"].items()
        }

    def _write(self) -> None:
        if self._path is None:
            return
        kept = {
            "radios": {
                radio: {"accept": list(map(str, bss.accept)), "deny": list(map(str, bss.deny)), "acl": bss.acl}
                for radio, bss in self._bss.items()
            },
            "associated": {str(mac): (radio, since.isoformat()) for mac, (radio, since) in self._where.items()},
        }
        write_atomically(self._path, (json.dumps(kept, indent=1) + "\n").encode())


class SceneControlLine:
    """Implements ``HearingLine`` for the made-up access point."""

    def __init__(self, access_point: AccessPoint, path: str) -> None:
        self._access_point, self._path, self.remark = access_point, path, ""
        self.ask("PING")

    def ask(self, command: str) -> str:
        """Return the reply at once."""
        return self._access_point.ask(self._path, command)

    def hear(self, until: float, take: Callable[[str], None]) -> None:
        """Hand over one attempt of each host that is refused just now: time does not pass."""
        for line in self._access_point.refusals(self._path):
            take(line)

    def close(self) -> None:
        """Do nothing: nothing is open."""
