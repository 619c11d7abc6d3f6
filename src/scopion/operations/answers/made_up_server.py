"""The RADIUS server of a made-up site: the same that answers real access points, asked without any socket.

It answers at the moment of the story at which its access points ask. What it knows is kept in the site's folder.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from scopion.attachment.udp_server import Arrival
from scopion.model.address import Address
from scopion.model.clock import Clock
from scopion.operations.answers.radius_files import THIS_MACHINE, LiveAnswering, RadiusFiles
from scopion.operations.answers.serving import Serving
from scopion.operations.answers.write_answers import write_work
from scopion.wire.radius import RadiusMessage
from scopion.wireless.radius.radius_settings import RadiusSettings
from scopion.wireless.radius.server_state import ServerState

# The port that a made-up access point asks from says nothing.
_FROM = 32_768


class _Fixed:
    """Implements ``SettingsOfServer``: within a command they do not change."""

    problem = ""

    def __init__(self, lists: Sequence[RadiusSettings]) -> None:
        self.lists = lists

    def changed(self) -> bool:
        """Return that they have not."""
        return False

    def read_again(self) -> bool:
        """Return that they have not changed."""
        return False


class MadeUpServer:
    """Answers for the lists of a made-up site."""

    def __init__(self, files: RadiusFiles, lists: Sequence[RadiusSettings], clock: Clock) -> None:
        self._files, self._clock = files, clock
        self._serving = Serving(files, _Fixed(lists), clock)

    def answer(self, data: bytes, source: str, port: int) -> bytes | None:
        """Return the reply to a packet that came to a port, if there is to be one."""
        return self._serving.answer(Arrival(data, source, _FROM, port), self._clock.monotonic())

    def orders(self) -> list[tuple[str, bytes]]:
        """Return requests to disconnect that are due now, with the address of the access point that each is for."""
        return [(each.departure.address, each.request.octets) for each in self._serving.turn(self._clock.monotonic())]

    def hear(self, data: bytes, source: str) -> None:
        """Take in what an access point says to a request to disconnect."""
        self._serving.hear(Arrival(data, source, _FROM, 0), self._clock.monotonic())

    def look(self) -> None:
        """Read the lists that were published since: within a command no time passes."""
        self._serving.look()

    def state(self) -> ServerState:
        """Return what it knows now."""
        return self._serving.state()

    def settle(self) -> None:
        """Write what it knows, and what it has answered."""
        work = self._serving.to_write(self._clock.monotonic(), now=True)
        if work is not None:
            write_work(self._files, *work)


class MadeUpAnswering(LiveAnswering):
    """Implements ``Answering`` for a made-up site: its server is always there."""

    def __init__(
        self, files: RadiusFiles, network: str, clock: Clock, server: MadeUpServer, look: Callable[[], None]
    ) -> None:
        """``look`` lets access points do what is due by now."""
        super().__init__(files, network, clock)
        self._server, self._look = server, look

    def state(self) -> ServerState:
        """Return what the server knows, once access points have asked what they have to ask."""
        self._server.look()
        self._look()
        return self._server.state()

    def ask(
        self,
        question: bytes,
        settings: RadiusSettings,
        read: Callable[[bytes], RadiusMessage | None],
        source: Address | None = None,
    ) -> RadiusMessage | None:
        """Return the answer to a question from this machine; None if there is none."""
        reply = self._server.answer(question, str(source or THIS_MACHINE), settings.port)
        return read(reply) if reply is not None else None

    def _require_server(self) -> None:
        """Do nothing: it runs."""
