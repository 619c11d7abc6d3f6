"""Judges lists by RADIUS: secrets, signatures, what happens without an answer, and what access points do. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.model.clock import spoken_span
from scopion.model.text import counted, joined
from scopion.wireless.judge_posture import STRONG, WEAK, Finding, Grade, strength
from scopion.wireless.radius.answer import ADVICE
from scopion.wireless.radius.disconnections import Told
from scopion.wireless.radius.radius_settings import RadiusSettings, unanswered
from scopion.wireless.radius.server_state import ServerState

_LATELY = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class RadiusFacts:
    """What is known of a list and its server; ``state`` is None while no server runs."""

    settings: RadiusSettings
    sent: datetime | None  # when the first server sent the list, for which this machine stands in; None: never
    secrets: Mapping[str, str]  # by access point, those that can be read
    state: ServerState | None
    now: datetime


def judge_radius(facts: RadiusFacts) -> Iterator[Finding]:
    """Yield what there is to say, in no order."""
    settings, name = facts.settings, facts.settings.name
    page = "RADIUS tells nothing of it"
    yield Finding(Grade.UNKNOWN, name, "encryption", page, "look in the pages for WPA2 or WPA3, WPS off")
    if facts.state is None:
        says = "no server of this site runs here, so access points get no answer from this machine"
        yield Finding(Grade.HIGH, name, "server", says, "scopion service install, or scopion wifi radius serve")
    refuse = [each for each in settings.access_point if each.unreachable == "refuses"]
    if refuse:
        do = "keep this machine on; if a page can say what happens then, choose, and set unreachable in site.toml"
        yield Finding(Grade.LOW, name, "without an answer", unanswered(settings), do)
    yield from _second(facts)
    old = [each.name for each in settings.access_point if not each.signs]
    if old:
        says = f"{joined(old)} asks without a signature: a machine in between could forge an admission"
        yield Finding(Grade.LOW, name, "signature", says, "update its software, then remove signs = false")
    yield from _secrets(facts)
    if facts.state is not None:
        yield from _at_work(facts, facts.state)


def _second(facts: RadiusFacts) -> Iterator[Finding]:
    """Yield what there is to say of the second server, or of the first."""
    settings, where = facts.settings, facts.settings.name
    if settings.stands_in is None:
        if settings.standby is None:
            says = "there is no second server that answers while this machine does not"
            yield Finding(
                Grade.LOW, where, "standby", says, "set standby in site.toml, and a second server in the pages"
            )
        return
    do = "look at the first server's watch, or carry the list: scopion wifi radius export there, take here"
    if facts.sent is None:
        yield Finding(Grade.MEDIUM, where, "standby", "no list has come from the first server yet", do)
        return
    age = max(facts.now - facts.sent, timedelta())
    says = f"it answers by a list that the first server sent {spoken_span(age)} ago"
    if age > _LATELY:
        yield Finding(Grade.MEDIUM, where, "standby", says, do)
    else:
        yield Finding(Grade.FINE, where, "standby", says)


def _secrets(facts: RadiusFacts) -> Iterator[Finding]:
    known = [facts.settings.network, *(each.name for each in facts.settings.access_point)]
    graded = {name: strength(secret, known) for name, secret in facts.secrets.items()}
    do = "scopion wifi radius sheet --make-secrets makes up better ones where their files are missing"
    for grade, says, low, high in (
        (Grade.HIGH, "could be guessed within hours from a single packet", 0.0, WEAK),
        (Grade.MEDIUM, "could be guessed with effort from a single packet", WEAK, STRONG),
    ):
        weak = [name for name, power in graded.items() if low <= power < high]
        if weak:
            yield Finding(grade, facts.settings.name, "secret", f"that of {joined(weak)} {says}", do)
    if graded and min(graded.values()) >= STRONG:
        yield Finding(Grade.FINE, facts.settings.name, "secret", "strong")
    same = len(facts.secrets) - len(set(facts.secrets.values()))
    if same:
        says = "several access points have one secret: who opens one of them can answer for all"
        yield Finding(Grade.LOW, facts.settings.name, "secret", says, "give each a secret of its own")


def _at_work(facts: RadiusFacts, state: ServerState) -> Iterator[Finding]:
    """Yield what access points do, as the server has seen."""
    let_in = {each.access_point for each in state.sessions if not each.number}
    for each in facts.settings.access_point:
        where = f"{facts.settings.name}, {each.name}"
        asked = state.asked.get(each.name)
        if asked is None:
            says = "has not asked yet: its page may not be set up"
            yield Finding(Grade.LOW, where, "questions", says, "scopion wifi radius has what to enter there")
            continue
        said = f"asked last {spoken_span(max(facts.now - asked, timedelta()))} ago"
        yield Finding(Grade.FINE, where, "questions", said)
        if each.name in let_in and each.name not in state.reported:
            says = "reports no accounting, so it is not known which devices are associated with it"
            yield Finding(Grade.LOW, where, "accounting", says, "switch accounting on in its page")
    for (where, _), fault in state.faults.items():
        if facts.now - fault.last <= _LATELY:
            says = f"{fault.reason.value} ({counted(fault.times, 'time')})"
            yield Finding(Grade.MEDIUM, where, "questions", says, ADVICE.get(fault.reason, "scopion wifi radius log"))
    mute = sorted({each.access_point for each in state.leaving if each.told in (Told.NOTHING, Told.REFUSED)})
    for name in mute:
        says = "does not disconnect refused devices when it is told to: they stay until their session ends"
        yield Finding(Grade.LOW, name, "disconnecting", says, "switch dynamic authorization (RFC 5176) on in its page")
