"""A list that access points of any make ask for by RADIUS. It is published as a file; the server of this site answers
by it, and carries out its hours.

What it holds is what the file says now. It counts as in force while a server runs that has read it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from datetime import datetime
from typing import Protocol

from scopion.model.band import EVERY_RADIO
from scopion.model.clock import Clock
from scopion.model.errors import EnforcerUnreachable, Refused
from scopion.roster.watch_record import HeardAttempts
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcers.enforcer import (
    Act,
    Effect,
    Held,
    RadioReading,
    RadioStep,
    Readings,
    Station,
    Traits,
)
from scopion.wireless.radius.disconnections import Told
from scopion.wireless.radius.judge_radius import RadiusFacts
from scopion.wireless.radius.published import PublishedList, fixed_policy, published_text, read_published
from scopion.wireless.radius.radius_settings import RadiusSettings, unanswered
from scopion.wireless.radius.server_state import ServerState
from scopion.wireless.radius.sessions import Session, present

_NOTHING = "nothing was published yet: every device is accepted"


class Answering(Protocol):
    """The server that answers access points, as seen from another process."""

    clock: Clock

    def published(self) -> str | None:
        """Return the text of the published list; None before the first."""

    def publish(self, text: str | None) -> None:
        """Publish another, or none, and wait until the server answers by it. Raises EnforcerUnreachable."""

    def state(self) -> ServerState:
        """Return what the server knows. Raises EnforcerUnreachable if none runs."""

    def standby_sent(self) -> datetime | None:
        """Return when the first server sent the list, for which this one stands in; None: never, or it is the first."""

    def secrets(self, settings: RadiusSettings) -> Mapping[str, str]:
        """Return by access point the secrets that can be read here."""


class RadiusList:
    """Implements ``Enforcer``."""

    def __init__(self, settings: RadiusSettings, answering: Callable[[], Answering]) -> None:
        self.name, self.ssid, self.capacity = settings.name, settings.network, settings.holds
        self.traits = Traits(
            Effect.REFUSES,
            atomic=True,
            one_list=True,
            keeps_hours=True,
            survives=unanswered(settings),
        )
        self._settings, self._answering = settings, answering

    def read(self, *, files: bool = False, log: bool = False) -> Readings:
        """Return the published list as it is now, and who is associated by accounting."""
        answering = self._answering()
        state, text = answering.state(), answering.published()
        clock = answering.clock
        held = Held(mode=ListMode.OFF, remark=_NOTHING)
        if text is not None:
            held = read_published(text).held(clock.now(), clock.local)
        stations = tuple(
            _station(each, answering.clock, _goes(each, state))
            for each in present(state.sessions)
            if each.network == self.ssid
        )
        heard = state.attempts.get(self.ssid, HeardAttempts(clock.now()))
        reading = RadioReading(self.name, EVERY_RADIO, self.traits, self.capacity, held, stations, heard=heard)
        return {EVERY_RADIO: reading}

    def take(self, steps: Sequence[RadioStep], begins: Callable[[RadioStep], None]) -> Readings:
        """Publish a list. The server disconnects who is refused by it, until each is gone."""
        if self._settings.stands_in is not None:
            raise Refused(f"{self.name} stands in for a first server, which has its list: push there")
        answering = self._answering()
        for each in steps:
            begins(each)
            if each.step.act is Act.REPLACE:
                assert each.step.held is not None
                policy = each.step.policy if each.step.policy is not None else fixed_policy(self.ssid, each.step.held)
                answering.publish(published_text(PublishedList(policy, answering.clock.now())))
        return self.read()

    def keep(self, held: Mapping[str, Held]) -> None:
        """Do nothing: what is published lasts."""

    def files(self) -> Mapping[str, str | None]:
        """Return the published list."""
        return {"the published list": self._answering().published()}

    def put_back(self, files: Mapping[str, str | None]) -> None:
        """Publish again what was published before."""
        answering = self._answering()
        for text in files.values():
            if text != answering.published():
                answering.publish(text)

    def close(self) -> None:
        """Do nothing: nothing is open."""

    def facts(self) -> RadiusFacts:
        """Return what an audit judges."""
        answering = self._answering()
        state = None
        with suppress(EnforcerUnreachable):
            state = answering.state()
        secrets, sent = answering.secrets(self._settings), answering.standby_sent()
        return RadiusFacts(self._settings, sent, secrets, state, answering.clock.now())


def _goes(session: Session, state: ServerState) -> str:
    """Return that a device is being disconnected, in a clause; empty if it is not."""
    where = (session.access_point, session.network, session.mac)
    going = next((each for each in state.leaving if (each.access_point, each.network, each.mac) == where), None)
    if going is None:
        return ""
    told = "it is told again once that has forgotten it" if going.told is Told.DONE else "it is told again and again"
    return f"{going.access_point} was told to disconnect it and {going.told.value}: {told}"


def _station(session: Session, clock: Clock, leaving: str) -> Station:
    return Station(
        session.mac,
        connected_s=max(0, round((clock.now() - session.since).total_seconds())),
        received=session.received,
        sent=session.sent,
        access_point=session.access_point,
        other_vlan=session.other_vlan,
        leaving=leaving,
    )
