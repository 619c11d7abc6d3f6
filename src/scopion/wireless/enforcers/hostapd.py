"""The access point daemon hostapd, through its control sockets: one for each radio's BSS.

What is known of its lists (2.10): a station on the accept list may associate, then a station on the deny list may not,
in every mode; the mode (macaddr_acl) can be set and not be read. Adding to the deny list, and removing from the accept
list while that is in force, disconnects at once; setting the mode disconnects no station. A disconnected station stays
in the table for some seconds without its flags. A reply has 4096 octets, and a longer list is cut silently: 141 entries
are all that can be read back.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress

from scopion.attachment.ports import ControlLine, Shell
from scopion.model.errors import EnforcerUnreachable, InvalidMacAddress, Refused
from scopion.model.mac import MacAddress
from scopion.model.text import clean, lines_of, whole_number
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcer_settings import HostapdRadio, HostapdSettings
from scopion.wireless.enforcers.enforcer import Act, Effect, Held, ListStep, ShellEnforcer, Station, Traits

# The standard's association identifiers end at 2007 (IEEE Std 802.11-2020, 9.4.1.8): more stations are no answer.
_MOST_STATIONS = 2007
_MOST_COUNTED = 2**63 - 1  # what SQLite and JSON readers take
_LONGEST_S = 10 * 366 * 86_400  # no station is associated for longer
_ACL = {ListMode.ALLOW: "ACCEPT_ACL", ListMode.DENY: "DENY_ACL"}
_MODE = {ListMode.OFF: "0", ListMode.DENY: "0", ListMode.ALLOW: "1"}
_LINK = re.compile(r"(?:peer_addr\[\d+\]|link_addr)$")


class Hostapd(ShellEnforcer):
    """Implements ``Enforcer``."""

    def __init__(
        self,
        settings: HostapdSettings,
        open_line: Callable[[str], ControlLine],
        open_shell: Callable[[], Shell],
    ) -> None:
        super().__init__(open_shell)
        self.name = settings.name
        self.ssid = settings.network
        self.capacity = settings.holds
        radios = settings.radio.values()
        lost = ""
        if not all(each.accept_file and each.deny_file for each in radios):
            lost = "its lists are gone when it restarts: accept_file and deny_file keep them"
        elif not all(each.config for each in radios):
            lost = "after a restart its mode is that of its configuration file: config lets it be written there, too"
        self.traits = Traits(
            Effect.REFUSES,
            reads_mode=False,
            survives=lost,
        )
        self._radio: dict[str, HostapdRadio] = dict(settings.radio.items())
        self._open_line = open_line
        self._lines: dict[str, ControlLine] = {}
        self._wrote = False

    def radios(self) -> tuple[str, ...]:
        """Return the radios that the settings name."""
        return tuple(self._radio)

    def check(self, radio: str) -> None:
        """See that it is on the air with this network."""
        status = self.status(radio)
        interface = self._radio[radio].socket.rpartition("/")[2]
        index = next((key[4:-1] for key, value in status.items() if key.startswith("bss[") and value == interface), "0")
        carried = _plain_ssid(status.get(f"ssid[{index}]", ""))
        if not carried and "state" not in status:
            raise EnforcerUnreachable(f"{self._where(radio)}: this is not a reply of an access point daemon")
        if carried != self.ssid:
            raise Refused(
                f"{self._where(radio)} carries {clean(carried)!r}, not {self.ssid!r}: mend [[enforcer]] "
                f"{self.name!r} in site.toml; nothing was changed"
            )
        if status.get("state") not in ("ENABLED", None):
            raise EnforcerUnreachable(f"{self._where(radio)} is not on the air: its state is {clean(status['state'])}")

    def status(self, radio: str) -> dict[str, str]:
        """Return what the daemon says of itself."""
        return dict(_pairs(self._ask(radio, "STATUS")))

    def others(self, radio: str) -> list[str]:
        """Return the SSIDs of the other BSS that the daemon carries on this radio."""
        status = self.status(radio)
        carried = [_plain_ssid(value) for key, value in status.items() if re.fullmatch(r"ssid\[\d+\]", key)]
        return [clean(each) for each in carried if each and each != self.ssid]

    def configuration(self, radio: str) -> dict[str, str]:
        """Return what it says of its encryption."""
        return dict(_pairs(self._ask(radio, "GET_CONFIG")))

    def held(self, radio: str) -> Held:
        """Return both lists; the mode cannot be read."""
        return Held(self._list(radio, ListMode.ALLOW), self._list(radio, ListMode.DENY), None)

    def take(self, radio: str, step: ListStep) -> None:
        """Send one command. Raises EnforcerUnreachable if the daemon refuses it."""
        if step.act is Act.MODE:
            assert step.mode is not None
            command = f"SET macaddr_acl {_MODE[step.mode]}"
        elif step.act is Act.DISCONNECT:
            command = f"DEAUTHENTICATE {step.mac}"
        else:
            assert step.list is not None
            command = f"{_ACL[step.list]} {'ADD_MAC' if step.act is Act.ADD else 'DEL_MAC'} {step.mac}"
        reply = self._ask(radio, command).strip()
        if reply != "OK":
            full = step.act is Act.ADD and self.held(radio).entries >= (self.capacity or 0)
            why = "it is out of entries" if full else f"it answered {clean(reply, 60)!r}"
            raise EnforcerUnreachable(f"{self._where(radio)} did not {step}: {why}")

    def keep(self, radio: str, held: Held) -> None:
        """Write its accept, deny and configuration files, as far as the settings name them; other lines stay."""
        files = self._radio[radio]
        if files.accept_file:
            self._rewrite(files.accept_file, lambda text: list_file(text, held.allow))
        if files.deny_file:
            self._rewrite(files.deny_file, lambda text: list_file(text, held.deny))
        if files.accept_file and files.deny_file and files.config and held.mode is not None:
            interface, mode = files.socket.rpartition("/")[2], _MODE[held.mode]
            self._rewrite(files.config, lambda text: with_mode(text, interface, mode))

    def files(self) -> Mapping[str, str | None]:
        """Return the accept, deny and configuration files that the settings name."""
        named = [path for each in self._radio.values() for path in (each.accept_file, each.deny_file, each.config)]
        return {path: self._shell.read(path) for path in dict.fromkeys(filter(None, named))}

    def put_back(self, files: Mapping[str, str | None]) -> None:
        """Write the files, because the daemon reads them when it starts. A file that did not exist is emptied."""
        for path, before in files.items() if self._wrote else ():
            now = self._shell.read(path)
            if now != before and (before is not None or now):
                self._write(path, before or "")

    def stations(self, radio: str) -> Sequence[Station]:
        """Return the stations with their flags; a station that was just disconnected has none."""
        found: list[Station] = []
        seen: set[MacAddress] = set()
        reply = self._ask(radio, "STA-FIRST")
        while len(seen) < _MOST_STATIONS:
            first, *rest = reply.strip().splitlines() or [""]
            try:
                mac = MacAddress.parse(first)
            except InvalidMacAddress:
                if first and first != "FAIL":
                    raise EnforcerUnreachable(f"{self._where(radio)}: {clean(first, 60)!r} is not a station") from None
                break
            if mac in seen:  # a daemon that repeats itself would be asked for ever
                break
            seen.add(mac)
            station = read_station(mac, rest)
            if station is not None:
                found.append(station)
            reply = self._ask(radio, f"STA-NEXT {mac}")
        return found

    def close(self) -> None:
        """Close every line, and the shell for the files."""
        for line in self._lines.values():
            line.close()
        self._lines.clear()
        super().close()

    def read_file(self, path: str) -> str | None:
        """Return a file of the access point, for the audit."""
        return self._shell.read(path)

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """Return the mode and group of a file."""
        return self._shell.mode_of(path)

    def _list(self, radio: str, which: ListMode) -> frozenset[MacAddress]:
        reply = self._ask(radio, f"{_ACL[which]} SHOW")
        found = set()
        for line in reply.splitlines():
            word = line.split(" ")[0]
            if word:
                try:
                    found.add(MacAddress.parse(word))
                except InvalidMacAddress:
                    raise EnforcerUnreachable(
                        f"{self._where(radio)} answers {clean(line, 60)!r} for its {which} list"
                    ) from None
        return frozenset(found)

    def _ask(self, radio: str, command: str) -> str:
        line = self._lines.get(radio)
        if line is None:
            line = self._lines[radio] = self._open_line(self._radio[radio].socket)
        answered = False
        try:
            reply = line.ask(command)
            answered = True
            return reply
        finally:
            if not answered:
                # Also after an interrupt: a late reply would be taken for that to the next command.
                line.close()
                self._lines.pop(radio, None)

    def _rewrite(self, path: str, change: Callable[[str], str]) -> None:
        shell = self._shell
        before = shell.read(path) or ""
        after = change(before)
        if after != before:
            self._write(path, after)

    def _write(self, path: str, text: str) -> None:
        """Write a file, and read it again: the disk of a small machine may have been full."""
        self._wrote = True  # from here on, even if it is interrupted
        shell = self._shell
        shell.write(path, text)
        if shell.read(path) != text:
            raise EnforcerUnreachable(f"{self.name}: {path} does not hold what was written into it")
        shell.settle(path)

    def _where(self, radio: str) -> str:
        return f"{self.name} ({radio} GHz)"


def read_station(mac: MacAddress, lines: Sequence[str]) -> Station | None:
    """Return a station from the lines of its reply; None for one that is not associated any more."""
    told = dict(_pairs("\n".join(lines)))
    flags = told.get("flags", "")
    if "[ASSOC]" not in flags and "[AUTHORIZED]" not in flags:
        return None
    links = []
    for key, value in told.items():
        if _LINK.match(key) or key == "mld_addr":
            with suppress(InvalidMacAddress):
                links.append(MacAddress.parse(value))
    return Station(
        mac,
        authorized="[AUTHORIZED]" in flags,
        signal=whole_number(told.get("signal"), 200),  # dBm
        connected_s=_since(told.get("connected_time")),
        received=whole_number(told.get("rx_bytes"), _MOST_COUNTED),
        sent=whole_number(told.get("tx_bytes"), _MOST_COUNTED),
        links=tuple(dict.fromkeys(each for each in links if each != mac)),
    )


def _since(text: str | None) -> int | None:
    """Return for how many seconds; a daemon whose clock was set tells nonsense, which would lie before all time."""
    seconds = whole_number(text, _LONGEST_S)
    return seconds if seconds is None or seconds >= 0 else None


def list_file(before: str, macs: frozenset[MacAddress]) -> str:
    """Return an accept or deny file with these addresses: lines that stay are kept as they are, comments too."""
    kept, present = [], set()
    for line in lines_of(before):
        word = line.split("#")[0].split()
        try:
            mac = MacAddress.parse(word[0]) if word else None
        except InvalidMacAddress:
            mac = None  # no address, so it is not ours
        if mac is None or mac in macs:
            kept.append(line)
            present.add(mac)
    kept += [str(mac) for mac in sorted(macs - present)]
    return "".join(line if line.endswith("\n") else f"{line}\n" for line in kept)


def with_mode(text: str, interface: str, mode: str) -> str:
    """Return a configuration file with another ``macaddr_acl`` for the BSS on an interface; every other line stays."""
    lines = lines_of(text)
    at, insert = None, None
    current = ""
    for number, line in enumerate(lines):
        key, mark, value = line.strip().partition("=")
        if mark and key in ("interface", "bss"):
            current = value
        if mark and current == interface:
            insert = number + 1
            at = number if key == "macaddr_acl" else at
    written = f"macaddr_acl={mode}\n"
    if at is not None:
        lines[at] = written
    elif insert is not None:
        if not lines[insert - 1].endswith("\n"):
            lines[insert - 1] += "\n"
        lines.insert(insert, written)
    return "".join(lines)


def _pairs(reply: str) -> Iterator[tuple[str, str]]:
    for line in reply.splitlines():
        key, mark, value = line.partition("=")
        if mark:
            yield key.strip(), value.strip()


def _plain_ssid(text: str) -> str:
    r"""Return an SSID as it is: the daemon escapes unprintable octets as ``\xc3`` and the like."""
    octets = bytearray()
    at = 0
    while at < len(text):
        if text[at] == "\\" and at + 1 < len(text):
            escaped = text[at + 1]
            if escaped == "x" and re.fullmatch(r"[0-9a-fA-F]{2}", text[at + 2 : at + 4]):
                octets.append(int(text[at + 2 : at + 4], 16))
                at += 4
                continue
            octets += {"n": b"\n", "r": b"\r", "t": b"\t", "e": b"\x1b"}.get(
                escaped, escaped.encode("utf-8", "surrogateescape")
            )
            at += 2
            continue
        octets += text[at].encode("utf-8", "surrogateescape")  # over SSH, octets that are no UTF-8 come like this
        at += 1
    return octets.decode(errors="replace")
