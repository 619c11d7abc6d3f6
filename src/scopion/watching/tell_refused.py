"""The part of the watch that has refused devices told which ask all the same: as the RADIUS server and its own ears
have counted them.
"""

from __future__ import annotations

from scopion.model.errors import ScopionError
from scopion.operations.intake.take_attempts import take_attempts
from scopion.operations.radius.make_responder import radius_lists
from scopion.operations.radius.radius_files import RadiusFiles
from scopion.operations.stations.list_attempts import news_of
from scopion.roster.folding.note_attempts import RefusedAttempt
from scopion.watching.watch_context import WatchContext

_EVERY_S = 2.0
_AGAIN_S = 60.0


class Knocking:
    """Looks at the counts, and has what is new told."""

    def __init__(self, context: WatchContext) -> None:
        self._context = context
        self._files = RadiusFiles(context.site.folder)
        self._lists = {each.network: each.name for each in radius_lists(context.site.settings)}
        self._networks = {each.name: each.network for each in context.site.settings.enforcer}
        self._due = 0.0
        self._seen: object = None

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
        with context.doing("telling refused attempts"):
            self._seen = seen
            news = self._news()
            taken = take_attempts(context.site, news) if news else None
            if taken is not None and taken.events:
                context.tell(taken.events, taken.devices)
                context.outdated()

    def _mark(self) -> tuple[int, int] | None:
        """Return what tells whether the server has written its state since."""
        if not self._lists:
            return None
        try:
            there = self._files.state.stat()
        except OSError:
            return None
        return there.st_mtime_ns, there.st_size

    def _news(self) -> list[RefusedAttempt]:
        context, roster = self._context, self._context.site.roster
        found: list[RefusedAttempt] = []
        for (enforcer, _), heard in context.attempts.items():
            found += news_of(context.site, roster, self._networks[enforcer], enforcer, heard)
        if self._lists:
            try:
                told = self._files.server_state().attempts
            except ScopionError as error:
                context.trouble("reading what the RADIUS server knows", str(error))
                return found
            context.works("reading what the RADIUS server knows")
            for network, heard in told.items():
                if network in self._lists:
                    found += news_of(context.site, roster, network, self._lists[network], heard)
        return found
