"""The part of the watch that takes in what the RADIUS server knows, and what its own ears have heard.

Refused devices that ask all the same are told, associations are remembered.
"""

from __future__ import annotations

from collections.abc import Sequence

from scopion.model.errors import ScopionError
from scopion.model.observation import Medium, Observation, Source
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.intake.count_octets import count_sessions
from scopion.operations.intake.take_attempts import take_attempts
from scopion.operations.intake.take_in import take_in
from scopion.operations.stations.list_attempts import news_of
from scopion.roster.folding.note_attempts import RefusedAttempt
from scopion.roster.wifi.air_sessions import AirSession, note_sessions
from scopion.watching.watch_context import WatchContext
from scopion.wireless.radius.radius_settings import radius_lists
from scopion.wireless.radius.server_state import ServerState
from scopion.wireless.radius.sessions import Session

_EVERY_S = 2.0
_AGAIN_S = 15.0


class TakingInAir:
    """Looks at both, and takes in what is new."""

    def __init__(self, context: WatchContext) -> None:
        self._context = context
        self._files = RadiusFiles(context.site.folder)
        self._lists = {each.network: each.name for each in radius_lists(context.site.settings.enforcer)}
        self._networks = {each.name: each.network for each in context.site.settings.enforcer}
        self._due = 0.0
        self._seen: object = None
        self._sessions: set[Session] = set()  # as they were taken in last

    def wake_at(self) -> float:
        """Return when the counts are looked at next."""
        return self._due

    def turn(self, now: float) -> None:
        """Tell what is new."""
        if now < self._due:
            return
        context = self._context
        self._due = now + max(_EVERY_S, context.look_every_s)
        seen = (self._mark(), dict(context.attempts))
        if seen == self._seen:
            return
        looks_next, self._due = self._due, now + _AGAIN_S
        with context.doing("taking in what access points told"):
            state = self._state() if self._lists else None
            news = self._news(state)
            taken = take_attempts(context.site, news) if news else None
            if taken is not None and taken.events:
                context.tell(taken.events, taken.devices)
                context.outdated()
            if state is not None or not self._lists:
                self._seen, self._due = seen, looks_next

    def _remember(self, sessions: Sequence[Session]) -> None:
        """Take in the associations that have changed."""
        reported = {each for each in sessions if each.number}
        changed = reported - self._sessions
        if changed:
            site = self._context.site
            # Of a network that no scan reaches, this is all that is known of a device.
            here = [each for each in changed if each.ended is None]
            take_in(
                site, [Observation(each.mac, None, each.seen, Source.ACCESS_POINT, Medium.WIRELESS) for each in here]
            )
            remembered = [*map(_as_remembered, changed)]
            note_sessions(site.roster, remembered)
            count_sessions(site, remembered)
            self._sessions = reported

    def _mark(self) -> tuple[int, int] | None:
        """Return what tells whether the server has written its state since."""
        if not self._lists:
            return None
        try:
            there = self._files.state.stat()
        except OSError:
            return None
        return there.st_mtime_ns, there.st_size

    def _state(self) -> ServerState | None:
        """Return what the server knows; None if it cannot be read."""
        doing = "reading what the RADIUS server knows"
        try:
            state = self._files.server_state()
        except ScopionError as error:
            self._context.trouble(doing, str(error))
            return None
        self._context.works(doing)
        return state

    def _news(self, state: ServerState | None) -> list[RefusedAttempt]:
        context, roster = self._context, self._context.site.roster
        found: list[RefusedAttempt] = []
        for (enforcer, _), heard in context.attempts.items():
            found += news_of(context.site, roster, self._networks[enforcer], enforcer, heard)
        if state is not None:
            self._remember(state.sessions)
            for network, heard in state.attempts.items():
                if network in self._lists:
                    found += news_of(context.site, roster, network, self._lists[network], heard)
        return found


def _as_remembered(session: Session) -> AirSession:
    until, present = session.ended or session.seen, session.ended is None
    counts = (session.received, session.sent)
    return AirSession(session.mac, session.network, session.access_point, session.since, until, present, *counts)
