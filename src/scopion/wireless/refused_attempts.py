"""What an access point daemon says of devices that it turned away: lines of its events or its log, counted. Pure.

hostapd (2.10) says so in events of its debug level only, and in its log if it was started with ``-d``; a driver that
keeps the list itself has it say so at the usual level. One line is one authentication that was rejected: a device that
looks for its network by probe requests alone is not counted.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import datetime

from scopion.model.mac import MacAddress
from scopion.roster.watch_record import Attempt

_MAC = r"((?:[0-9a-f]{2}:){5}[0-9a-f]{2})"
_REFUSED = re.compile(rf"(?:Ignore Authentication frame from {_MAC} due to ACL reject|AP-REJECTED-BLOCKED-STA {_MAC})$")
WORDS = ("due to ACL reject", "AP-REJECTED-BLOCKED-STA")  # one of them is in each of these lines
# A device that takes another address for each attempt gets no further.
MOST = 256


def refused_in(line: str) -> tuple[str, MacAddress] | None:
    """Return the interface (empty in an event) and the device that a line is about; None for all other lines."""
    line = line.rstrip()
    found = _REFUSED.search(line)
    if found is None:
        return None
    # In the log the interface stands before it; an event comes by the interface's own socket, with its level in <>.
    before = line[: found.start()]
    interface = "" if before.endswith(">") else before.removesuffix(": ").rpartition(" ")[2]
    return interface, MacAddress.parse(found[1] or found[2])


def counted_in_log(lines: Iterable[str]) -> dict[str, dict[MacAddress, int]]:
    """Return how often each device was turned away, by interface."""
    counts: dict[str, dict[MacAddress, int]] = {}
    for line in lines:
        refused = refused_in(line)
        if refused is not None:
            of_interface = counts.setdefault(refused[0], {})
            if refused[1] in of_interface or len(of_interface) < MOST:
                of_interface[refused[1]] = of_interface.get(refused[1], 0) + 1
    return counts


def with_attempts(
    before: Mapping[MacAddress, Attempt], heard: Iterable[MacAddress], at: datetime
) -> dict[MacAddress, Attempt]:
    """Return counts with what was heard at a moment; beyond the limit the devices go whose last attempt is oldest."""
    counts = dict(before)
    for mac in heard:
        times = counts[mac].times if mac in counts else 0
        counts[mac] = Attempt(times + 1, at)
    kept = sorted(counts.items(), key=lambda each: each[1].last, reverse=True)[:MOST]
    return dict(kept)
