"""A router that has nothing but a web page: it holds what a person last said was typed in, and takes steps by a sheet.

Nothing is sent and nothing is read: the person is the wire. What was typed is in the record of pushes.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from scopion.model.errors import Refused
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcer_settings import PageSettings
from scopion.wireless.enforcers.enforcer import Effect, Held, RadioReading, RadioStep, Readings, Traits

_NOT_YET = "nothing was said to be typed in yet"


def traits_of(settings: PageSettings) -> Traits:
    """Return how a page behaves, as ``site.toml`` says."""
    return Traits(
        Effect.REFUSES if settings.refuses else Effect.DROPS,
        notation=settings.notation,
        reads_stations=False,
        one_list=True,
        by_hand=True,
        modes=settings.modes,
        timetable=settings.timetable,
    )


class Page:
    """One page, as a person has last left it."""

    def __init__(self, settings: PageSettings, typed: Callable[[], Mapping[str, Held]]) -> None:
        """``typed`` returns what was typed last, by band."""
        self.name, self.ssid = settings.name, settings.network
        self.capacity = settings.capacity
        self.traits = traits_of(settings)
        self._bands, self._typed = settings.bands, typed

    def read(self, *, files: bool = False, log: bool = False) -> Readings:
        """Return what was last said to be typed in; before that, an empty list that is in no force."""
        empty = Held(mode=ListMode.OFF if self.traits.modes else ListMode.DENY, remark=_NOT_YET)
        typed = self._typed()
        return {
            band: RadioReading(self.name, band, self.traits, self.capacity, typed.get(band, empty))
            for band in self._bands
        }

    def take(self, steps: Sequence[RadioStep], begins: Callable[[RadioStep], None]) -> Readings:
        """Raise Refused: only the person can."""
        raise Refused(f"the list of {self.name} is typed in by a person: scopion wifi sheet has the steps")

    def keep(self, held: Mapping[str, Held]) -> None:
        """Do nothing: what is saved on a page lasts."""

    def files(self) -> Mapping[str, str | None]:
        """Return nothing: it has no files that can be reached."""
        return {}

    def put_back(self, files: Mapping[str, str | None]) -> None:
        """Do nothing."""

    def close(self) -> None:
        """Do nothing."""
