"""A line to a real broker: checked by its certificate, kept up through restarts, silent to who may not."""

from __future__ import annotations

import tempfile
import time
import unittest
from collections import deque
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import ClassVar

import trustme

from scopion.attachment.connect.mqtt_line import Arrived, MqttLine, Will
from scopion.attachment.ports import BrokerAccess
from scopion.model.errors import InvalidSettings, LiveNetworkLocked
from tests.lab.broker import Broker
from tests.lab.lab import Lab, LabHost, require_lab
from tests.lab.services import wait_for

ADDRESS = "192.0.2.5"
ACCESS = "user reader\ntopic read site/#\nuser writer\ntopic write site/writer/#\n"


class Line(unittest.TestCase):
    lab: ClassVar[Lab]
    broker: ClassVar[Broker]
    folder: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        require_lab()
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name)
        cls.lab = Lab([LabHost("broker", "10:c0:de:00:00:05", (ADDRESS,))], gateway=None)
        cls.addClassCleanup(cls.lab.close)
        cls.broker = Broker(cls.lab, "broker", ADDRESS, cls.folder / "broker", cls)
        cls.broker.let_in({"reader": "r-secret", "writer": "w-secret"}, ACCESS)
        cls.broker.start()

    def opened(
        self,
        access: BrokerAccess,
        name: str,
        topics: Sequence[str] = (),
        will: Will | None = None,
        session_s: int = 600,
        *,
        acknowledges: bool = True,
    ) -> tuple[MqttLine, deque[Arrived]]:
        """A line from the desk, and what arrives by it."""
        arrived: deque[Arrived] = deque()

        def take(each: Arrived) -> None:
            arrived.append(each)
            if acknowledges:
                line.acknowledge(each)

        with self.lab.inside("desk"):
            line = MqttLine(access, name, topics, take, lambda: None, will=will, session_s=session_s)
            line.start()
        self.addCleanup(line.stop)
        return line, arrived

    def test_a_client_certificate_is_an_account(self) -> None:
        """With it the account writes where it may, and nowhere else; without it there is no connection."""
        reader, arrived = self.opened(self.broker.access("reader", "r-secret"), "seven", ["site/#"])
        writer, _ = self.opened(self.broker.certified("writer"), "eight")
        wait_for("both connected", lambda: reader.connected and writer.connected)
        writer.publish("site/writer/y", b"by certificate")
        wait_for("it arrives", lambda: any(each.octets == b"by certificate" for each in arrived))
        writer.publish("site/other/y", b"forged")
        wait_for("it is refused", lambda: "does not let this account write here" in writer.refused)
        bare, _ = self.opened(replace(self.broker.certified("writer"), certificate="", key=""), "nine")
        wait_for("a reason", lambda: bare.problem)
        self.assertFalse(bare.connected)

    def test_a_session_ends(self) -> None:
        """For a reader that is away for longer than its session nothing is kept; for one that is not, it is."""
        account, sessions = self.broker.access("reader", "r-secret"), {"ten": 1, "eleven": 600}
        for name, session_s in sessions.items():
            line, _ = self.opened(account, name, ["site/writer/z"], session_s=session_s)
            wait_for("connected", lambda line=line: line.connected)  # type: ignore[misc]
            time.sleep(0.5)  # its subscription is known
            line.stop()
        time.sleep(3)
        writer, _ = self.opened(self.broker.access("writer", "w-secret"), "twelve")
        wait_for("connected", lambda: writer.connected)
        writer.publish("site/writer/z", b"while they were away")
        wait_for("the broker has it", lambda: writer.confirmed == 1)
        heard = {
            name: self.opened(account, name, ["site/writer/z"], session_s=session_s)[1]
            for name, session_s in sessions.items()
        }
        wait_for("it is there", lambda: len(heard["eleven"]) == 1)
        time.sleep(1)
        self.assertEqual(len(heard["ten"]), 0)

    def test_nothing_is_lost_while_the_broker_restarts_or_the_reader_is_away(self) -> None:
        """What was sent while the reader was gone arrives when it is back, across a restart and a kill of the broker;
        what was not acknowledged comes again; what the account may not write does not arrive.
        """
        reader, arrived = self.opened(self.broker.access("reader", "r-secret"), "one", ["site/#"])
        writer, _ = self.opened(self.broker.access("writer", "w-secret"), "two")
        wait_for("both connected", lambda: reader.connected and writer.connected)
        self.assertEqual((writer.address, writer.problem), (self.lab.desk_address, ""))
        self.assertEqual(writer.refused, "")
        self.assertTrue(writer.publish("site/other/x", b"forged"))
        wait_for("it is refused", lambda: "does not let this account write here" in writer.refused)
        self.assertTrue(writer.publish("site/writer/x", b"1"))
        wait_for("the first", lambda: any(each.octets == b"1" for each in arrived))
        reader.stop()
        writer.publish("site/writer/x", b"2")
        wait_for("it is saved", lambda: (self.broker.folder / "data/mosquitto.db").exists())
        self.broker.stop()
        wait_for("the break is noticed", lambda: not writer.connected)
        self.assertFalse(writer.publish("site/writer/x", b"lost"))
        self.broker.start()
        wait_for("the writer is back", lambda: writer.connected)
        writer.publish("site/writer/x", b"3")
        slow, late = self.opened(self.broker.access("reader", "r-secret"), "one", ["site/#"], acknowledges=False)
        wait_for("the second and the third", lambda: {b"2", b"3"} <= {each.octets for each in late})
        slow.stop()
        again, late = self.opened(self.broker.access("reader", "r-secret"), "one", ["site/#"])
        wait_for("both once more", lambda: {b"2", b"3"} <= {each.octets for each in late})
        self.broker.stop(kill=True)
        self.broker.start()
        wait_for("both are back", lambda: again.connected and writer.connected)
        writer.publish("site/writer/x", b"4")
        wait_for("the fourth", lambda: any(each.octets == b"4" for each in late))
        self.assertNotIn(b"forged", {each.octets for each in (*arrived, *late)})

    def test_a_line_that_breaks_is_told_to_others(self) -> None:
        """The will is said when a line breaks without a word, and not when it ends well."""
        _, arrived = self.opened(self.broker.access("reader", "r-secret"), "will reader", ["site/writer/state"])
        mute, _ = self.opened(
            self.broker.access("writer", "w-secret"), "will", will=Will("site/writer/state", b"gone"), session_s=0
        )
        wait_for("it is connected", lambda: mute.connected)
        mute.publish("site/writer/state", b"here", retain=True)
        wait_for("it is said", lambda: [each.octets for each in arrived] == [b"here"])
        mute._client.socket().shutdown(2)
        wait_for("the will", lambda: [each.octets for each in arrived][1:2] == [b"gone"])
        wait_for("it is back", lambda: mute.connected)
        mute.stop()
        _, later = self.opened(self.broker.access("reader", "r-secret"), "will late", ["site/writer/state"])
        wait_for("what is kept", lambda: [(each.octets, each.retained) for each in later] == [(b"gone", True)])

    def test_why_a_line_is_not_there(self) -> None:
        """Another authority, a wrong password, a port on which nothing listens, no TLS: each has a reason."""
        other = self.folder / "other.pem"
        trustme.CA().cert_pem.write_to_path(other)
        right = self.broker.access("writer", "w-secret")
        for access, said in (
            (replace(right, trust=str(other)), "is not signed by an authority that this machine trusts"),
            (replace(right, password="wrong"), "the broker refuses this account"),
            (replace(right, port=8889), "nothing listens there"),
            (replace(right, tls=False), "broke"),
        ):
            with self.subTest(said=said):
                line, _ = self.opened(access, "three")
                wait_for("a reason", lambda line=line, said=said: said in line.problem)  # type: ignore[misc]
                self.assertFalse(line.connected)
                line.stop()
        garbage = self.folder / "garbage.pem"
        garbage.write_text("no certificate")
        mixed = replace(right, certificate=str(self.broker.trust), key=str(garbage))
        with self.lab.inside("desk"):
            for access, said in (
                (replace(right, trust=str(garbage)), "garbage.pem should hold the certificates to trust: it holds no"),
                (mixed, "garbage.pem should hold the client certificate and its key"),
            ):
                with self.assertRaisesRegex(InvalidSettings, said):
                    MqttLine(access, "five", (), lambda _: None, lambda: None)
        with self.assertRaises(LiveNetworkLocked):
            MqttLine(right, "four", (), lambda _: None, lambda: None)
