"""A router's page for tests: a person who does exactly what the sheets say types into it."""

from __future__ import annotations

import re
from collections.abc import Iterator

from scopion.model.mac import MacAddress
from scopion.wireless.router_sheet import Sheet

_STEP = re.compile(
    r"(?P<radio>[\d.]+) GHz: (?:(?P<whole>make its|empty its) (?P<of>allow|deny) list|(?P<act>add to|remove from) its "
    r"(?P<list>allow|deny) list|now set the mode to (?P<mode>allow|deny)|(?:if its list is switched on, )?set "
    r"(?:the mode of its list|its mode) to (?P<off>off))"
)


class TypedPage:
    """A router's page, as a person leaves it who does exactly what the sheets say.

    Each radio has a mode, and a list for each mode, or one list whose mode says what it is for.
    """

    def __init__(self, *, one_list: bool = False) -> None:
        self.one_list = one_list
        self.modes = {"2.4": "off", "5": "off"}
        self.lists: dict[tuple[str, str], set[MacAddress]] = {}

    def type(self, sheet: Sheet) -> None:
        """Follow the steps of a sheet, one after the other."""
        for _ in self.steps(sheet):
            pass

    def steps(self, sheet: Sheet) -> Iterator[None]:
        """Follow the steps of a sheet; stop after each."""
        for step in sheet.steps:
            told = _STEP.match(step.says)
            if told is None:
                continue
            macs = {MacAddress.parse(line.mac) for line in step.lines}
            there = self._list(told["radio"], told["of"] or told["list"] or "")
            if told["whole"]:
                there.clear()
            if told["whole"] or told["act"] == "add to":
                there |= macs
            elif told["act"]:
                there -= macs
            else:
                self.modes[told["radio"]] = told["mode"] or told["off"]
            yield

    def _list(self, radio: str, mode: str) -> set[MacAddress]:
        return self.lists.setdefault((radio, "" if self.one_list else mode), set())

    def admits(self, radio: str, mac: MacAddress) -> bool:
        """Whether a device may connect just now."""
        mode = self.modes[radio]
        return mode == "off" or (mac in self._list(radio, mode)) is (mode == "allow")

    def holds(self, radio: str) -> tuple[str, set[MacAddress]]:
        mode = self.modes[radio]
        return mode, set() if mode == "off" else set(self._list(radio, mode))
