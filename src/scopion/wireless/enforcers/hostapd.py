"""The access point daemon hostapd, through its control sockets: one for each radio's BSS.

What is known of its lists (2.10): a station on the accept list may associate, then a station on the deny list may not,
in every mode; the mode (macaddr_acl) can be set and not be read. Adding to the deny list, and removing from the accept
list while that is in force, disconnects at once; setting the mode disconnects no station. A disconnected station stays
in the table for some seconds without its flags. A reply has 4096 octets, and a longer list is cut silently: 141 entries
are all that can be read back.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import partial
from types import MappingProxyType

from scopion.attachment.ports import (
    CHANGED,
    NO_FILE,
    Control,
    EveryStation,
    Job,
    Ran,
    ReadFile,
    ReadLog,
    Shell,
    WriteFile,
)
from scopion.model.errors import EnforcerUnreachable, InvalidMacAddress, Refused, ScopionError
from scopion.model.mac import MacAddress
from scopion.model.text import clean, lines_of, whole_number
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcer_settings import HostapdRadio, HostapdSettings
from scopion.wireless.enforcers.enforcer import (
    Act,
    Effect,
    Held,
    ListStep,
    RadioReading,
    RadioStep,
    Readings,
    ShellEnforcer,
    Station,
    Traits,
)
from scopion.wireless.refused_attempts import WORDS, counted_in_log

_OK = "OK"
_QUESTIONS = 4  # of each radio
_MOST_COUNTED = 2**63 - 1  # what SQLite and JSON readers take
_LONGEST_S = 10 * 366 * 86_400  # no station is associated for longer
_ACL = {ListMode.ALLOW: "ACCEPT_ACL", ListMode.DENY: "DENY_ACL"}
_MODE = {ListMode.OFF: "0", ListMode.DENY: "0", ListMode.ALLOW: "1"}
_IN_ITS_LOG = "hostapd writes it to its log only if it was started with -d"
_WHILE_LISTENED = "it is heard while the watch runs"
Attempts = Mapping[str, Mapping[MacAddress, int]]  # by interface, how often each device was turned away
_LINK = re.compile(r"(?:peer_addr\[\d+\]|link_addr)$")


class Hostapd(ShellEnforcer):
    """Implements ``Enforcer``."""

    def __init__(self, settings: HostapdSettings, open_shell: Callable[[], Shell]) -> None:
        super().__init__(open_shell)
        self.name = settings.name
        self.ssid = settings.network
        self.capacity = settings.holds
        radios = settings.radio.values()
        lost = ""
        if not all(each.accept_file and each.deny_file for each in radios):
            lost = "its lists are gone when it restarts or reads its files again: accept_file and deny_file keep them"
        elif not all(each.config for each in radios):
            lost = "after a restart its mode is that of its configuration file: config lets it be written there, too"
        self._far = not settings.is_here
        self.traits = Traits(
            Effect.REFUSES,
            reads_mode=False,
            survives=lost,
            attempts_need=_IN_ITS_LOG if self._far else _WHILE_LISTENED,
        )
        self._radio: dict[str, HostapdRadio] = dict(settings.radio.items())
        self._files: dict[str, Ran] = {}  # as they were read last
        self._written: set[str] = set()  # files that we wrote, or may have written

    def read(self, *, files: bool = False, log: bool = False) -> Readings:
        """Ask each daemon for its state, both lists and all stations; the mode cannot be read."""
        named = self._named() if files else ()
        questions = self._questions()
        logged = [ReadLog(WORDS)] if log and self._far else []
        ran = self._shell.carry_out([*questions, *map(ReadFile, named), *logged])
        if files:
            self._files = dict(zip(named, ran[len(questions) : len(questions) + len(named)], strict=True))
        turned_away = counted_in_log(ran[-1].output.splitlines()) if logged else {}
        return self._readings(ran, turned_away)

    def take(self, steps: Sequence[RadioStep], begins: Callable[[RadioStep], None]) -> Readings:
        """Send a command for each step. The first that the daemon refuses is the last."""
        jobs: list[Job] = [Control(self._radio[each.radio].socket, _command(each.step), _OK) for each in steps]
        ran = self._shell.carry_out(
            [*jobs, *self._questions()], lambda number: begins(steps[number]) if number < len(steps) else None
        )
        for step, each in zip(steps, ran, strict=False):
            if each.code != 0:
                raise EnforcerUnreachable(f"{self._where(step.radio)}: {each.errors}")
            if each.output.strip() != _OK:
                raise EnforcerUnreachable(f"{self._where(step.radio)} did not {step.step}: {self._why(step, each)}")
        return self._readings(ran[len(steps) :])

    def _why(self, step: RadioStep, ran: Ran) -> str:
        reading = self.read()[step.radio] if step.step.act is Act.ADD else None
        if isinstance(reading, RadioReading) and reading.held.entries >= (self.capacity or 0):
            return "it is out of entries"
        return f"it answered {clean(ran.output.strip(), 60)!r}"

    def _questions(self) -> list[Job]:
        return [
            job
            for each in self._radio.values()
            for job in (
                Control(each.socket, "STATUS"),
                Control(each.socket, "ACCEPT_ACL SHOW"),
                Control(each.socket, "DENY_ACL SHOW"),
                EveryStation(each.socket),
            )
        ]

    def _readings(self, ran: Sequence[Ran], turned_away: Attempts = MappingProxyType({})) -> Readings:
        found: dict[str, RadioReading | ScopionError] = {}
        for number, radio in enumerate(self._radio):
            try:
                told = self._reading(radio, ran[number * _QUESTIONS : (number + 1) * _QUESTIONS])
                found[radio] = replace(told, attempts=turned_away.get(self._interface(radio), {}))
            except (EnforcerUnreachable, Refused) as error:
                found[radio] = error
        return found

    def _reading(self, radio: str, ran: Sequence[Ran]) -> RadioReading:
        """Return a radio. Raises EnforcerUnreachable, or Refused if it carries another network."""
        for each in ran:
            if each.code != 0:
                raise EnforcerUnreachable(each.errors)
        status, accept, deny, stations = (each.output for each in ran)
        self._check(radio, dict(_pairs(status)))
        held = Held(self._list(radio, ListMode.ALLOW, accept), self._list(radio, ListMode.DENY, deny), None)
        return RadioReading(self.name, radio, self.traits, self.capacity, held, self._stations(radio, stations))

    def _check(self, radio: str, status: Mapping[str, str]) -> None:
        """See that it is on the air with this network."""
        interface = self._interface(radio)
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

    def _list(self, radio: str, which: ListMode, reply: str) -> frozenset[MacAddress]:
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

    def _stations(self, radio: str, replies: str) -> tuple[Station, ...]:
        """Return the stations with their flags; a station that was just disconnected has none."""
        told: dict[MacAddress, list[str]] = {}
        lines: list[str] | None = None
        for line in replies.splitlines():
            if "=" in line and lines is not None:
                lines.append(line)
            elif line.strip():
                try:
                    lines = told.setdefault(MacAddress.parse(line.strip()), [])
                except InvalidMacAddress:
                    raise EnforcerUnreachable(f"{self._where(radio)}: {clean(line, 60)!r} is not a station") from None
        found = (read_station(mac, each) for mac, each in told.items())
        return tuple(each for each in found if each is not None)

    def others(self, radio: str) -> list[str]:
        """Return the SSIDs of the other BSS that the daemon carries on this radio."""
        status = dict(_pairs(self._ask(radio, "STATUS")))
        carried = [_plain_ssid(value) for key, value in status.items() if re.fullmatch(r"ssid\[\d+\]", key)]
        return [clean(each) for each in carried if each and each != self.ssid]

    def configuration(self, radio: str) -> dict[str, str]:
        """Return what it says of its encryption."""
        return dict(_pairs(self._ask(radio, "GET_CONFIG")))

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """Return the mode and group of a file."""
        return self._shell.mode_of(path)

    def keep(self, held: Mapping[str, Held]) -> None:
        """Write its accept, deny and configuration files, as far as the settings name them; other lines stay.

        If another program has changed one meanwhile, it is read and written once more. A file that cannot be read or
        written does not keep the others from it: it is told at the end.
        """
        problems: list[str] = []
        for last in (False, True):
            if not self._files.keys() >= set(self._named()):
                self.read(files=True)
            read, wanted = self._files, self._kept(held)
            problems = [read[path].errors for path in self._named(held) if read[path].code not in (0, NO_FILE)]
            changes = {path: text for path, text in wanted.items() if text != read[path].output}
            self._written |= changes.keys()  # from here on, even if it is interrupted
            jobs = [WriteFile(path, text, read[path].output) for path, text in changes.items()]
            failed = [each for each in (self._shell.carry_out(jobs) if jobs else ()) if each.code != 0]
            self._files = {}
            if last or not any(each.code == CHANGED for each in failed):
                problems += [each.errors for each in failed]
                break
        if problems:
            raise EnforcerUnreachable(f"{self.name}: {'; '.join(problems)}")

    def _kept(self, held: Mapping[str, Held]) -> dict[str, str]:
        """Return the text that each file should have, of those that could be read or are not there yet."""
        wanted: dict[str, str] = {}

        def change(path: str, changed: Callable[[str], str]) -> None:
            if path and self._files[path].code in (0, NO_FILE):  # a file may have several radios
                wanted[path] = changed(wanted.get(path, self._files[path].output))

        for radio, each in held.items():
            files = self._radio[radio]
            change(files.accept_file, partial(list_file, macs=each.allow))
            change(files.deny_file, partial(list_file, macs=each.deny))
            if files.accept_file and files.deny_file and each.mode is not None:
                interface, mode = files.socket.rpartition("/")[2], _MODE[each.mode]
                change(files.config, partial(with_mode, interface=interface, mode=mode))
        return wanted

    def files(self) -> Mapping[str, str | None]:
        """Return the accept, deny and configuration files that the settings name."""
        return {path: None if ran.code == NO_FILE else self._told(ran) for path, ran in self._files.items()}

    def put_back(self, files: Mapping[str, str | None]) -> None:
        """Write the files that we wrote, because the daemon reads them when it starts.

        A file that did not exist is emptied.
        """
        ours = [path for path in files if path in self._written]
        jobs: list[Job] = []
        for path, ran in zip(ours, self._shell.carry_out(list(map(ReadFile, ours))) if ours else (), strict=True):
            now, before = "" if ran.code == NO_FILE else self._told(ran), files[path] or ""
            if now != before:
                jobs.append(WriteFile(path, before, now))
        for ran in self._shell.carry_out(jobs) if jobs else ():
            self._told(ran)

    def _named(self, radios: Iterable[str] | None = None) -> tuple[str, ...]:
        """Return the files of some radios, or of all."""
        those = [self._radio[each] for each in (self._radio if radios is None else radios)]
        named = [path for each in those for path in (each.accept_file, each.deny_file, each.config)]
        return tuple(dict.fromkeys(filter(None, named)))

    def _ask(self, radio: str, command: str) -> str:
        (ran,) = self._shell.carry_out([Control(self._radio[radio].socket, command)])
        return self._told(ran)

    def _interface(self, radio: str) -> str:
        return self._radio[radio].socket.rpartition("/")[2]

    def _where(self, radio: str) -> str:
        return f"{self.name} ({radio} GHz)"


def _command(step: ListStep) -> str:
    if step.act is Act.MODE:
        assert step.mode is not None
        return f"SET macaddr_acl {_MODE[step.mode]}"
    if step.act is Act.DISCONNECT:
        return f"DEAUTHENTICATE {step.mac}"
    assert step.list is not None
    return f"{_ACL[step.list]} {'ADD_MAC' if step.act is Act.ADD else 'DEL_MAC'} {step.mac}"


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
