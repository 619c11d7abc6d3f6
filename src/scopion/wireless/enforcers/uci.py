"""UCI wireless configuration, as router firmware keeps it: the list options of the right sections, all else unchanged.

A network is on a radio if a ``wifi-iface`` section has its SSID; the ``wifi-device`` that it names tells the band.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from scopion.attachment.ports import CHANGED, NO_FILE, Job, Program, Ran, ReadFile, Shell, WriteFile
from scopion.model.errors import EnforcerUnreachable, InvalidMacAddress, Refused, ScopionError
from scopion.model.mac import MacAddress
from scopion.model.text import clean, counted, lines_of, whole_number
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcer_settings import UciSettings
from scopion.wireless.enforcers.enforcer import (
    Act,
    Effect,
    Held,
    RadioReading,
    RadioStep,
    Readings,
    ShellEnforcer,
    Traits,
)

_MODES = {"": ListMode.OFF, "disable": ListMode.OFF, "allow": ListMode.ALLOW, "deny": ListMode.DENY}
_WORDS = {ListMode.OFF: "disable", ListMode.ALLOW: "allow", ListMode.DENY: "deny"}
_BANDS = {"2g": "2.4", "5g": "5", "6g": "6", "11g": "2.4", "11b": "2.4", "11ng": "2.4", "11bg": "2.4", "11a": "5"}
_BANDS |= {"11na": "5", "11ac": "5"}


@dataclass(slots=True)
class Section:
    """One section of a file, with the numbers of its lines."""

    type: str
    name: str
    begins: int
    ends: int  # the line after its last statement
    options: dict[str, str] = field(default_factory=dict)
    lists: dict[str, list[str]] = field(default_factory=dict)
    lines: dict[str, list[int]] = field(default_factory=dict)  # of each option or list


def sections(text: str) -> list[Section]:
    """Return the sections of a file, in their order; other lines are ignored."""
    found: list[Section] = []
    for number, line in enumerate(text.split("\n")):
        kind, *words = words_of(line) or [""]
        if kind not in ("config", "option", "list") or not words:
            continue
        if kind == "config":
            found.append(Section(words[0], words[1] if len(words) > 1 else "", number, number + 1))
        elif found and len(words) > 1:
            section, key, value = found[-1], words[0], words[1]
            section.ends = number + 1
            section.lines.setdefault(key, []).append(number)
            if kind == "list":
                section.lists.setdefault(key, []).append(value)
            else:
                section.options[key] = value
    return found


def words_of(line: str) -> list[str]:
    """Return the words of a line as UCI reads them: quoted in part or whole, a backslash before any character, a
    comment last.

    In single quotes every character is itself; a # begins a comment only where a word could begin.
    """
    words: list[str] = []
    word: str | None = None  # None: between words
    quote, escaped = "", False
    for each in line:
        if escaped:
            word, escaped = (word or "") + each, False
        elif each == "\\" and quote != "'":
            word, escaped = word or "", True
        elif quote:
            word, quote = (word, "") if each == quote else ((word or "") + each, quote)
        elif each in "'\"":
            word, quote = word or "", each
        elif each.isspace():
            words += [word] if word is not None else []
            word = None
        elif each == "#" and word is None:
            break
        else:
            word = (word or "") + each
    return [*words, word] if word is not None else words


def quoted(text: str) -> str:
    """Return a text as one word of UCI. Raises Refused for a line end, which no word can have."""
    if "\n" in text or "\r" in text or "\0" in text:
        raise Refused(f"{clean(text, 40)!r} has a line end, which no option of UCI can have")
    return "'" + text.replace("'", "'\\''") + "'"


class UciFile(ShellEnforcer):
    """Implements ``Enforcer``."""

    def __init__(self, settings: UciSettings, open_shell: Callable[[], Shell]) -> None:
        super().__init__(open_shell)
        self.name = settings.name
        self.ssid = settings.network
        self.capacity = settings.holds
        self.traits = Traits(Effect.REFUSES, reads_stations=False, atomic=True, one_list=True)
        self._settings = settings
        self._text: str | None = None  # the file, as it was read last
        self._wrote = False  # or may have written it
        self._dirty = self._reloaded = False

    def read(self, *, files: bool = False, log: bool = False) -> Readings:
        """Return what all radios of each band hold together: an entry that one of them lacks has no effect there."""
        (ran,) = self._shell.carry_out([ReadFile(self._settings.file)])
        return self._readings(ran)

    def take(self, steps: Sequence[RadioStep], begins: Callable[[RadioStep], None]) -> Readings:
        """Write the lists and modes into each section of the bands; nothing else changes by a byte."""
        before = self._read_text()
        text = before
        for each in steps:
            text = self._with_step(text, each)
        jobs: list[Job] = [WriteFile(self._settings.file, text, before)] if text != before else []

        def begun(number: int) -> None:
            if number == 0 and jobs:
                self._wrote = True
                for each in steps:
                    begins(each)

        ran = self._shell.carry_out([*jobs, ReadFile(self._settings.file)], begun)
        if jobs and ran[0].code == CHANGED:
            self._wrote = self._dirty  # nothing was written now: what another program did is not ours to put back
        self._told(ran[0])
        self._dirty = self._dirty or bool(jobs)
        return self._readings(ran[-1])

    def _with_step(self, text: str, each: RadioStep) -> str:
        step = each.step
        if step.act is not Act.REPLACE:
            return text
        assert step.held is not None
        mode = step.held.mode or ListMode.OFF
        macs = sorted(step.idle | (step.held.allow if mode is ListMode.ALLOW else step.held.deny))
        for number in range(len(self._sections(each.radio, text))):
            # Read again: the one before has added or removed lines.
            section = interfaces(text, self.ssid)[each.radio][number]
            text = with_list(text, section, _WORDS[mode], [str(mac) for mac in macs])
        return text

    def _readings(self, ran: Ran) -> Readings:
        self._text = None
        if ran.code == NO_FILE:
            raise EnforcerUnreachable(f"{self.name}: there is no file {self._settings.file}")
        self._text = text = self._told(ran)
        found: dict[str, RadioReading | ScopionError] = {}
        for radio, carrying in interfaces(text, self.ssid).items():
            try:
                held = self._held_by(carrying)
                found[radio] = RadioReading(self.name, radio, self.traits, self.capacity, held)
            except EnforcerUnreachable as error:
                found[radio] = error
        return found

    def _held_by(self, carrying: Sequence[Section]) -> Held:
        each_held = [self._held(section) for section in carrying]
        together = each_held[0]
        for each in each_held[1:]:
            together = common(together, each)
        if len(carrying) < 2:
            return together
        names = [clean(section.options.get("device", ""), 20) for section in carrying]
        said = [
            f"{name} {each.mode} with {counted(each.entries, 'entry', 'entries')}"
            for name, each in zip(names, each_held, strict=True)
        ]
        return replace(together, remark=f"{len(carrying)} radios of this band carry it: {', '.join(said)}")

    def _held(self, section: Section) -> Held:
        word = section.options.get("macfilter", "")
        if word not in _MODES:
            raise EnforcerUnreachable(f"{self.name}: macfilter {clean(word, 40)!r} is not understood")
        mode = _MODES[word]
        written = [*section.lists.get("maclist", ()), *section.options.get("maclist", "").split()]
        try:
            macs = frozenset(map(MacAddress.parse, written))
        except InvalidMacAddress as error:
            raise EnforcerUnreachable(f"{self.name}: maclist in {self._settings.file}: {error}") from None
        # There is one list, and its mode says which it is; without a mode its entries have no effect and belong to
        # others.
        if mode is ListMode.OFF:
            return Held(mode=mode)
        return Held(macs, frozenset(), mode) if mode is ListMode.ALLOW else Held(frozenset(), macs, mode)

    def keep(self, held: Mapping[str, Held]) -> None:
        """Let the firmware read its file again, if it does; for a moment all stations are disconnected."""
        if self._dirty:
            self._reload()
        self._dirty = False

    def files(self) -> Mapping[str, str | None]:
        """Return the file, byte for byte."""
        return {self._settings.file: self._read_text()}

    def put_back(self, files: Mapping[str, str | None]) -> None:
        """Write the file as it was if we wrote it, and have it read again if the firmware has read the other one."""
        before, now = files[self._settings.file], self._read_text(again=True)
        if before is not None and self._wrote and now != before:
            (ran,) = self._shell.carry_out([WriteFile(self._settings.file, before, now)])
            self._told(ran)
        if self._reloaded:
            self._reload()
        self._dirty = self._reloaded = False
        self._text = None

    def _reload(self) -> None:
        if not self._settings.reload or self._settings.is_here:
            return
        self._reloaded = True  # from here on, even if its answer is lost
        (ran,) = self._shell.carry_out([Program(tuple(self._settings.reload))])
        if ran.code != 0:
            raise EnforcerUnreachable(
                f"{self.name}: the file is written, but {' '.join(self._settings.reload)} failed: "
                f"{clean(ran.errors, 120)}"
            )

    def _read_text(self, *, again: bool = False) -> str:
        """Return the file as it was read last, or is now."""
        if again or self._text is None:
            self.read()
        return self._text or ""

    def _sections(self, radio: str, text: str) -> list[Section]:
        found = interfaces(text, self.ssid).get(radio)
        if not found:
            raise EnforcerUnreachable(f"{self.name}: {self.ssid!r} is not on {radio} GHz any more")
        return found


def common(one: Held, other: Held) -> Held:
    """Return what two radios of one band hold together: the mode of both, what either admits, and what both refuse."""
    if one.mode is not other.mode:
        return Held(mode=ListMode.OFF)  # one of them refuses nothing, or refuses others
    return Held(one.allow | other.allow, one.deny & other.deny, one.mode)


def interfaces(text: str, ssid: str) -> dict[str, list[Section]]:
    """Return by band the sections of a network's access points, one for each radio; disabled ones are left out."""
    found: dict[str, list[Section]] = {}
    for band, section in access_points(text):
        if section.options.get("ssid") == ssid:
            found.setdefault(band, []).append(section)
    return found


def access_points(text: str) -> list[tuple[str, Section]]:
    """Return all enabled access points of a file, whatever their network, each with its band in GHz."""
    every = sections(text)
    bands = {each.name: band_of(each) for each in every if each.type == "wifi-device"}
    return [
        (bands.get(each.options.get("device", ""), "2.4"), each)
        for each in every
        if each.type == "wifi-iface"
        and each.options.get("mode", "ap") == "ap"
        and each.options.get("disabled", "0") != "1"
    ]


def band_of(device: Section) -> str:
    """Return the band of a radio, in GHz: as it says, else by its channel."""
    said = device.options.get("band") or device.options.get("hwmode", "")
    if said in _BANDS:
        return _BANDS[said]
    channel = device.options.get("channel", "")
    return "5" if (whole_number(channel, 255) or 0) > 14 else "2.4"


def with_list(text: str, section: Section, mode: str, macs: Sequence[str]) -> str:
    """Return the file with another mode and list in one section; all other lines stay, to the byte."""
    lines = lines_of(text)
    ending = "\r\n" if lines and lines[0].endswith("\r\n") else "\n"
    own = {number for key in ("macfilter", "maclist") for number in section.lines.get(key, ())}
    at = min(own, default=section.ends)
    sample = next((lines[each] for keys in section.lines.values() for each in keys), "\toption")
    indent = sample[: len(sample) - len(sample.lstrip())]
    new = [f"{indent}option macfilter {quoted(mode)}{ending}"]
    new += [f"{indent}list maclist {quoted(mac)}{ending}" for mac in macs]
    if mode == _WORDS[ListMode.OFF] and not own:
        new = []
    before = lines[:at]
    if new and before and not before[-1].endswith(("\n", "\r")):
        before[-1] += ending
    kept = [line for number, line in enumerate(lines[at:], at) if number not in own]
    return "".join([*before, *new, *kept])
