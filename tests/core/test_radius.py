"""Lists by RADIUS without any socket: packets, what is answered at which moment, sessions, attempts, departures."""

from __future__ import annotations

import hmac
import io
import unittest
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address

from hypothesis import given, settings
from hypothesis import strategies as st
from pyrad.dictionary import Dictionary
from pyrad.packet import AuthPacket

from scopion.attachment.udp_server import Arrival
from scopion.model.mac import MacAddress, Notation
from scopion.roster.wifi.lists import ListMode
from scopion.wire.radius import (
    Attributes,
    Code,
    RadiusMessage,
    SentRequest,
    Signature,
    Value,
    decode_radius,
    encode_request,
)
from scopion.wireless.coverage import Line
from scopion.wireless.list_policy import ListPolicy, ListRule, wanted
from scopion.wireless.radius.admissions import Admissions
from scopion.wireless.radius.answer import Answer, Outcome, Reason, answer_document, read_answer
from scopion.wireless.radius.asking_points import AskingPoint, Secrets
from scopion.wireless.radius.disconnections import Disconnections, Told
from scopion.wireless.radius.published import PublishedList, digest_of, published_text, read_published
from scopion.wireless.radius.radius_settings import AskingSettings, RadiusSettings
from scopion.wireless.radius.responder import Memory, Responder
from scopion.wireless.radius.server_state import ServerState, read_state, state_text
from scopion.wireless.radius.sessions import present
from tests.wifi.test_wifi_hours import MACS, local, moments, policies

SECRET = "made-up secret of the counter"
COUNTER, OVEN, ELSEWHERE = "192.0.2.11", "192.0.2.12", "192.0.2.77"
TILL, STRANGER = MacAddress.parse("54:b1:a3:7c:00:50"), MacAddress.parse("a0:b4:d7:66:19:04")
SSID = "Kilnhaven"
NOON = datetime(2026, 9, 14, 12, tzinfo=UTC)
# What a codec of its own is told of the attributes of replies (RFC 2865, RFC 2868).
DICTIONARY = """
ATTRIBUTE Reply-Message 18 string
ATTRIBUTE Session-Timeout 27 integer
ATTRIBUTE Tunnel-Type 64 integer has_tag
ATTRIBUTE Tunnel-Private-Group-Id 81 string has_tag
"""


def point(name: str = "counter", address: str = COUNTER, **more: object) -> AskingSettings:
    return AskingSettings(name=name, address=ip_address(address), secret="env:X", **more)  # type: ignore[arg-type]


def a_list(*points: AskingSettings, **more: object) -> RadiusSettings:
    return RadiusSettings(type="radius", name="café", network=SSID, access_point=points or (point(),), **more)  # type: ignore[arg-type]


def policy(mode: ListMode, *macs: MacAddress, hours: object = None) -> ListPolicy:
    rules = tuple(ListRule(mode, Line(mac, "", own=False), hours) for mac in macs)  # type: ignore[arg-type]
    return ListPolicy(SSID, mode, rules)


class Answering:
    """A responder, and an access point that asks it."""

    def __init__(self, *lists: RadiusSettings, published: ListPolicy | None = None) -> None:
        self.answers: list[Answer] = []
        self.lists = lists or (a_list(),)
        secrets = {(each.name, one.name): Secrets(SECRET) for each in self.lists for one in each.access_point}
        self.responder = Responder(self.lists, secrets, local, Memory(), self.answers.append)
        self.responder.publish(SSID, published)
        self.identifier = 0
        self.monotonic = 0.0

    def question(self, mac: MacAddress, secret: str = SECRET, **how: object) -> SentRequest:
        """An Access-Request as hostapd makes it; ``how`` changes it."""
        self.identifier = (self.identifier + 1) % 256
        name = how.pop("name", mac.written(Notation.BARE))
        attributes: dict[str, Value] = {
            "User-Name": str(name),
            "Calling-Station-Id": mac.written(Notation.HYPHEN),
            "Called-Station-Id": f"02-00-00-00-00-01:{SSID}",
            "NAS-Identifier": "counter.kilnhaven.example",
        }
        changed: Mapping[str, Value | None] = how.pop("but", {})  # type: ignore[assignment]
        attributes = {key: value for key, value in (attributes | changed).items() if value is not None}  # type: ignore[operator]
        password = how.pop("password", str(name))
        return encode_request(
            Code.ACCESS_REQUEST,
            secret.encode(),
            attributes,
            identifier=self.identifier,
            password=password,  # type: ignore[arg-type]
            **how,  # type: ignore[arg-type]
        )

    def send(self, octets: bytes, source: str = COUNTER, now: datetime = NOON, port: int = 1812) -> bytes | None:
        return self.responder.answer(Arrival(octets, source, 32_768, port), now, self.monotonic)

    def ask(
        self, mac: MacAddress = TILL, now: datetime = NOON, source: str = COUNTER, **how: object
    ) -> RadiusMessage | None:
        """Ask, and check the reply as an access point does; None without one that is good."""
        request = self.question(mac, **how)  # type: ignore[arg-type]
        reply = self.send(request.octets, source, now)
        return None if reply is None else request.read_reply(reply, signed=True)

    def report(
        self, kind: int, mac: MacAddress = TILL, now: datetime = NOON, number: str = "A1", **more: Value
    ) -> bool:
        """Send accounting; whether it was taken."""
        self.identifier = (self.identifier + 1) % 256
        written = {name.replace("_", "-"): value for name, value in more.items()}
        attributes: Attributes = {
            "User-Name": mac.written(Notation.BARE), "Calling-Station-Id": mac.written(Notation.HYPHEN),
            "Called-Station-Id": f"02-00-00-00-00-01:{SSID}", "Acct-Session-Id": number, "Acct-Status-Type": kind,
            **written,
        }  # fmt: skip
        request = encode_request(
            Code.ACCOUNTING_REQUEST, SECRET.encode(), attributes, identifier=self.identifier, signed=False
        )
        reply = self.send(request.octets, now=now, port=1813)
        return reply is not None and request.read_reply(reply) is not None


class Answers(unittest.TestCase):
    def test_a_device_on_the_list_is_accepted_and_no_other(self) -> None:
        """Accept with a session and its reports, or Reject; a Message-Authenticator comes first in both."""
        at = Answering(published=policy(ListMode.ALLOW, TILL))
        request = at.question(TILL)
        octets = at.send(request.octets)
        assert octets is not None
        self.assertEqual(octets[20:22], bytes((80, 18)))
        accepted = request.read_reply(octets, signed=True)
        assert accepted is not None
        self.assertEqual(accepted.code, Code.ACCESS_ACCEPT)
        self.assertEqual(accepted.number("Session-Timeout"), 86_400)
        self.assertEqual(accepted.number("Acct-Interim-Interval"), 300)
        rejected = at.ask(STRANGER)
        assert rejected is not None
        self.assertEqual((rejected.code, rejected.number("Session-Timeout")), (Code.ACCESS_REJECT, None))
        self.assertEqual([each.reason for each in at.answers], [Reason.ALLOWED, Reason.NOT_ALLOWED])
        self.assertIsNone(request.read_reply(octets[:-1] + bytes((octets[-1] ^ 1,))), "a changed reply is none")

    @given(policy=policies(), begun=moments, later=st.integers(0, 6 * 86_400), mac=st.sampled_from(MACS[:4]))
    @settings(max_examples=60, deadline=None)
    def test_the_answer_is_the_wanted_lists_and_no_session_outlives_it(
        self, policy: ListPolicy, begun: datetime, later: int, mac: MacAddress
    ) -> None:
        """For all policies and moments: accepted exactly if the wanted list admits it, until it does not any more.

        The policy was published at another moment, and asked about before, so that what was worked out ahead is used.
        """
        at = Answering(a_list(longest_s=3_600 * 6), published=policy)
        decide = at.responder.decide
        decide(SSID, mac, begun)
        now = begun + timedelta(seconds=later, microseconds=later % 7 * 100_000)
        decision = decide(SSID, mac, now)
        admitted = wanted(policy, now, local).admits(mac)
        if decision.outcome is Outcome.REJECTED:
            soon = wanted(policy, now + timedelta(seconds=1), local).admits(mac)
            self.assertFalse(admitted and soon, "it is refused at most in the last second")
            return
        self.assertTrue(admitted)
        assert decision.session_s is not None
        self.assertLessEqual(decision.session_s, 3_600 * 6)
        lasts = timedelta(seconds=decision.session_s) - timedelta(milliseconds=1)
        for share in (0.0, 0.3, 0.999, 1.0):
            moment = now + lasts * share
            self.assertTrue(wanted(policy, moment, local).admits(mac), f"{share} of the session")

    @given(policy=policies(), begun=moments, steps=st.lists(st.integers(-90_000, 200_000), max_size=6))
    @settings(max_examples=25, deadline=None)
    def test_a_clock_that_jumps_changes_no_answer(self, policy: ListPolicy, begun: datetime, steps: list[int]) -> None:
        """Asked at moments in any order, it says what the wanted list says."""
        admissions, now = Admissions(policy, local, timedelta(hours=8)), begun
        for step in steps:
            now += timedelta(seconds=step)
            for mac in MACS[:3]:
                self.assertEqual(admissions.of(mac, now).admitted, wanted(policy, now, local).admits(mac))

    def test_every_way_of_asking_that_makers_have(self) -> None:
        """The device in all notations, the password as it, as the secret or none, PAP and CHAP: all are understood."""
        at = Answering(published=policy(ListMode.ALLOW, TILL))
        for notation in Notation:
            written = TILL.written(notation)
            for password in (written, TILL.written(Notation.BARE), SECRET, ""):
                for chap in (False, True):
                    with self.subTest(written=written, password=password, chap=chap):
                        reply = at.ask(name=written, password=password, chap=chap)
                        assert reply is not None
                        self.assertEqual(reply.code, Code.ACCESS_ACCEPT)
        self.assertEqual({each.mac for each in at.answers}, {TILL})
        for called, identifier in (
            (f"020000000001:{SSID}", "x"), (f"02:00:00:00:00:01:{SSID}", "x"), (SSID, "x"),
            ("02-00-00-00-00-01", SSID), (None, SSID),
        ):  # fmt: skip
            with self.subTest(called=called):
                reply = at.ask(but={"Called-Station-Id": called, "NAS-Identifier": identifier})
                assert reply is not None
                self.assertEqual(reply.code, Code.ACCESS_ACCEPT)
        peculiar = Answering(a_list(point(user_name="cafe-{mac}@kiln")), published=policy(ListMode.ALLOW, TILL))
        reply = peculiar.ask(name=f"cafe-{TILL.written(Notation.BARE)}@kiln", password="")
        self.assertEqual(reply.code if reply else None, Code.ACCESS_ACCEPT)
        person = Answering(a_list(point(user_name="")), published=policy(ListMode.ALLOW, TILL))
        reply = person.ask(name="bookkeeper", password="")
        self.assertEqual(reply.code if reply else None, Code.ACCESS_ACCEPT)

    def test_what_cannot_be_answered_by_a_list_is_rejected_with_its_reason(self) -> None:
        """Another network or none, no device or two, a person, a wrong password: each is told as what it is."""
        at = Answering(published=policy(ListMode.OFF))
        cases: list[tuple[dict[str, object], Reason]] = [
            ({"but": {"Called-Station-Id": "02-00-00-00-00-01:Other"}}, Reason.OTHER_NETWORK),
            ({"but": {"Called-Station-Id": "02-00-00-00-00-01"}}, Reason.NO_NETWORK),
            ({"name": "bookkeeper"}, Reason.NO_MAC),
            ({"but": {"Calling-Station-Id": STRANGER.written(Notation.HYPHEN)}}, Reason.TWO_MACS),
            ({"but": {"EAP-Message": b"\x02\x01\x00\x06\x01x"}, "password": None}, Reason.ENTERPRISE),
            ({"password": "something else"}, Reason.PASSWORD),
            ({"password": "something else", "chap": True}, Reason.PASSWORD),
        ]
        for how, reason in cases:
            with self.subTest(reason=reason):
                reply = at.ask(**how)  # type: ignore[arg-type]
                self.assertEqual(reply.code if reply else None, Code.ACCESS_REJECT)
                self.assertEqual(at.answers[-1].reason, reason)
        self.assertIsNone(at.responder.memory.attempts.of(SSID), "a fault is no attempt")

    def test_silence_where_there_has_to_be_silence(self) -> None:
        """Another secret, no signature, strangers, other packets and half packets get no reply, and are told."""
        at = Answering(published=policy(ListMode.OFF))
        whole = at.question(TILL).octets
        twice = whole[:2] + (len(whole) + 18).to_bytes(2) + whole[4:] + whole[20:38]
        proxies = bytes((33, 3, 0)) * 9
        many = whole[:2] + (len(whole) + len(proxies)).to_bytes(2) + whole[4:] + proxies
        cases = [
            (at.question(TILL, "made-up secret of another").octets, COUNTER, Reason.SECRET),
            (at.question(TILL, signed=False).octets, COUNTER, Reason.UNSIGNED),
            (whole, ELSEWHERE, Reason.STRANGER),
            (whole[:-1], COUNTER, Reason.MALFORMED),
            (whole[:19], COUNTER, Reason.MALFORMED),
            (twice, COUNTER, Reason.MALFORMED),
            (many, COUNTER, Reason.MALFORMED),
            (bytes((2,)) + whole[1:], COUNTER, Reason.SECRET),
        ]
        for octets, source, reason in cases:
            with self.subTest(reason=reason):
                self.assertIsNone(at.send(octets, source))
                self.assertEqual(at.answers[-1].reason, reason)
        old = Answering(a_list(point(signs=False)), published=policy(ListMode.OFF))
        self.assertIsNotNone(old.ask(signed=False), "an old one that is known as such is answered")
        self.assertIsNone(old.ask(signed=False, secret="made-up secret of another"), "with its secret only")
        self.assertEqual(old.answers[-1].reason, Reason.SECRET)

    def test_a_repeated_question_gets_the_same_reply_and_counts_once(self) -> None:
        """A duplicate is answered from memory (RFC 5080, 2.2.2); after half a minute it is a question of its own."""
        at = Answering(published=policy(ListMode.ALLOW, TILL))
        octets = at.question(STRANGER).octets
        first = at.send(octets)
        at.responder.publish(SSID, policy(ListMode.OFF))
        self.assertEqual(at.send(octets), first)
        self.assertEqual(len(at.answers), 1)
        at.monotonic = 31.0
        self.assertNotEqual(at.send(octets), first)

    def test_who_is_on_no_list_goes_into_another_network(self) -> None:
        """With a VLAN for others a stranger is let in there; one on the list outside its hours, or denied, is not."""
        from scopion.model.week import Week

        hours = Week.parse("mon-sun 20:00-21:00")
        at = Answering(a_list(others_vlan=30), published=policy(ListMode.ALLOW, TILL, hours=hours))
        reply = at.ask(STRANGER)
        assert reply is not None
        self.assertEqual(reply.code, Code.ACCESS_ACCEPT)
        self.assertEqual([reply.number("Tunnel-Type"), reply.number("Tunnel-Medium-Type")], [13, 6])
        self.assertEqual(reply.text("Tunnel-Private-Group-Id"), "30")
        late = at.ask(TILL)
        self.assertEqual(late.code if late else None, Code.ACCESS_REJECT)
        self.assertEqual(at.answers[-1].reason, Reason.HOURS)
        denied = Answering(a_list(others_vlan=30), published=policy(ListMode.DENY, STRANGER)).ask(STRANGER)
        self.assertEqual(denied.code if denied else None, Code.ACCESS_REJECT)


class Replies(unittest.TestCase):
    @given(
        kinds=st.sampled_from(
            [
                (Code.ACCESS_REQUEST, Code.ACCESS_ACCEPT),
                (Code.ACCESS_REQUEST, Code.ACCESS_REJECT),
                (Code.STATUS_SERVER, Code.ACCESS_ACCEPT),
                (Code.STATUS_SERVER, Code.ACCOUNTING_RESPONSE),
                (Code.ACCOUNTING_REQUEST, Code.ACCOUNTING_RESPONSE),
            ]
        ),
        seconds=st.integers(0, 2**32 - 1),
        said=st.text(st.characters(codec="utf-8"), max_size=60),
        vlan=st.integers(1, 4_094),
        proxies=st.lists(st.binary(min_size=1, max_size=20), max_size=3),
    )
    def test_they_are_the_codecs(
        self, kinds: tuple[Code, Code], seconds: int, said: str, vlan: int, proxies: list[bytes]
    ) -> None:
        """Octet by octet what pyrad writes for the same request, signed and unsigned, with each Proxy-State."""
        asked, code = kinds
        request = encode_request(asked, SECRET.encode(), {"User-Name": "x"}, identifier=7)
        states = b"".join(bytes((33, 2 + len(each))) + each for each in proxies)
        octets = request.octets + states
        octets = octets[:2] + len(octets).to_bytes(2) + octets[4:]
        attributes: dict[str, Value] = {"Reply-Message": said, "Session-Timeout": seconds, "Tunnel-Type": 13}
        attributes["Tunnel-Private-Group-Id"] = str(vlan)
        dictionary = Dictionary(io.StringIO(DICTIONARY))
        theirs = AuthPacket(packet=octets, secret=SECRET.encode(), dict=dictionary).CreateReply()
        theirs.code = code
        for name, value in attributes.items():
            theirs[name] = value
        self.assertEqual(decode_radius(octets, SECRET.encode()).reply(code, attributes), theirs.ReplyPacket())

    @given(
        code=st.sampled_from([1, 4, 12, 40, 43]),
        texts=st.lists(st.binary(max_size=20), max_size=4),
        place=st.integers(0, 4),
        changed=st.one_of(st.none(), st.integers(4, 19), st.integers(-16, -1)),
        secret=st.sampled_from([SECRET, "made-up secret of another"]),
    )
    def test_a_signature_is_judged_as_by_the_codec(
        self, code: int, texts: list[bytes], place: int, changed: int | None, secret: str
    ) -> None:
        """For every kind of request, wherever the Message-Authenticator stands, whole or changed, by either secret."""
        attributes = [bytes((18, 2 + len(each))) + each for each in texts]
        before, after = b"".join(attributes[:place]), b"".join(attributes[place:])
        length = 20 + len(before) + 18 + len(after)
        head, asked, marked = bytes((code, 7)) + length.to_bytes(2), bytes(range(16)), before + bytes((80, 18))
        counted = asked if code in (1, 12) else bytes(16)
        signature = hmac.digest(SECRET.encode(), head + counted + marked + bytes(16) + after, "md5")
        octets = bytearray(head + asked + marked + signature + after)
        if changed is not None:  # in its own authenticator, or in the Message-Authenticator
            octets[changed if changed > 0 else changed - len(after)] ^= 1
        theirs = AuthPacket(packet=bytes(octets), secret=secret.encode()).verify_message_authenticator()
        ours = decode_radius(bytes(octets), secret.encode()).signature()
        self.assertEqual(ours, Signature.GOOD if theirs else Signature.WRONG)
        if changed is None:
            self.assertEqual(ours is Signature.GOOD, secret == SECRET)


class Sessions(unittest.TestCase):
    def test_reports_in_any_order_and_number(self) -> None:
        """Octets with their upper half, late and repeated reports, an end that stays one, a restart that ends all."""
        at = Answering(published=policy(ListMode.OFF))
        self.assertTrue(at.report(1))
        self.assertTrue(at.report(3, now=NOON + timedelta(minutes=10), Acct_Session_Time=600, Acct_Input_Octets=5,
                                  Acct_Input_Gigawords=2, Acct_Output_Octets=7))  # fmt: skip
        self.assertTrue(at.report(3, now=NOON + timedelta(minutes=11), Acct_Session_Time=300, Acct_Input_Octets=4))
        (one,) = present(at.responder.memory.sessions)
        self.assertEqual((one.received, one.sent, one.since), (2 * 2**32 + 5, 7, NOON))
        self.assertTrue(at.report(2, now=NOON + timedelta(minutes=12), Acct_Input_Octets=9))
        self.assertTrue(at.report(3, now=NOON + timedelta(minutes=13)))
        self.assertEqual(present(at.responder.memory.sessions), [])
        self.assertEqual([each.received for each in at.responder.memory.sessions], [2 * 2**32 + 5])
        self.assertTrue(
            at.report(1, now=NOON + timedelta(minutes=14))
        )  # hostapd: a station that is back has its number
        (again,) = present(at.responder.memory.sessions)
        self.assertEqual((again.received, again.since), (0, NOON + timedelta(minutes=14)))
        self.assertTrue(at.report(2, now=NOON + timedelta(minutes=15)))
        at.report(1, STRANGER, number="B1")
        self.assertEqual(len(present(at.responder.memory.sessions)), 1)
        at.report(7, number="")
        self.assertEqual(present(at.responder.memory.sessions), [])

    def test_a_beginning_that_comes_late(self) -> None:
        """By the access point's own clock it is older than the end: the session stays over."""
        at = Answering(published=policy(ListMode.OFF))
        at.report(2, Event_Timestamp=1_789_000_060)
        at.report(1, Event_Timestamp=1_789_000_000)
        self.assertEqual(present(at.responder.memory.sessions), [])
        at.report(1, Event_Timestamp=1_789_000_061)
        self.assertEqual(len(present(at.responder.memory.sessions)), 1)

    def test_an_access_point_that_falls_silent(self) -> None:
        """A session that was reported on and is no longer, is over, until it is again; one without reports lasts as
        long as it may.
        """
        at = Answering(published=policy(ListMode.OFF))
        at.report(1)
        at.report(1, STRANGER, number="B1")
        at.report(3, STRANGER, number="B1")
        sessions = at.responder.memory.sessions
        sessions.settle(NOON + timedelta(minutes=16), {SSID: 300}, {SSID: 86_400})
        self.assertEqual([each.mac for each in present(sessions)], [TILL])
        at.report(3, STRANGER, number="B1", now=NOON + timedelta(minutes=20))
        self.assertEqual({each.mac: each.since for each in present(sessions)}, {TILL: NOON, STRANGER: NOON})
        sessions.settle(NOON + timedelta(days=2), {SSID: 300}, {SSID: 86_400})
        self.assertEqual(present(sessions), [])

    def test_a_clock_that_was_set_back(self) -> None:
        """What was let in under the wrong time is seen at the right one, and does not stay beyond its end."""
        at, right = Answering(published=policy(ListMode.OFF)), NOON - timedelta(days=400)
        at.ask(now=NOON)
        at.ask(now=right)
        sessions = at.responder.memory.sessions
        self.assertEqual([each.seen for each in sessions], [right])
        sessions.settle(right + timedelta(days=2), {SSID: 300}, {SSID: 86_400})
        self.assertEqual(present(sessions), [])

    @given(st.lists(st.tuples(st.sampled_from((1, 2, 3)), st.integers(0, 2**33)), min_size=1, max_size=8))
    @settings(max_examples=50, deadline=None)
    def test_octets_never_go_back(self, reports: list[tuple[int, int]]) -> None:
        """Whatever is reported, the count of a session only grows, and is one that was reported."""
        at, before, over = Answering(published=policy(ListMode.OFF)), 0, False
        for kind, octets in reports:
            at.report(kind, Acct_Input_Octets=octets & 0xFFFFFFFF, Acct_Input_Gigawords=octets >> 32)
            one = next(each for each in at.responder.memory.sessions if each.number == "A1")
            self.assertGreaterEqual(one.received, 0 if over and kind == 1 else before)
            self.assertIn(one.received, [each for _, each in reports])
            before, over = one.received, one.ended is not None

    def test_what_is_kept_is_read_again(self) -> None:
        """State, published list and answers come back from their files as they were."""
        at = Answering(published=policy(ListMode.ALLOW, TILL))
        at.ask(TILL), at.ask(STRANGER), at.report(1), at.ask(name="bookkeeper")
        memory = at.responder.memory
        state = ServerState({SSID: "0123"}, tuple(memory.sessions), memory.attempts.all(), asked={"counter": NOON})
        self.assertEqual(read_state(state_text(state)), state)
        self.assertEqual(state.attempts[SSID].by_mac[STRANGER].access_point, "counter")
        for each in at.answers:
            self.assertEqual(read_answer(answer_document(each)), each)
        published = PublishedList(policy(ListMode.ALLOW, TILL), NOON)
        self.assertEqual(read_published(published_text(published)), published)
        self.assertNotEqual(digest_of("a"), digest_of("b"))


class Departures(unittest.TestCase):
    def setUp(self) -> None:
        self.at = Answering(published=policy(ListMode.ALLOW, TILL))
        self.at.ask(TILL)
        self.at.report(1)
        self.leaving = Disconnections()
        self.points = {"counter": AskingPoint(point(), Secrets(SECRET), {SSID: SSID})}
        self.sessions = list(self.at.responder.memory.sessions)

    def reply(self, octets: bytes, code: Code, **attributes: Value) -> bytes:
        """What the access point says to a request to disconnect."""
        message = decode_radius(octets, SECRET.encode())
        self.assertTrue(message.has_genuine_authenticator())
        self.assertEqual(message.text("Calling-Station-Id"), TILL.written(Notation.HYPHEN))
        return message.reply(code, {name.replace("_", "-"): value for name, value in attributes.items()})

    def test_until_it_is_gone(self) -> None:
        """Told at once, told again without a reply, told again after the access point's memory, and then done."""
        self.leaving.want(self.sessions, NOON, 0.0)
        (first,) = self.leaving.due(self.points, NOON, 0.0)
        self.assertEqual(self.leaving.due(self.points, NOON, 1.0), [])
        (second,) = self.leaving.due(self.points, NOON, 2.5)
        acknowledged = self.reply(second.request.octets, Code.DISCONNECT_ACK)
        self.assertIsNone(self.leaving.hear(acknowledged, ELSEWHERE, {"counter": 30}, 3.0), "not from another host")
        heard = self.leaving.hear(acknowledged, COUNTER, {"counter": 30}, 3.0)
        self.assertEqual(heard.told if heard else None, Told.DONE)
        self.leaving.want([], NOON, 4.0)  # its session has ended; it may be back from memory
        self.assertEqual(self.leaving.due(self.points, NOON, 30.0), [])
        (third,) = self.leaving.due(self.points, NOON, 34.5)
        gone = self.reply(third.request.octets, Code.DISCONNECT_NAK, Error_Cause=503)
        heard = self.leaving.hear(gone, COUNTER, {"counter": 30}, 35.0)
        self.assertEqual(heard.told if heard else None, Told.NOT_THERE)
        self.assertEqual(list(self.leaving), [])
        self.assertNotEqual(first.request.octets, second.request.octets)

    def test_who_is_admitted_again_stays(self) -> None:
        """A departure that was only asked for is over when the list admits the device again."""
        self.leaving.want(self.sessions, NOON, 0.0)
        self.leaving.want([], NOON, 0.5)
        self.assertEqual(self.leaving.due(self.points, NOON, 1.0), [])


if __name__ == "__main__":
    unittest.main()
