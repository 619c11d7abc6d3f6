"""The part of the watch that hears who is turned away: a line to each control socket of this machine, which stays open.

Only while a line is attached does the daemon say so, and each datagram has to be taken soon: by default the kernel
keeps ten. So each socket has a lane, in which it is listened to for a while, again and again.
"""

from __future__ import annotations

from functools import partial

from scopion.attachment.ports import Attachment, HearingLine
from scopion.model.errors import EnforcerUnreachable
from scopion.model.mac import MacAddress
from scopion.roster.watch_record import HeardAttempts
from scopion.watching.watch_context import WatchContext
from scopion.wireless.enforcers.registry import type_of
from scopion.wireless.refused_attempts import MOST, refused_in, with_attempts

# The watch waits for this when it reads its settings again.
_LISTEN_S = 2.0
# The trouble with a socket is told where the stations are read.
_AGAIN_S = 30.0


class Refusing:
    """Keeps an ear at each control socket."""

    def __init__(self, context: WatchContext) -> None:
        self._context = context
        # On a scene no time passes while a lane works: its attempts are counted as often as stations are read.
        settings, on_scene = context.site.settings, context.site.story is not None
        self._listen_s, self._rest_s = (0.0, settings.wireless.stations_s) if on_scene else (_LISTEN_S, 0.0)
        self._ears = {
            (each.name, radio): Ear(context.site.attachment, path)
            for each in settings.enforcer
            if each.is_here
            for radio, path in type_of(each).sockets(each).items()
        }
        self._due = dict.fromkeys(self._ears, 0.0)

    def wake_at(self) -> float:
        """Return when a socket is listened to next."""
        return min((at for where, at in self._due.items() if not self._is_busy(where)), default=float("inf"))

    def turn(self, now: float) -> None:
        """Listen where no lane does."""
        executor = self._context.executor
        for where, ear in self._ears.items():
            if now >= self._due[where] and not self._is_busy(where):
                self._due[where] = now + self._rest_s
                work = partial(ear.listen, self._listen_s)
                executor.start(_lane(where), work, partial(self._finish, where))

    def close(self) -> None:
        """Close the lines: one with a name would leave it behind."""
        for ear in self._ears.values():
            ear.close()

    def _is_busy(self, where: tuple[str, str]) -> bool:
        return self._context.executor.busy(_lane(where))

    def _finish(self, where: tuple[str, str], heard: list[MacAddress] | None, error: BaseException | None) -> None:
        context = self._context
        if error is not None or heard is None:
            self._due[where] = context.clock.monotonic() + _AGAIN_S
            if not isinstance(error, EnforcerUnreachable):
                raise error or RuntimeError("nothing came of listening")
            return
        at = context.clock.now()
        before = context.attempts.get(where, HeardAttempts(at))
        context.attempts[where] = HeardAttempts(before.since, with_attempts(before.by_mac, heard, at))


class Ear:
    """A line to one socket, for one lane."""

    def __init__(self, attachment: Attachment, path: str) -> None:
        self._attachment, self._path = attachment, path
        self._line: HearingLine | None = None

    def listen(self, for_s: float) -> list[MacAddress]:
        """Return who was turned away within so many seconds, once for each time. Raises EnforcerUnreachable."""
        heard: list[MacAddress] = []

        def take(line: str) -> None:
            refused = refused_in(line)
            if refused is not None and len(heard) < MOST:
                heard.append(refused[1])

        if self._line is None:
            self._line = self._attachment.open_control(self._path)
        try:
            self._line.hear(self._attachment.clock.monotonic() + for_s, take)
        except EnforcerUnreachable:
            self.close()
            raise
        return heard

    def close(self) -> None:
        """Close the line, if one is open; safe while another thread listens."""
        line, self._line = self._line, None
        if line is not None:
            line.close()


def _lane(where: tuple[str, str]) -> str:
    return f"hearing attempts at {' '.join(where)}"
