"""The files by which commands and the server that answers by RADIUS speak with each other: in ``radius`` of the site.

A push writes a published list, and the server answers by it; the server writes its state and its log, and commands read
them. The roster is not needed for any of it.
"""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from datetime import datetime
from hashlib import sha256
from ipaddress import IPv4Address
from pathlib import Path

from scopion.attachment.connect.udp_question import ask_by_udp
from scopion.model.address import Address
from scopion.model.clock import Clock
from scopion.model.errors import EnforcerUnreachable, InvalidSettings, StorageFailed
from scopion.operations.answers.make_responder import secrets_of
from scopion.operations.folder.take_turns import serving_process
from scopion.roster.store.write_files import make_folder, storage_failed, write_atomically
from scopion.wire.radius import RadiusMessage
from scopion.wireless.radius.answer import Answer, read_answer
from scopion.wireless.radius.published import MOST_OCTETS, digest_of
from scopion.wireless.radius.radius_settings import RadiusSettings
from scopion.wireless.radius.server_state import ServerState, read_state

FOLDER = "radius"
THIS_MACHINE = IPv4Address("127.0.0.1")
# The server looks for another list four times a second, and says at once that it answers by it.
_WAIT_S, _LOOK_EVERY_S = 5.0, 0.05


class RadiusFiles:
    """The files of one site."""

    def __init__(self, site_folder: Path) -> None:
        self.site_folder = site_folder
        self.folder = site_folder / FOLDER
        self.state = self.folder / "state.json"
        self.log = self.folder / "answers.jsonl"
        self.old_log = self.folder / "answers.old.jsonl"
        self.settings = self.folder / "settings.toml"  # the last that were good

    def list_of(self, network: str) -> Path:
        """Return the file of a network's published list; no two networks share one."""
        plain = re.sub(r"[^\w-]+", "-", network).strip("-")[:40]
        return self.folder / f"list-{plain}-{sha256(network.encode()).hexdigest()[:8]}.json"

    def standby_sent(self, network: str) -> datetime | None:
        """Return when the first server sent the list that is here, for which this machine stands in; None if never."""
        try:
            return datetime.fromisoformat((self.read(self._standby_of(network)) or "").strip())
        except ValueError:
            return None

    def note_standby(self, network: str, sent: datetime) -> None:
        """Note when a list was sent that was taken."""
        self.write(self._standby_of(network), f"{sent.isoformat()}\n")

    def _standby_of(self, network: str) -> Path:
        return self.list_of(network).with_suffix(".sent")

    def kept_list_of(self, network: str) -> Path:
        """Return the file of the list that the server answered by last: for the day when the other one is damaged."""
        return self.list_of(network).with_suffix(".last.json")

    def read(self, path: Path) -> str | None:
        """Return a file's text; None if there is none. Raises StorageFailed."""
        try:
            with path.open("rb") as file:
                return file.read(MOST_OCTETS).decode("utf-8", "surrogateescape")
        except FileNotFoundError:
            return None
        except OSError as error:
            raise storage_failed(path, error) from None

    def write(self, path: Path, text: str) -> None:
        """Write a file as a whole. Raises StorageFailed."""
        make_folder(self.folder, like=self.site_folder)
        write_atomically(path, text.encode("utf-8", "surrogateescape"))

    def answers(self) -> Iterator[Answer]:
        """Yield the answers of the log, the oldest first; a line that was cut by a crash is left out."""
        for path in (self.old_log, self.log):
            for line in (self.read(path) or "").splitlines():
                try:
                    document = json.loads(line)
                except ValueError:
                    continue
                yield read_answer(document)

    def server_state(self) -> ServerState:
        """Return what the server wrote last; an empty state before that. Raises DamagedRoster, StorageFailed."""
        text = self.read(self.state)
        return read_state(text) if text is not None else ServerState()

    def server_runs(self) -> bool:
        """Tell whether a server of this site runs on this machine."""
        return serving_process(self.site_folder) is not None


class LiveAnswering:
    """Implements ``Answering`` by the files of a running server."""

    def __init__(self, files: RadiusFiles, network: str, clock: Clock) -> None:
        self._files, self._path, self._network, self.clock = files, files.list_of(network), network, clock

    def published(self) -> str | None:
        """Return the text of the published list."""
        return self._files.read(self._path)

    def publish(self, text: str | None) -> None:
        """Write the file, and wait for the server."""
        self._require_server()
        if text is None:
            try:
                self._path.unlink(missing_ok=True)
            except OSError as error:
                raise storage_failed(self._path, error) from None
        else:
            self._files.write(self._path, text)
        wanted = digest_of(text) if text is not None else ""
        deadline = time.monotonic() + _WAIT_S
        while self.state().answers_by.get(self._network, "") != wanted:
            if time.monotonic() > deadline:
                problem = self.state().problem or "it has not read the list"
                raise EnforcerUnreachable(f"the RADIUS server does not answer by the new list: {problem}")
            time.sleep(_LOOK_EVERY_S)

    def state(self) -> ServerState:
        """Return what the server knows."""
        self._require_server()
        try:
            return self._files.server_state()
        except StorageFailed as error:
            raise EnforcerUnreachable(f"what the RADIUS server knows cannot be read: {error}") from None

    def ask(
        self,
        question: bytes,
        settings: RadiusSettings,
        read: Callable[[bytes], RadiusMessage | None],
        source: Address | None = None,
    ) -> RadiusMessage | None:
        """Return the answer to a question from this machine; None if none comes. Raises NoInterface."""
        return ask_by_udp(question, settings.listen or THIS_MACHINE, settings.port, read, source=source)

    def standby_sent(self) -> datetime | None:
        """Return when the first server sent the list; None: never, or this is the first."""
        return self._files.standby_sent(self._network)

    def secrets(self, settings: RadiusSettings) -> Mapping[str, str]:
        """Return the secrets that this account may read."""
        found = {}
        for each in settings.access_point:
            with suppress(InvalidSettings):
                found[each.name] = secrets_of(settings, each, self._files.site_folder).secret
        return found

    def _require_server(self) -> None:
        if not self._files.server_runs():
            raise EnforcerUnreachable(
                "no RADIUS server of this site runs here, so access points get no answer from this machine: "
                "systemctl start scopion-radius starts it, or scopion wifi radius serve"
            )
