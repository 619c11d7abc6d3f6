"""Reads lists of MAC addresses as people keep them: any notation, comments, duplicates, words beside the address."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field

from scopion.model.errors import InvalidMacAddress
from scopion.model.mac import MacAddress, mac_spans
from scopion.model.text import clean

_COMMENT = re.compile(r"(?:#|;|//)(.*)$")
_PARTED = re.compile(r"[,;\t|]+|\s{2,}")
MOST_LINES = 100_000


@dataclass(slots=True)
class MacList:
    """What was read."""

    found: dict[MacAddress, str] = field(default_factory=dict)  # with the text beside it
    repeated: int = 0  # lines whose address was there before
    unread: list[str] = field(default_factory=list)  # lines with text that is no address


def read_mac_list(lines: Iterable[str]) -> MacList:
    """Read a list; never raises. Lines that could not be read are named, and the rest counts."""
    read = MacList()
    for number, line in enumerate(lines, 1):
        if number > MOST_LINES:
            read.unread.append(f"all after line {MOST_LINES}")
            break
        comment = _COMMENT.search(line)
        plain = line[: comment.start()] if comment else line
        if not plain.strip():
            continue
        place = next(iter((*mac_spans(plain), *mac_spans(plain, perhaps=True))), None)
        try:
            mac = place[2] if place else MacAddress.parse(plain.strip())
        except InvalidMacAddress:
            read.unread.append(f"line {number} ({clean(plain, 40)!r})")
            continue
        if mac.is_multicast or not any(mac.octets):
            read.unread.append(f"line {number} ({mac}, which no device has)")
            continue
        beside = _PARTED.sub(" ", plain[: place[0]] + " " + plain[place[1] :]) if place else ""
        said = clean(beside.strip(" \"'")) or (clean(comment[1]) if comment else "")
        if mac in read.found:
            read.repeated += 1
            read.found[mac] = read.found[mac] or said
        else:
            read.found[mac] = said
    return read
