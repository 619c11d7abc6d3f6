"""The bands of radios in words. A list that one server answers for holds on every radio: its band is an empty text."""

from __future__ import annotations

from collections.abc import Iterable

from scopion.model.text import joined

EVERY_RADIO = ""


def spoken_band(band: str) -> str:
    """Return a band: ``5 GHz``, or ``every radio``."""
    return f"{band} GHz" if band != EVERY_RADIO else "every radio"


def spoken_bands(bands: Iterable[str]) -> str:
    """Return bands in a row: ``2.4 and 5 GHz``, or ``every radio``."""
    return spoken_band(joined(list(bands)))


def point_words(access_point: str) -> str:
    """Return an access point as a sentence has it: ``the access point counter``, ``workshop access point``."""
    return access_point if "access point" in access_point.casefold() else f"the access point {access_point}"


def at_band(access_point: str, band: str) -> str:
    """Return where something is: ``counter, 5 GHz``, or ``counter`` if that is every radio, or not known."""
    return f"{access_point}, {band} GHz" if band != EVERY_RADIO else access_point
