"""The part of the watch that sends lists by RADIUS to their second servers: when they change, and now and then."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from scopion.model.errors import ScopionError
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.radius.standby import send_list
from scopion.operations.site.open_site import Site
from scopion.watching.watch_context import WatchContext
from scopion.wireless.radius.radius_settings import RadiusSettings, radius_lists

# The second server shows how old its list is: an hour's silence is then a reason to look.
_EVERY_S, _AGAIN_S = 300.0, 30.0


class Standby:
    """Sends each list in a lane of its own."""

    def __init__(self, context: WatchContext, opened: Callable[[], Site]) -> None:
        self._context, self._opened = context, opened
        settings = context.site.settings
        self._lists = [
            each
            for each in radius_lists(settings.enforcer)
            if each.standby is not None and each.standby.ssh is not None
        ]
        self._files = RadiusFiles(context.site.folder)
        self._due = dict.fromkeys((each.network for each in self._lists), 0.0)
        self._marks: dict[str, object] = {}
        self._look_at = 0.0 if self._lists else float("inf")

    def wake_at(self) -> float:
        """Return when it is looked next whether a list has changed."""
        return self._look_at

    def turn(self, now: float) -> None:
        """Send what is due."""
        if now < self._look_at:
            return
        self._look_at = now + self._context.look_every_s
        for each in self._lists:
            mark = self._mark(each)
            if mark != self._marks.get(each.network):
                self._marks[each.network], self._due[each.network] = mark, now
            if now >= self._due[each.network] and not self._context.executor.busy(_lane(each)):
                self._due[each.network] = now + _EVERY_S
                work = partial(self._send, each)
                self._context.executor.start(_lane(each), work, partial(self._finish, each))

    def _send(self, settings: RadiusSettings) -> bool:
        return send_list(self._opened(), settings)

    def _finish(self, settings: RadiusSettings, sent: bool | None, error: BaseException | None) -> None:
        doing = f"sending the list of {settings.network!r} to its standby"
        if error is None:
            self._context.works(doing)
            return
        self._due[settings.network] = self._context.clock.monotonic() + _AGAIN_S
        if not isinstance(error, ScopionError | OSError):
            raise error
        self._context.trouble(doing, str(error))

    def _mark(self, settings: RadiusSettings) -> object:
        try:
            there = self._files.list_of(settings.network).stat()
        except OSError:
            return None
        return there.st_ino, there.st_mtime_ns


def _lane(settings: RadiusSettings) -> str:
    return f"standby of {settings.network}"
