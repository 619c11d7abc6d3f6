"""Answers access points: packets, their sender and the time go in, a reply comes out.

It opens nothing, and keeps all in memory, so that it answers whatever becomes of files.

An answer is what the published policy says at that moment. A session ends, at the latest, when its device is no longer
admitted.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Protocol

from scopion.model.errors import MalformedFrame
from scopion.model.mac import MacAddress
from scopion.model.week import Local
from scopion.roster.wifi.lists import ListMode
from scopion.wire.radius import Attributes, Code, RadiusMessage, Signature, Value, decode_radius
from scopion.wireless.list_policy import ListPolicy
from scopion.wireless.radius.admissions import Admission, Admissions
from scopion.wireless.radius.answer import FAULTS, Answer, Outcome, Reason
from scopion.wireless.radius.asking_points import AskingPoint, AskingPoints, Secrets, is_this_machine
from scopion.wireless.radius.attempts import Attempts
from scopion.wireless.radius.question import Unanswerable, require_password, station_of
from scopion.wireless.radius.radius_settings import RadiusSettings
from scopion.wireless.radius.recent_replies import Key, RecentReplies
from scopion.wireless.radius.sessions import OFF, ON, Session, Sessions

TEST = "scopion-test"  # the NAS-Identifier of a question that is only asked to see the answer
# With these an access point asks its other server, if it has one.
_SILENT = (Reason.SECRET, Reason.UNSIGNED, Reason.NO_LIST)
_ENDS, _ASKS_AGAIN = 0, 1  # Termination-Action (RFC 2865, 5.29)
_VLAN, _IEEE_802 = 13, 6  # Tunnel-Type and Tunnel-Medium-Type (RFC 3580, 3.31)


class Packet(Protocol):
    """A datagram that came to one of the ports."""

    @property
    def data(self) -> bytes:
        """Return its octets."""

    @property
    def source(self) -> str:
        """Return the address that it came from."""

    @property
    def source_port(self) -> int:
        """Return the port that it came from."""

    @property
    def port(self) -> int:
        """Return the port at which it came."""


@dataclass(frozen=True, slots=True)
class Decision:
    """What a list says to a question."""

    outcome: Outcome
    reason: Reason
    session_s: int | None = None
    then: int = _ENDS
    vlan: int | None = None


@dataclass(slots=True)
class Memory:
    """What is kept of what access points have asked and reported."""

    sessions: Sessions = field(default_factory=Sessions)
    attempts: Attempts = field(default_factory=Attempts)
    reported: dict[str, datetime] = field(default_factory=dict)  # when each access point sent accounting last


class Responder:
    """Answers for all lists of a site."""

    def __init__(
        self,
        lists: Sequence[RadiusSettings],
        secrets: Mapping[tuple[str, str], Secrets],
        local: Local,
        memory: Memory,
        note: Callable[[Answer], None] = lambda _: None,
    ) -> None:
        """``note`` is told each answer."""
        self._lists = {each.network: each for each in lists}
        self._accounting = {each.accounting_port for each in lists}
        self.secrets = secrets
        self._points = AskingPoints(lists, secrets)
        self._local, self._note = local, note
        self.memory = memory
        self._admissions: dict[str, Admissions] = {}
        self._withheld: set[str] = set()
        self._recent: dict[str, RecentReplies] = {}

    @property
    def points(self) -> AskingPoints:
        """Return the access points that may ask."""
        return self._points

    @property
    def admissions(self) -> Mapping[str, Admissions]:
        """Return the published policies, by network."""
        return self._admissions

    def publish(self, network: str, policy: ListPolicy | None) -> None:
        """Answer by another policy from now on; None: by none, so that every device is accepted."""
        self._withheld.discard(network)
        if policy is None:
            self._admissions.pop(network, None)
        elif network in self._lists:
            ahead = timedelta(seconds=self._lists[network].longest_s)
            self._admissions[network] = Admissions(policy, self._local, ahead)

    def withhold(self, network: str) -> None:
        """Give no answer about a network: this machine stands in for another server, and has no list of it."""
        self._withheld.add(network)

    def answer(self, packet: Packet, now: datetime, monotonic: float) -> bytes | None:
        """Return the reply to a packet; None where there has to be none. Never raises for what a packet holds."""
        point = self._points.at(packet.port, packet.source)
        try:
            point, message = self._read(packet, point)
            key: Key = (packet.source, packet.source_port, message.identifier, message.authenticator)
            recent = self._recent.get(point.name)
            if recent is None:
                recent = self._recent[point.name] = RecentReplies()
            reply = recent.find(key, monotonic)
            if reply is None:
                reply = self._reply(packet, point, message, now)
                recent.keep(key, monotonic, reply)
        except Unanswerable as error:
            name = point.name if point is not None else ""
            self._note(Answer(now, packet.source, Outcome.NO_ANSWER, error.reason, name, said=error.said))
            return None
        return reply

    def _read(self, packet: Packet, point: AskingPoint | None) -> tuple[AskingPoint, RadiusMessage]:
        """Return a packet with the access point that it is from. Raises Unanswerable."""
        found = None
        try:
            if point is not None:
                message = decode_radius(packet.data, point.secret)
                if not is_this_machine(packet.source) or message.signature() is Signature.GOOD:
                    return point, message
                found = point, message
            if is_this_machine(packet.source):  # it may ask for another access point, as a test
                found = self._points.of_test(packet.port, packet.data) or found
        except MalformedFrame:
            raise Unanswerable(Reason.MALFORMED) from None
        if found is None:
            raise Unanswerable(Reason.STRANGER)
        return found

    def _reply(self, packet: Packet, point: AskingPoint, message: RadiusMessage, now: datetime) -> bytes:
        """Return the reply. Raises Unanswerable where there has to be none."""
        code, accounts = message.code, packet.port in self._accounting
        if code == Code.ACCOUNTING_REQUEST and accounts:
            return self._account(packet, point, message, now)
        signature = message.signature()
        if signature is Signature.WRONG:
            raise Unanswerable(Reason.SECRET)
        is_status = code == Code.STATUS_SERVER  # always signed (RFC 5997, 3)
        if not is_status and (code != Code.ACCESS_REQUEST or accounts):
            raise Unanswerable(Reason.KIND, f"code {code}")
        if signature is Signature.NONE and (is_status or point.settings.signs):
            raise Unanswerable(Reason.UNSIGNED)
        if is_status:
            return message.reply(Code.ACCOUNTING_RESPONSE if accounts else Code.ACCESS_ACCEPT, {})
        return self._access(packet, point, message, now, signed=signature is Signature.GOOD)

    def _access(
        self, packet: Packet, point: AskingPoint, message: RadiusMessage, now: datetime, *, signed: bool
    ) -> bytes:
        mac, network, written, said = None, "", "", ""
        try:
            station = station_of(message, point.settings, point.networks.keys())
            mac, network, written = station.mac, point.networks[station.network], station.written
            secrets = point.secrets
            require_password(message, mac, secrets.secret, secrets.password, signed=signed)
            if network in self._withheld:
                raise Unanswerable(Reason.NO_LIST)
            decision = self.decide(network, mac, now)
        except Unanswerable as error:
            if error.reason in _SILENT:
                raise
            decision, said = Decision(Outcome.REJECTED, error.reason), error.said
        test = message.text("NAS-Identifier") == TEST
        outcome, reason, seconds = decision.outcome, decision.reason, decision.session_s
        ends = seconds is not None and decision.then == _ENDS
        answer = Answer(now, packet.source, outcome, reason, point.name, network, mac, seconds, test, said, ends)
        self._note(answer)
        if mac is not None and reason not in FAULTS and not test:
            self._remember(answer, mac, written)
        code = Code.ACCESS_REJECT if decision.outcome is Outcome.REJECTED else Code.ACCESS_ACCEPT
        return message.reply(code, self._attributes(decision, network))

    def decide(self, network: str, mac: MacAddress, now: datetime) -> Decision:
        """Return what is answered about a device at a moment."""
        settings, admissions = self._lists[network], self._admissions.get(network)
        longest = settings.longest_s
        if admissions is None:
            return Decision(Outcome.ACCEPTED, Reason.NOTHING_PUBLISHED, longest, _ASKS_AGAIN)
        said = admissions.of(mac, now)
        left = int((said.until - now).total_seconds()) if said.until is not None else longest
        ends = said.until is not None and left <= longest
        if said.admitted and left >= 1:
            then = _ENDS if ends else _ASKS_AGAIN
            return Decision(Outcome.ACCEPTED, _why_admitted(said), min(left, longest), then)
        stranger = admissions.policy.mode is ListMode.ALLOW and not said.on_allow_list and not said.admitted
        if settings.others_vlan is not None and stranger and not admissions.is_only_for_some(now):
            seconds = max(1, min(left, longest))
            return Decision(Outcome.OTHER_VLAN, Reason.NOT_ALLOWED, seconds, _ASKS_AGAIN, settings.others_vlan)
        return Decision(Outcome.REJECTED, _why_refused(said))

    def _remember(self, answer: Answer, mac: MacAddress, written: str) -> None:
        point, network, now = answer.access_point, answer.network, answer.at
        if answer.outcome is Outcome.REJECTED:
            self.memory.attempts.count(network, point, mac, now)
            return
        sessions, other_vlan = self.memory.sessions, answer.outcome is Outcome.OTHER_VLAN
        if sessions.is_new(point, network, mac, now, other_vlan=other_vlan):
            session = Session(mac, network, point, "", written, answer.source, now, now, other_vlan=other_vlan)
            sessions.grant(session)

    def _account(self, packet: Packet, point: AskingPoint, message: RadiusMessage, now: datetime) -> bytes:
        if not message.has_genuine_authenticator() or message.signature() is Signature.WRONG:
            raise Unanswerable(Reason.SECRET)
        self.memory.reported[point.name] = now
        if message.number("Acct-Status-Type") in (ON, OFF):
            self.memory.sessions.end_all_of(point.name, now)
            return message.reply(Code.ACCOUNTING_RESPONSE, {})
        number = message.text("Acct-Session-Id")
        try:
            station = station_of(message, point.settings, point.networks.keys())
            network = point.networks[station.network]
            if number:
                session = Session(station.mac, network, point.name, number, station.written, packet.source, now, now)
                self.memory.sessions.report(message, session)
        except Unanswerable as error:
            # It is taken note of, or the access point would send it again and again (RFC 2866, 4.2).
            self._note(Answer(now, packet.source, Outcome.NO_ANSWER, error.reason, point.name, said=error.said))
        return message.reply(Code.ACCOUNTING_RESPONSE, {})

    def _attributes(self, decision: Decision, network: str) -> Attributes:
        if decision.outcome is Outcome.REJECTED:
            return {}
        found: dict[str, Value] = {
            "Session-Timeout": decision.session_s or 0,
            "Termination-Action": decision.then,
            "Acct-Interim-Interval": self._lists[network].report_s,
        }
        if decision.vlan is not None:
            found |= {"Tunnel-Type": _VLAN, "Tunnel-Medium-Type": _IEEE_802}
            found["Tunnel-Private-Group-Id"] = str(decision.vlan)
        return found


def _why_admitted(said: Admission) -> Reason:
    whys = {ListMode.OFF: Reason.LIST_OFF, ListMode.DENY: Reason.NOT_DENIED}
    return whys.get(said.mode, Reason.ALLOWED)


def _why_refused(said: Admission) -> Reason:
    if said.mode is ListMode.DENY:
        return Reason.DENIED
    return Reason.HOURS if said.on_allow_list or said.admitted else Reason.NOT_ALLOWED
