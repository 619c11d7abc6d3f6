"""Says how a site is looked after, in lines: what is fine, what is to be known, and what needs a person. Pure."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from scopion.model.batch import RIGHT_WITHIN, USUAL_LAG
from scopion.model.clock import spoken_span
from scopion.model.text import counted, joined, spoken_size
from scopion.model.week import Local
from scopion.reports.site_status import ListStatus, SensorStatus, SiteStatus

# A copy is made with the first change of each day: an older one, and changes since, means that copies fail.
_COPY_OLD = timedelta(days=2)
# By then the maker of many a new device is not in the listing.
_LISTING_OLD_DAYS = 365
# Copies and a year's growth need room: a full disk loses what is heard.
_LEAST_FREE = 200_000_000  # octets
# Who was here before that may have left since.
_LOOK_OLD = timedelta(minutes=30)
_FOLLOWED_SHOWN = 5  # alerts that wait for a person, the latest; it is one screen
# A round of ``watch --once`` is due again after this at the latest; cron calls it more often.
_ROUND_OLD = timedelta(days=1)


class State(StrEnum):
    """What a line means for the reader."""

    FINE = "fine"
    NOTE = "note"
    TROUBLE = "trouble"  # it needs a person


SIGNS = {State.FINE: "✓", State.NOTE: "·", State.TROUBLE: "✗"}


@dataclass(frozen=True, slots=True)
class StatusLine:
    """One thing that is looked after."""

    part: str
    state: State
    says: str
    do: str = ""  # the command that goes on from there
    of_machine: bool = False  # it is about this machine's files, and no news as long as it is fine


def for_page(lines: Iterable[StatusLine]) -> tuple[StatusLine, ...]:
    """Return the lines for a reader elsewhere: what is fine with this machine's files is left out."""
    return tuple(each for each in lines if each.state is not State.FINE or not each.of_machine)


def status_lines(status: SiteStatus, local: Local) -> tuple[StatusLine, ...]:
    """Return a status in lines, in the order of the work."""
    words = _Words(status, local)
    return (
        *words.watch(),
        *words.subnets(),
        *words.sensors(),
        *words.essential(),
        *words.channels(),
        *words.followed(),
        *words.lists(),
        *words.due(),
        *words.roster(),
        *words.machine(),
    )


class _Words:
    """Words the lines of one status."""

    def __init__(self, status: SiteStatus, local: Local) -> None:
        self._status, self._local, self._now = status, local, status.at

    def watch(self) -> Iterator[StatusLine]:
        watch = self._status.watch
        if watch.running:
            how = "as a service, " if watch.service else ""
            who = f"process {watch.process} on {watch.host}, by {watch.account}" if watch.host else "since just now"
            hears = (
                "" if watch.raw_frames is None else "hears raw frames" if watch.raw_frames else "hears no raw frames"
            )
            since = f"runs since {self._at(watch.since)}" if watch.since else "runs"
            says = ", ".join(filter(None, (f"{since}: {how}{who}", hears)))
            yield StatusLine("watch", State.FINE, says, "" if watch.raw_frames is not False else "scopion here")
        elif watch.once and watch.ended is not None and self._now - watch.ended < _ROUND_OLD:
            says = f"one round at a time (watch --once): the last ended {self._ago(watch.ended)}"
            yield StatusLine("watch", State.FINE, says)
        else:
            yield self._no_watch()
        for each in watch.troubles if watch.running or watch.once else ():
            since = f" (since {self._at(each.since)})"
            yield StatusLine("watch", State.TROUBLE, f"{each.doing}: {each.problem}{since}")

    def _no_watch(self) -> StatusLine:
        status, watch = self._status, self._status.watch
        says = "no watch runs"
        if watch.since is not None and watch.ended is None:
            says += f"; the last, which began {self._at(watch.since)}, was ended from outside"
        elif watch.ended is not None:
            says += f"; the last ended {self._ago(watch.ended)}"
        missed = ["alerts are not sent" if status.channels else "", "hours and ends are not kept" if status.due else ""]
        if left := joined(list(filter(None, missed))):
            says += f": {left}"
        elif not status.wants_watch:
            return StatusLine(
                "watch", State.NOTE, f"{says}: what comes and goes is seen by your scans only", "scopion watch"
            )
        return StatusLine("watch", State.TROUBLE, says, "scopion watch")

    def subnets(self) -> Iterator[StatusLine]:
        if not self._status.subnets:
            yield StatusLine("subnets", State.TROUBLE, "none was scanned yet", "scopion scan")
        for each in self._status.subnets:
            name = f"{each.name or each.range}{f', {each.place}' if each.place else ''}"
            look = f"scopion scan {each.range}" if each.here else "scopion sensors"
            if each.completed_at is None:
                yield StatusLine(name, State.TROUBLE, "was never scanned completely", look)
                continue
            says = f"looked at {self._ago(each.looked_at or each.completed_at)}"
            if each.looked_at is not None and each.looked_at - each.completed_at > timedelta(seconds=1):
                says += f", completely {self._ago(each.completed_at)}"
            if each.down_since is not None:
                says += f"; down since {self._at(each.down_since)}: no device answers"
            late = self._now - each.completed_at > timedelta(seconds=3 * each.every_s + 600)
            if self._status.watch.running and late and each.down_since is None and each.here:
                says += f", though a sweep is set every {spoken_span(timedelta(seconds=each.every_s))}"
                yield StatusLine(name, State.TROUBLE, says, "scopion here")
            else:
                state = State.TROUBLE if each.down_since is not None else State.FINE if not late else State.NOTE
                yield StatusLine(name, state, says, "" if state is State.FINE else look)
            if each.learning_until is not None:
                says = f"being learnt until {self._at(each.learning_until)}: what joins is told once a day"
                yield StatusLine(name, State.NOTE, says, "scopion alerts learning --end")

    def sensors(self) -> Iterator[StatusLine]:
        for each in self._status.sensors:
            name = f"sensor {each.name}, {each.place}"
            if each.state == "here":
                yield from self._sensor(each, name)
            elif each.state == "silent" and each.heard is not None:
                says = f"silent since {self._at(each.heard)}: nothing there counts as gone, and nothing is told"
                # While no watch runs none is heard: that is told in its own line.
                state = State.TROUBLE if self._status.watch.running else State.NOTE
                yield StatusLine(name, state, says, "scopion sensors")
            elif each.state == "never-heard":
                yield StatusLine(name, State.TROUBLE, "was never heard", "scopion sensors")
            else:
                yield StatusLine(name, State.NOTE, "is in the roster, and not in site.toml: it is not heard")

    def _sensor(self, sensor: SensorStatus, name: str) -> Iterator[StatusLine]:
        yield StatusLine(name, State.FINE, f"heard {self._ago(sensor.heard)}" if sensor.heard else "heard")
        if sensor.lag_s is not None and sensor.lag_s > USUAL_LAG.total_seconds():
            says = f"is {spoken_span(timedelta(seconds=sensor.lag_s))} behind"
            says += f": {counted(sensor.waiting, 'batch', 'batches')} still to come" if sensor.waiting else ""
            yield StatusLine(name, State.NOTE, says, "scopion sensors")
        if sensor.offset_s is not None and abs(sensor.offset_s) > RIGHT_WITHIN.total_seconds():
            way = "ahead" if sensor.offset_s > 0 else "slow"
            span = spoken_span(timedelta(seconds=abs(sensor.offset_s)))
            yield StatusLine(name, State.NOTE, f"its clock is {span} {way}: what it tells is corrected")
        if sensor.kept:
            says = f"speaks a later version: {counted(sensor.kept, 'document')} kept until this machine has it"
            yield StatusLine(name, State.TROUBLE, says, "scopion sensors")
        for trouble in sensor.troubles:
            yield StatusLine(name, State.TROUBLE, trouble, "scopion sensors")

    def essential(self) -> Iterator[StatusLine]:
        every = self._status.essential
        away = [
            each for each in every if not each.here and (self._now - each.seen_at).total_seconds() >= each.patience_s
        ]
        for each in away:
            says = f"{each.name} is away, as it may be {each.planned}; last seen {self._at(each.seen_at)}"
            if each.planned:
                yield StatusLine("essential", State.NOTE, says)
                continue
            told = f"; you were told {self._at(each.told_at)}" if each.told_at is not None else ""
            missing = f"{each.name} is missing: last seen {self._at(each.seen_at)}{told}"
            yield StatusLine("essential", State.TROUBLE, missing, f"scopion show {shlex.quote(each.word)}")
        if every and not away:
            looked = max((each.looked_at for each in self._status.subnets if each.looked_at is not None), default=None)
            old = looked is None or self._now - looked > _LOOK_OLD
            verb = ("was" if old else "is") if len(every) == 1 else ("were" if old else "are")
            says = f"{counted(len(every), 'device')} must be here, and {'it' if len(every) == 1 else 'all'} {verb}"
            if old and looked is not None:
                says += f" when it was looked at last, {self._ago(looked)}"
            yield StatusLine("essential", State.NOTE if old else State.FINE, says)

    def channels(self) -> Iterator[StatusLine]:
        status = self._status
        if not status.channels:
            yield StatusLine("alerts", State.NOTE, "no channel is set: no person gets an alert", "scopion alerts add")
        for each in status.channels:
            told = f"last sent {self._ago(each.sent_at)}" if each.sent_at else "nothing was sent yet"
            parts, state, do = [told], State.FINE, ""
            if each.failed_at is not None and (each.sent_at is None or each.failed_at > each.sent_at):
                parts.append(f"given up {self._ago(each.failed_at)}")
                state, do = State.TROUBLE, f"scopion alerts test {shlex.quote(each.name)}"
            if each.waiting and each.waiting_since is not None:
                why = "" if status.watch.running or each.problem else ", because no watch runs"
                verb = "waits" if each.waiting == 1 else "wait"
                parts.append(f"{counted(each.waiting, 'alert')} {verb} since {self._at(each.waiting_since)}{why}")
                old = self._now - each.waiting_since > timedelta(minutes=5)
                if old or not status.watch.running:
                    state = State.TROUBLE
                    do = f"scopion alerts test {shlex.quote(each.name)}" if each.problem else "scopion watch"
            if each.gathering and each.next_at is not None:
                held = "is" if each.gathering == 1 else "are"
                parts.append(f"{counted(each.gathering, 'alert')} {held} held until {self._at(each.next_at)}")
            if each.problem:
                parts.append(each.problem)
            yield StatusLine(each.name, state, "; ".join(parts), do)

    def followed(self) -> Iterator[StatusLine]:
        every = self._status.followed
        for each in every[-_FOLLOWED_SHOWN:]:
            what = f"{each.alert}, {each.subject}"
            if each.seen_at is not None:
                note = f": {each.note}" if each.note else ""
                says = f"{each.seen_by or 'someone'} has taken on {what}, {self._ago(each.seen_at)}{note}"
                yield StatusLine("alert", State.NOTE, says)
                continue
            told = f"told {self._ago(each.told_at)}" if each.told_at is not None else "not delivered"
            says = f"no one has taken on {what}, {told}"
            yield StatusLine("alert", State.TROUBLE, says, f"scopion alerts seen {each.alert}")
        if (more := len(every) - _FOLLOWED_SHOWN) > 0:
            yield StatusLine("alert", State.NOTE, f"{more} more that are older", "scopion alerts list")

    def lists(self) -> Iterator[StatusLine]:
        for each in self._status.lists:
            yield self._list(each)

    def _list(self, each: ListStatus) -> StatusLine:
        word, mode = shlex.quote(each.ssid), f"mode {each.mode}"
        where = f"{each.ssid!r}, {'the page' if each.by_hand and not each.enforcer else each.enforcer}"
        put = "typed in" if each.by_hand else "pushed"
        parts, state, do = [mode], State.FINE, ""
        if each.pushed_at is not None:
            parts.append(f"{put} {self._ago(each.pushed_at)}")
        if each.verified_at is not None:
            verdict = {True: "works", False: "does not work", None: "could not be seen"}[each.works]
            parts.append(f"verified {self._ago(each.verified_at)}: {verdict}")
        if each.read_at is not None:
            parts.append(f"read {self._ago(each.read_at)}" if not each.read_problem else "")
        if each.works is False:
            state, do = State.TROUBLE, f"scopion wifi verify {word}"
            parts += each.unmet[:1]
        if each.read_problem:
            parts.append(f"cannot be reached: {each.read_problem}")
            state, do = State.TROUBLE, f"scopion wifi verify {word}"
        if each.push_problem:
            parts.append(each.push_problem)
            state, do = State.TROUBLE, f"scopion wifi push {word}"
        if each.pending:
            how = f"changed since it was {put}" if each.pushed_at is not None else f"never {put}"
            parts.append(how)
            state, do = State.TROUBLE, f"scopion wifi {'sheet' if each.by_hand else 'push'} {word}"
        if each.to_type or each.due_since is not None:
            since = f" since {self._at(each.due_since)}" if each.due_since is not None else ""
            parts.append(f"to type in{since}: {each.to_type or 'what time has changed'}")
            state, do = State.TROUBLE, f"scopion wifi sheet {word}"
        return StatusLine(where, state, "; ".join(filter(None, parts)), do)

    def due(self) -> Iterator[StatusLine]:
        for each in self._status.due:
            yield StatusLine("next", State.NOTE, f"{self._at(each.at)}: {each.what} ({each.ssid!r})")

    def roster(self) -> Iterator[StatusLine]:
        known = self._status.roster
        if known.new:
            verb = "is" if known.new == 1 else "are"
            says = f"{counted(known.new, 'device')} of {known.devices} {verb} new: say what they are"
            yield StatusLine("devices", State.NOTE, says, "scopion review")
        says = f"{spoken_size(known.octets)}, {counted(known.devices, 'device')}, {known.present} here"
        if known.copied_at is None:
            copy = "; no copy of it yet"
        else:
            copy = f"; copied {self._ago(known.copied_at)} ({spoken_size(known.copy_octets or 0)})"
        dates = known.changed_at, known.copied_at
        failing = dates[0] is not None and dates[1] is not None and dates[0] - dates[1] > _COPY_OLD
        yield _of_machine("roster", f"{says}{copy}", State.TROUBLE if failing else State.FINE, "scopion roster check")
        if known.damaged:
            says = f"{counted(len(known.damaged), 'damaged file')} kept aside: {known.damaged[0]}"
            yield _of_machine("roster", says, State.NOTE, "scopion roster restore")

    def machine(self) -> Iterator[StatusLine]:
        listing, free = self._status.listing, self._status.free_octets
        if listing is not None:
            state = State.NOTE if listing.days > _LISTING_OLD_DAYS else State.FINE
            says = f"listing as of {listing.as_of.isoformat()}, {spoken_span(timedelta(days=listing.days))} old"
            yield _of_machine("vendors", says, state, "scopion vendor --refresh URL")
        if free is not None:
            low = free < max(_LEAST_FREE, 3 * self._status.roster.octets)
            says = f"{spoken_size(free)} free where the roster is{': too little for copies and growth' if low else ''}"
            yield _of_machine("disk", says, State.TROUBLE if low else State.FINE, "scopion roster compact")

    def _at(self, moment: datetime) -> str:
        wall, today = self._local(moment), self._local(self._now)
        return f"{wall:%H:%M}" if wall.date() == today.date() else f"{wall:%a %d %b, %H:%M}"

    def _ago(self, moment: datetime) -> str:
        passed = self._now - moment
        return "just now" if passed < timedelta(seconds=60) else f"{spoken_span(passed)} ago"


def _of_machine(part: str, says: str, state: State, do: str) -> StatusLine:
    return StatusLine(part, state, says, "" if state is State.FINE else do, of_machine=True)
