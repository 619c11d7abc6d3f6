"""The site's clock: the machine's time, shown in the time zone that ``site.toml`` names.

All code that shows or reads an hour gets this clock: hours on lists, night hours, digests, guests' days and reports.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime, timezone, tzinfo
from pathlib import Path

from scopion.model.clock import Clock
from scopion.operations.folder.find_folder import SETTINGS


class SiteClock:
    """Implements ``Clock`` in a time zone that is read when an hour is first shown or read."""

    def __init__(self, clock: Clock, zone: Callable[[], tzinfo | None]) -> None:
        """Take a clock; ``zone`` returns None if the settings name none: then the zone of ``clock`` stays. It may
        raise.
        """
        self._clock, self._zone = clock, zone

    def now(self) -> datetime:
        """Return the time of day in UTC."""
        return self._clock.now()

    def monotonic(self) -> float:
        """Return seconds since some start; a change of the clock does not move them."""
        return self._clock.monotonic()

    def local(self, moment: datetime) -> datetime:
        """Return ``moment`` in the site's time zone, with a fixed offset. Raises InvalidSettings.

        Fixed, because the difference of two moments that share a zone is counted on the wall, an hour off in the nights
        when the clock is changed.
        """
        zone = self._zone()
        if zone is None:
            return self._clock.local(moment)
        there = moment.astimezone(zone)
        offset = there.utcoffset()
        assert offset is not None
        return there.replace(tzinfo=timezone(offset))

    def from_local(self, wall: datetime) -> datetime:
        """Return the moment of a wall time. An hour skipped in spring continues the one before; a repeated one is the
        first.
        """
        zone = self._zone()
        return self._clock.from_local(wall) if zone is None else wall.replace(tzinfo=zone).astimezone(UTC)


def zone_of(folder: Path) -> tzinfo | None:
    """Return the time zone that a site's settings name; None if they name none. Raises InvalidSettings.

    Only this one setting is read: commands that show an hour and need no other setting start without validating the
    rest.
    """
    try:
        text = (folder / SETTINGS).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return None  # code that needs the settings reports it
    if re.search(r"^[ \t]*[\"']?timezone\b", text, re.MULTILINE) is None:
        return None
    from scopion.model.toml_text import parse_toml

    try:
        return zone_named(parse_toml(text).get("timezone", ""))
    except (OSError, ValueError, KeyError, TypeError):
        from scopion.operations.site.load_settings import load_settings

        load_settings(folder)  # says which line is wrong
        raise


def zone_named(name: str) -> tzinfo | None:
    """Return a time zone by its name; None for an empty one. Raises OSError, ValueError, KeyError."""
    from zoneinfo import ZoneInfo

    return ZoneInfo(name) if name else None
