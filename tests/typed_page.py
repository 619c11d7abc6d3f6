"""A router's page for tests: a person who does exactly what the sheets say types into it."""

from __future__ import annotations

import re

from scopion.model.mac import MacAddress
from scopion.wireless.router_sheet import Sheet

_STEP = re.compile(
    r"(?P<radio>[\d.]+) GHz: (?:(?P<whole>make its|empty its) (?P<of>allow|deny) list|(?P<act>add to|remove from) its "
    r"(?P<list>allow|deny) list|now set the mode to (?P<mode>allow|deny)|set the mode of its list to (?P<off>off))"
)


class TypedPage:
    """A router's page, as a person leaves it who does exactly what the sheets say: a mode and a list for each radio."""

    def __init__(self) -> None:
        self.modes = {"2.4": "off", "5": "off"}
        self.lists: dict[tuple[str, str], set[MacAddress]] = {}

    def type(self, sheet: Sheet) -> None:
        """Follow the steps of a sheet, one after the other."""
        for step in sheet.steps:
            told = _STEP.match(step.says)
            if told is None:
                continue
            macs = {MacAddress.parse(line.mac) for line in step.lines}
            there = self.lists.setdefault((told["radio"], told["of"] or told["list"] or ""), set())
            if told["whole"]:
                there.clear()
            if told["whole"] or told["act"] == "add to":
                there |= macs
            elif told["act"]:
                there -= macs
            else:
                self.modes[told["radio"]] = told["mode"] or told["off"]

    def holds(self, radio: str) -> tuple[str, set[MacAddress]]:
        mode = self.modes[radio]
        return mode, set() if mode == "off" else set(self.lists.get((radio, mode), ()))
