"""What the server does besides moving packets: it answers by what was published, keeps its state, tells faults, and has
refused devices leave. It opens no socket; the time comes in.
"""

from __future__ import annotations

import logging
from collections import Counter, deque
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Protocol

from scopion.model.clock import Clock
from scopion.model.errors import ScopionError
from scopion.model.text import counted
from scopion.operations.answers.load_lists import LoadLists
from scopion.operations.answers.make_responder import make_responder
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.wireless.radius.answer import ADVICE, FAULTS, Answer, Outcome, Reason
from scopion.wireless.radius.asking_points import AskingPoint
from scopion.wireless.radius.attempts import Attempts
from scopion.wireless.radius.disconnections import Disconnections, Order, Told
from scopion.wireless.radius.radius_settings import RadiusSettings
from scopion.wireless.radius.responder import Memory, Packet, Responder
from scopion.wireless.radius.server_state import Fault, Leaving, ServerState, state_text
from scopion.wireless.radius.sessions import Session, Sessions

log = logging.getLogger("scopion.radius")
# A push waits for the server to read the list, and a person for the push.
_LOOK_EVERY_S = 0.25
# A device that has come back and is refused is noticed after this at the latest.
_JUDGE_EVERY_S = 1.0
_SAVE_EVERY_S = 2.0
# When access points asked last is worth a write this often.
_ASKED_EVERY_S = 60.0
_TELL_AGAIN_S = 3_600.0
_MOST_FAULTS = 64
# In a flood the log has this many answers of each two seconds, and of each fault so many.
_MOST_ANSWERS, _MOST_OF_A_FAULT = 1_000, 10
# What changes all the time, and that no person waits for, is written this often.
_SAVE_SLOWLY_S = 30.0


class SettingsOfServer(Protocol):
    """Which lists are answered for, and whether that has changed."""

    problem: str

    @property
    def lists(self) -> Sequence[RadiusSettings]:
        """Return them."""

    def changed(self) -> bool:
        """Tell whether the settings were written since they were read."""

    def read_again(self) -> bool:
        """Read them again. Returns whether they are others by now."""


class Serving:
    """Answers for the lists of a site."""

    def __init__(self, files: RadiusFiles, settings: SettingsOfServer, clock: Clock) -> None:
        """Read the lists and the last state; ``clock`` shows the site's own time."""
        self.files, self._settings, self.clock = files, settings, clock
        self._loading = LoadLists(files)
        before = self._last_state()
        memory = Memory(Sessions(before.sessions), Attempts(before.attempts), dict(before.reported))
        self._faults: dict[tuple[str, str], Fault] = dict(before.faults)
        self._told: dict[tuple[str, str], float] = {}
        self._asked = dict(before.asked)
        self._disconnections = Disconnections()
        self._answers: deque[Answer] = deque(maxlen=_MOST_ANSWERS)
        self._look_at = self._save_at = self._judge_at = self._judged_at = 0.0
        self._dirty, self._stale, self._saved_at = True, False, 0.0
        self._of_fault: Counter[tuple[str, str]] = Counter()  # answers of each fault that wait to be written
        self._responder = self._made(memory)

    @property
    def lists(self) -> list[RadiusSettings]:
        """Return the lists that are answered for."""
        return list(self._settings.lists)

    @property
    def in_a_line(self) -> str:
        """Return its state in a line, for the service manager."""
        here = sum(each.ended is None and bool(each.number) for each in self._responder.memory.sessions)
        said = f"{counted(len(self.lists), 'list')}, {counted(here, 'session')}"
        return "; ".join([said, *self._problems()[:1]])

    def answer(self, packet: Packet, monotonic: float) -> bytes | None:
        """Return the reply to a packet, if there is to be one."""
        now = self.clock.now()
        sessions = self._responder.memory.sessions
        before = sessions.count
        reply = self._responder.answer(packet, now, monotonic)
        if sessions.count != before:
            self._dirty = True
            self._judge_at = min(self._judge_at, max(monotonic, self._judged_at + _JUDGE_EVERY_S))  # one may be back
        return reply

    def too_many(self, packet: Packet) -> None:
        """Note a packet for which there was no room."""
        self._note(Answer(self.clock.now(), packet.source, Outcome.NO_ANSWER, Reason.BUSY))

    def turn(self, monotonic: float) -> list[Order]:
        """Do what is due. Returns requests to disconnect that are to be sent now."""
        if monotonic >= self._look_at:
            self._look_at = monotonic + _LOOK_EVERY_S
            self.look()
        now = self.clock.now()
        if monotonic >= self._judge_at:
            self._judge(now, monotonic)
        return self._disconnections.due(self._points(), now, monotonic)

    def wake_at(self) -> float:
        """Return when something is due next, by the monotonic clock."""
        return min(self._look_at, self._judge_at, self._disconnections.wake_at())

    def hear(self, packet: Packet, monotonic: float) -> bool:
        """Take in a reply to a request to disconnect. Returns whether it was one."""
        remembers = {name: point.settings.remembers_s for name, point in self._points().items()}
        heard = self._disconnections.hear(packet.data, packet.source, remembers, monotonic)
        if heard is None:
            return False
        sessions = self._responder.memory.sessions
        gone = heard.told is Told.NOT_THERE
        # What was let in without a report ends with the word of the access point; what is reported, by its report.
        ended = [each for each in sessions if each.departure == heard.key and (gone or not each.number)]
        if heard.told in (Told.DONE, Told.NOT_THERE):
            sessions.end(ended, self.clock.now())
        log.info("%s: %s %s", heard.access_point, heard.told.value, heard.mac)
        self._dirty = True
        return True

    def to_write(self, monotonic: float, *, now: bool = False) -> tuple[str | None, list[Answer]] | None:
        """Return the state and the answers that are to be written; None: nothing is due."""
        whole = now or self._dirty or (self._stale and monotonic >= self._saved_at + _SAVE_SLOWLY_S)
        if not now and (monotonic < self._save_at or not (whole or self._answers)):
            return None
        self._save_at = monotonic + _SAVE_EVERY_S
        answers = list(self._answers)
        self._answers.clear()
        self._of_fault.clear()
        if not whole:
            return None, answers
        self._dirty, self._stale, self._saved_at = False, False, monotonic
        return state_text(self.state()), answers

    def reload(self) -> None:
        """Read the settings again."""
        if self._settings.read_again():
            self._responder = self._made(self._responder.memory, self._responder)
            log.info("the settings were read again")
        self._tell_problems()

    def _made(self, memory: Memory, before: Responder | None = None) -> Responder:
        problems = self._loading.problems
        for each in [key for key in problems if key.startswith("secret")]:
            del problems[each]

        def told(problem: str) -> None:
            problems[f"secret {problem}"] = problem

        secrets = before.secrets if before is not None else {}
        local = self.clock.local
        made = make_responder(self.lists, self.files.site_folder, local, memory, self._note, told=told, before=secrets)
        self._responder = made
        self._loading.publish_again(made)
        self._loading.look(self.lists, made)
        self._judge_at = 0.0
        self._dirty = True
        self._tell_problems()
        return made

    def look(self) -> None:
        """Read what has changed: settings and lists."""
        if self._settings.changed():
            self.reload()
        if self._loading.look(self.lists, self._responder):
            log.info("answering by %s", ", ".join(f"{each.network!r}" for each in self.lists))
            self._tell_problems()
            self._dirty, self._save_at, self._judge_at = True, 0.0, 0.0

    def _tell_problems(self) -> None:
        for problem in self._problems():
            log.warning("%s", problem)

    def _problems(self) -> list[str]:
        return [*filter(None, [self._settings.problem]), *self._loading.problems.values()]

    def _judge(self, now: datetime, monotonic: float) -> None:
        """Find who is refused by now and still there, and when to look again."""
        self._judged_at = monotonic
        responder, lists = self._responder, {each.network: each for each in self.lists}
        sessions = responder.memory.sessions
        sessions.settle(
            now,
            {network: each.report_s for network, each in lists.items()},
            {network: each.longest_s for network, each in lists.items()},
        )
        refused: list[Session] = []
        for each in sessions:
            if each.ended is None and each.network in lists:
                outcome = responder.decide(each.network, each.mac, now).outcome
                other_vlan = outcome is Outcome.OTHER_VLAN
                if outcome is Outcome.REJECTED or (other_vlan is not each.other_vlan):
                    refused.append(each)
        self._disconnections.want(refused, now, monotonic)
        coming = [at for each in responder.admissions.values() if (at := each.changes_at(now)) is not None]
        ahead = min(((at - now).total_seconds() for at in coming), default=60.0)
        self._judge_at = monotonic + min(max(ahead, 0.05), 60.0)

    def _points(self) -> Mapping[str, AskingPoint]:
        return {point.name: point for each in self.lists for point in self._responder.points.of(each.port)}

    def _note(self, answer: Answer) -> None:
        if answer.reason in FAULTS:
            self._note_fault(answer)
            return
        self._answers.append(answer)
        if answer.outcome is Outcome.REJECTED:
            self._dirty = True
        at = self._asked.get(answer.access_point)
        if answer.access_point and (at is None or abs((answer.at - at).total_seconds()) > _ASKED_EVERY_S):
            self._dirty, self._stale = self._dirty or at is None, True
            self._asked[answer.access_point] = answer.at

    def _note_fault(self, answer: Answer) -> None:
        key = (answer.access_point or answer.source, answer.reason.name)
        before = self._faults.pop(key, None)
        times = before.times + 1 if before is not None else 1
        self._faults[key] = Fault(answer.reason, times, answer.at, answer.said)
        if len(self._faults) > _MOST_FAULTS:
            del self._faults[next(iter(self._faults))]
        self._dirty, self._stale = self._dirty or before is None, True
        self._of_fault[key] += 1
        if self._of_fault[key] <= _MOST_OF_A_FAULT and len(self._of_fault) <= _MOST_FAULTS:
            self._answers.append(answer)
        monotonic = self.clock.monotonic()
        if monotonic - self._told.get(key, float("-inf")) > _TELL_AGAIN_S:
            if len(self._told) > 4 * _MOST_FAULTS:
                self._told.clear()
            self._told[key] = monotonic
            said = f" ({answer.said})" if answer.said else ""
            advice = ADVICE.get(answer.reason, "")
            log.warning("%s: %s%s%s", key[0], answer.reason.value, said, f"; {advice}" if advice else "")

    def state(self) -> ServerState:
        """Return what is known now."""
        leaving = tuple(
            Leaving(each.access_point, each.network, each.mac, each.since, each.told) for each in self._disconnections
        )
        memory = self._responder.memory
        return ServerState(
            self._loading.answers_by,
            tuple(memory.sessions),
            memory.attempts.all(),
            self._faults,
            leaving,
            self._asked,
            memory.reported,
            "; ".join(self._problems()),
        )

    def _last_state(self) -> ServerState:
        try:
            return self.files.server_state()
        except ScopionError as error:
            log.warning("what was known of sessions and attempts is lost: %s", error)
            return ServerState()
