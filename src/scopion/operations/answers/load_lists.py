"""The published lists that are answered by, read again when they change.

What cannot be read any more does not end what was good: the last list stays in force, also over a restart.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path

from scopion.model.errors import ScopionError
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.wireless.list_policy import ListPolicy
from scopion.wireless.radius.published import digest_of, read_published
from scopion.wireless.radius.radius_settings import RadiusSettings
from scopion.wireless.radius.responder import Responder


class Changes:
    """Which files have changed since they were looked at last."""

    def __init__(self) -> None:
        self._marks: dict[Path, tuple[int, int, int] | None] = {}

    def has_changed(self, path: Path) -> bool:
        """Tell whether a file is another one, was written, made or removed since the last call; True at the first."""
        try:
            there = path.stat()
            mark = (there.st_ino, there.st_mtime_ns, there.st_size)
        except OSError:
            mark = None
        changed = path not in self._marks or self._marks[path] != mark
        self._marks[path] = mark
        return changed


class LoadLists:
    """Reads them, and tells what is wrong in ``problems``."""

    def __init__(self, files: RadiusFiles) -> None:
        self._files = files
        self._seen = Changes()
        self._known: dict[str, str] = {}  # by network, the text that is answered by
        self.problems: dict[str, str] = {}  # by what is wrong

    @property
    def answers_by(self) -> Mapping[str, str]:
        """Return the checksum of each list that is answered by; empty where nothing is published."""
        return {network: digest_of(text) if text else "" for network, text in self._known.items()}

    def look(self, lists: list[RadiusSettings], responder: Responder) -> bool:
        """Read the published lists that have changed, and have them answered by. Returns whether any was."""
        found = False
        for each in lists:
            if each.stands_in is not None and self._files.standby_sent(each.network) is None:
                responder.withhold(each.network)
                continue
            if self._seen.has_changed(self._files.list_of(each.network)) or each.network not in self._known:
                found |= self._read(each.network, responder.publish)
        return found

    def publish_again(self, responder: Responder) -> None:
        """Have all that is known answered by something new."""
        for network, text in self._known.items():
            responder.publish(network, read_published(text).policy if text else None)

    def _read(self, network: str, publish: Callable[[str, ListPolicy | None], None]) -> bool:
        path, what = self._files.list_of(network), f"the list of {network!r}"
        kept = self._files.kept_list_of(network)
        first = network not in self._known
        try:
            text = self._files.read(path)
            problem = "" if text is not None else "is gone"
            policy = read_published(text).policy if text is not None else None
        except ScopionError as error:
            text, policy, problem = None, None, f"is damaged ({error})"
        if problem and first and (last := self._last(kept)):
            self._known[network] = last
            self.problems[what] = f"{what} {problem}: the last one is in force; scopion wifi push {network!r} writes it"
            publish(network, read_published(last).policy)
            return True
        if problem.startswith("is damaged"):
            self.problems[what] = f"{what} {problem}: " + (
                "every device is accepted" if first else "the last one stays in force"
            )
            if first:
                self._known[network] = ""
                publish(network, None)
            return first
        self.problems.pop(what, None)
        self._known[network] = text or ""
        publish(network, policy)
        with suppress(ScopionError, OSError):
            if text is None:
                kept.unlink(missing_ok=True)
            else:
                self._files.write(kept, text)
        return True

    def _last(self, kept: Path) -> str:
        with suppress(ScopionError):
            text = self._files.read(kept)
            if text is not None:
                read_published(text)
                return text
        return ""
