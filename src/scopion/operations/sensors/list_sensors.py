"""Lists the sensors of a site: their places, when each was heard last, how far behind it is, and what is wrong."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.model.batch import RIGHT_WITHIN, USUAL_LAG
from scopion.operations.site.open_site import Site
from scopion.roster.sensors import KnownSensor, kept_forms, known_sensors


@dataclass(frozen=True, slots=True)
class SensorLine:
    """A sensor, as the list shows it."""

    name: str
    place: str
    state: str  # here, silent, never-heard, or not-enrolled: site.toml does not name it any more
    program: str
    heard: datetime | None
    lag: timedelta | None  # how old the latest is that it has told
    waiting: int  # batches that it still has to tell
    oldest: datetime | None
    offset: timedelta | None  # by which its clock is ahead; None: not compared yet
    address: str
    lost: datetime | None
    kept: int  # documents of a later version, kept unread
    troubles: tuple[str, ...]

    @property
    def is_well(self) -> bool:
        """Tell whether it needs no one."""
        late = self.lag is not None and self.lag > USUAL_LAG
        return self.state == "here" and not self.troubles and not self.kept and not late


def list_sensors(site: Site) -> list[SensorLine]:
    """Return the sensors that ``site.toml`` names, then others that were heard once."""
    roster, now = site.roster_for_reading(), site.clock.now()
    known = {each.name: each for each in known_sensors(roster)}
    kept = {name: sum(forms.values()) for name, forms in kept_forms(roster).items()}
    named = {each.name for each in site.settings.sensor}
    found = [
        _line(each.name, each.place, known.get(each.name), kept.get(each.name, 0), now, each.silent_s)
        for each in site.settings.sensor
    ]
    return found + [
        _line(each.name, each.place, each, kept.get(each.name, 0), now, None)
        for each in known.values()
        if each.name not in named
    ]


def _line(
    name: str, place: str, known: KnownSensor | None, kept: int, now: datetime, silent_s: float | None
) -> SensorLine:
    """Return the line of a sensor; ``silent_s`` is how long it may be silent. None: it is not enrolled."""
    if known is None:
        return SensorLine(name, place, "never-heard", "", None, None, 0, None, None, "", None, kept, ())
    wrong_by = known.offset if known.offset is not None and abs(known.offset) > RIGHT_WITHIN else timedelta()
    # It may be silent for longer than a watch has looked.
    silent = known.lost is not None or not known.online or _is_longer(now - known.heard, silent_s)
    return SensorLine(
        name=name,
        place=place,
        state="not-enrolled" if silent_s is None else "silent" if silent else "here",
        program=known.program,
        heard=known.heard,
        lag=max(timedelta(), now - known.told) if known.told is not None else None,
        waiting=known.waiting,
        oldest=known.oldest - wrong_by if known.oldest is not None else None,
        offset=known.offset,
        address=known.address,
        lost=known.lost,
        kept=kept,
        troubles=known.troubles,
    )


def _is_longer(span: timedelta, silent_s: float | None) -> bool:
    return silent_s is not None and span.total_seconds() >= silent_s
