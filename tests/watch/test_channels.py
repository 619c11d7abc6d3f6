"""Channels through the installed program: real servers on 127.0.0.1, and plain words for each way in which it fails."""

from __future__ import annotations

import hashlib
import hmac
import json
import re
import stat
import unittest
from pathlib import Path

from scopion.alerts.channels.email import composed
from scopion.alerts.message import Action, Message
from scopion.model.alert import Severity
from tests.receivers import PASSWORD, Certificates, MailServer, SyslogServer, WebServer, free_port
from tests.support import NOON, ProgramTest


class ChannelTest(ProgramTest):
    """Writes channels into site.toml and tests them."""

    def setUp(self) -> None:
        super().setUp()
        self.site.mkdir()
        (self.site / "password").write_text(PASSWORD)
        (self.site / "password").chmod(0o600)
        self.certificates = Certificates(self.site)

    def write(self, kind: str, **settings: object) -> None:
        lines = [f"{key} = {json.dumps(value)}" for key, value in settings.items() if not isinstance(value, dict)]
        tables = [
            f"[channel.{key}]\n" + "\n".join(f"{name} = {json.dumps(text)}" for name, text in value.items())
            for key, value in settings.items()
            if isinstance(value, dict)
        ]
        text = "\n".join(["[[channel]]", 'name = "owner"', f'type = "{kind}"', *lines, *tables])
        (self.site / "site.toml").write_text(text + "\n")

    def email(self, port: int, **settings: object) -> None:
        usual: dict[str, object] = {
            "to": ["owner@kilnhaven.example"], "sender": "scopion@kilnhaven.example", "host": "127.0.0.1", "port": port,
            "trust": "trust.pem", "user": "scopion", "password": "file:password", "timeout_s": 2,
        }  # fmt: skip
        self.write("email", **{key: value for key, value in (usual | settings).items() if value is not None})

    def works(self, **environment: str) -> str:
        ended = self.run_program("alerts", "test", "owner", within=60, **environment)
        self.assertEqual(ended.returncode, 0, ended.stderr)
        return ended.stderr

    def fails(self, *words: str, code: int = 1) -> str:
        ended = self.run_program("alerts", "test", "owner")
        self.assertEqual(ended.returncode, code, ended.stderr)
        last = ended.stderr.strip().splitlines()[-1]
        for word in words:
            self.assertIn(word, last)
        self.assertNotIn(PASSWORD, ended.stderr)
        return last


class Email(ChannelTest):
    def test_a_marked_test_arrives_by_each_way_of_securing_it(self) -> None:
        """TLS from the first byte, STARTTLS and, only if asked for, plain: the same mail arrives, and is marked."""
        for security in ("tls", "starttls", "plain"):
            with self.subTest(security=security):
                server = MailServer(self, None if security == "plain" else self.certificates, security=security)
                self.email(server.port, security=security)
                steps = self.works()
                self.assertIn("signed in as scopion", steps)
                (mail,) = server.mails
                self.assertTrue(mail["Subject"].startswith("Test: "))
                self.assertEqual([part.get_content_type() for part in mail.iter_parts()], ["text/plain", "text/html"])
                self.assertEqual(server.recipients, [["owner@kilnhaven.example"]])
                self.assertEqual(mail["Auto-Submitted"], "auto-generated")
                self.assertNotIn(PASSWORD, steps)

    def test_each_failure_is_explained(self) -> None:
        """What went wrong is said in words that help, for each step of the conversation; no secret is among them."""
        server = MailServer(self, self.certificates)
        self.email(free_port())
        self.fails("nothing listens there")
        self.email(server.port, user="apprentice", password="file:wrong")
        (self.site / "wrong").write_text("clay")
        (self.site / "wrong").chmod(0o600)
        said = self.fails("does not accept the user apprentice", "535", "application password", "relay")
        self.assertNotIn("clay", said)
        self.email(server.port, trust="")
        self.fails("not signed by an authority that this machine trusts")
        self.email(server.port, host="localhost", security="tls")
        self.fails("does not speak TLS")
        self.email(server.port, sender="stranger@kilnhaven.example")
        self.fails("refuses the sender", "553", "not owned")
        self.email(server.port, to=["nobody@kilnhaven.example"])
        self.fails("refuses the recipient nobody@", "550")
        self.email(server.port)
        server.answer = lambda _: "451 4.7.1 greylisted, try again later"
        self.fails("greylisting", "tried again")
        server.answer = lambda _: "554 5.7.1 looks like spam"
        self.fails("refuses the message: 554")
        server.answer, server.wait_s = lambda _: None, 4.0
        self.fails("within 2 seconds")

    def test_what_would_be_read_on_the_way_is_not_sent(self) -> None:
        """A server without STARTTLS gets neither password nor mail; one with another's certificate neither."""
        plain = MailServer(self, password=True)
        self.email(plain.port)
        self.fails("does not offer STARTTLS", "could be read")
        other = MailServer(self, Certificates(self.site, "mail.elsewhere.example"))
        self.email(other.port)
        self.fails("is not that of 127.0.0.1")
        self.assertEqual((plain.mails, other.mails), ([], []))

    def test_a_secret_that_others_can_read_is_refused(self) -> None:
        """The password's file is checked before anybody is talked to."""
        (self.site / "password").chmod(0o640)
        self.email(free_port())
        self.fails("others may read", "chmod 600", code=2)

    def test_hostile_names_cannot_add_headers(self) -> None:
        """A device that calls itself by line ends and markup becomes neither a header nor a tag."""
        evil = "till\r\nBcc: thief@evil.example <script>alert(1)</script>"
        message = Message(
            "a" * 32, "Kilnhaven", evil, Severity.HIGH, NOON, (evil,), (("name", evil),), (evil,),
            (Action(f"scopion show '{evil}'", evil),), "device-7",
        )  # fmt: skip
        mail = composed(message, "scopion@kilnhaven.example", ("owner@kilnhaven.example",), self.site)
        octets = mail.as_bytes()
        self.assertNotIn(b"\nBcc:", octets.partition(b"\n\n")[0])
        html = mail.get_body(("html",))
        assert html is not None
        self.assertIn("&lt;script&gt;", html.get_content())
        self.assertNotIn("<script>", html.get_content())
        self.assertEqual(mail["Message-ID"], f"<{'a' * 32}@kilnhaven.example>")
        self.assertEqual(mail["References"], "<device-7.kilnhaven@kilnhaven.example>")


class Webhook(ChannelTest):
    def test_a_signed_post_that_the_receiver_can_check(self) -> None:
        """Body and moment are signed with the shared key; the identity is there to tell a repetition."""
        server = WebServer(self, self.certificates)
        (self.site / "key").write_text("shared")
        (self.site / "key").chmod(0o600)
        url = f"https://127.0.0.1:{server.port}/hooks/secret-part"
        self.write("webhook", url=url, key="file:key", trust="trust.pem", headers={"Authorization": "env:HOOK"})
        steps = self.works(HOOK="Bearer kiln")
        self.assertNotIn("secret-part", steps)
        ((headers, body),) = server.posts
        signed = headers["Scopion-Time"].encode() + b"." + body
        good = hmac.new(b"shared", signed, hashlib.sha256).hexdigest()
        self.assertEqual(headers["Scopion-Signature"], f"sha256={good}")
        self.assertEqual(headers["Authorization"], "Bearer kiln")
        document = json.loads(body)
        self.assertEqual((document["form"], document["test"]), ("alert/1", True))
        self.assertEqual(document["id"], headers["Scopion-Alert"])

    def test_a_template_feeds_any_service(self) -> None:
        """The body may have any form; what is in it is escaped by the template's own filter, and runs no code."""
        server = WebServer(self)
        url = f"http://127.0.0.1:{server.port}/"
        self.write("webhook", url=url, body='{"text": {{ subject|tojson }}, "rank": {{ 1 if test else 2 }}}')
        self.works()
        self.assertEqual(json.loads(server.posts[0][1])["rank"], 1)
        self.write("webhook", url=url, body="{{ nothing }}")
        self.fails("body of channel owner", "nothing")
        self.write("webhook", url=url, body="{{ subject.__class__.__mro__[1].__subclasses__() }}")
        self.fails("body of channel owner")
        self.write("webhook", url=url, body="{{ 1 / 0 }}")
        self.fails("unexpected: ZeroDivisionError")
        self.assertEqual(len(server.posts), 1)

    def test_each_failure_is_explained(self) -> None:
        """A refusal says what the receiver said; nothing of the address's path is shown."""
        server = WebServer(self)
        path = f"127.0.0.1:{server.port}/token-in-the-path"
        self.write("webhook", url=f"http://{path}", timeout_s=1)
        for status, words in ((500, "try later"), (403, "does not accept"), (302, "elsewhere"), (404, "refuses")):
            server.status = status
            self.assertNotIn("token-in-the-path", self.fails(str(status), words))
        server.wait_s = 1.5
        self.fails("within 1 seconds")
        self.write("webhook", url=f"https://{path}")
        self.fails("does not speak TLS")
        self.write("webhook", url=f"http://127.0.0.1:{free_port()}")
        self.fails("nothing listens there")
        self.write("webhook", url="http://192.0.2.7/")
        self.fails("the live network is locked")


class Syslog(ChannelTest):
    def test_the_receiver_gets_rfc_5424_by_each_transport(self) -> None:
        """UDP one datagram, TCP and TLS with counted octets; priority, moment and structured data are in their form."""
        for transport in ("udp", "tcp", "tls"):
            with self.subTest(transport=transport):
                server = SyslogServer(self, transport, self.certificates if transport == "tls" else None)
                self.write("syslog", host="127.0.0.1", port=server.port, transport=transport, trust="trust.pem")
                self.works()
                line = self.first(server)
                if transport != "udp":
                    count, _, line = line.partition(b" ")
                    self.assertEqual(int(count), len(line))
                self.assertRegex(
                    line.decode("utf-8"),
                    r'^<86>1 \d{4}-\d\d-\d\dT[\d:.]+Z \S+ scopion \d+ test \[scopion@32473 id="[0-9a-f]{32}" '
                    r'site="your site" severity="low" version="[^"]+"\] \ufeffTest: ',
                )

    def test_who_does_not_listen_is_told(self) -> None:
        """By TCP, and even by UDP where the receiver's system says so."""
        for transport in ("udp", "tcp"):
            self.write("syslog", host="127.0.0.1", port=free_port(), transport=transport)
            self.fails("nothing listens there")

    def first(self, server: SyslogServer) -> bytes:
        import time

        deadline = time.monotonic() + 5
        while not server.received and time.monotonic() < deadline:
            time.sleep(0.01)
        return server.received[0]


class CommandAndFile(ChannelTest):
    def test_a_command_gets_the_alert_and_none_of_our_secrets(self) -> None:
        """Arguments are a list and pass no shell; the environment holds nothing of ours."""
        program = self.site / "tell"
        program.write_text(f"#!/bin/sh\ncat > {self.site}/got\nenv > {self.site}/environment\nprintf '%s' \"$1\" > "
                           f"{self.site}/argument\n")  # fmt: skip
        program.chmod(0o755)
        self.write("command", command=[str(program), "$(touch evil); `touch evil`"])
        self.works(KILN_SECRET="x")
        self.assertTrue(json.loads((self.site / "got").read_text())["test"])
        self.assertEqual((self.site / "argument").read_text(), "$(touch evil); `touch evil`")
        self.assertNotIn("KILN_SECRET", (self.site / "environment").read_text())

    def test_a_command_that_does_not_end_is_stopped(self) -> None:
        """With all that it has started; what it says of its failure is told."""
        script = "sleep 60 & echo $! > child; sleep 60"
        self.write("command", command=["/bin/sh", "-c", script], timeout_s=1)
        self.fails("had not ended after 1 seconds")
        child = int((self.site / "child").read_text())
        state = Path(f"/proc/{child}/stat")
        self.assertTrue(not state.exists() or state.read_text().split()[2] == "Z")
        self.write("command", command=["/bin/sh", "-c", "printf 'no \\033[31mclay' >&2; exit 3"])
        self.fails("ended with 3", "no [31mclay")
        self.write("command", command=["/nowhere/tell"])
        self.fails("there is no program /nowhere/tell")

    def test_a_file_grows_by_whole_lines(self) -> None:
        """One line of JSON each, private, through no link, and a file that was moved away is started again."""
        self.write("file", path="alerts.jsonl")
        path = self.site / "alerts.jsonl"
        self.works()
        self.works()
        self.assertEqual([json.loads(line)["test"] for line in path.read_text().splitlines()], [True, True])
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)
        path.rename(self.site / "old")
        self.works()
        self.assertEqual(len(path.read_text().splitlines()), 1)
        path.unlink()
        path.symlink_to(self.site / "old")
        self.fails("cannot be written")


class Settings(ChannelTest):
    def test_mistakes_are_told_with_their_place(self) -> None:
        """Each in one line, with file, line and what would be right."""
        for text, words in (
            ('[[channel]]\nname = "owner"\ntype = "pigeon"', "line 1: channel.1: there is no type 'pigeon'"),
            ('[[channel]]\nname = "a b"\ntype = "bell"', "line 2: channel.1.name: 'a b' is not a name"),
            ('[[channel]]\ntype = "bell"\nname = "x"\n[[rule]]\nchannels = ["z"]', "rule 1 goes to channel 'z'"),
            ('[alerts]\nnight = "late"', "line 2: alerts.night: write hours as 22:00-06:30"),
            ('[[channel]]\ntype = "webhook"\nname = "x"\nkey = "abc"', "line 4: channel.1.key: a secret does not"),
            ('[[channel]]\ntype = "webhook"\nname = "x"', "channel 'x' needs a url"),
        ):  # fmt: skip
            with self.subTest(text=text):
                (self.site / "site.toml").write_text(text)
                ended = self.run_program("alerts", "test", "owner")
                self.assertEqual(ended.returncode, 2)
                self.assertEqual(len(ended.stderr.strip().splitlines()), 1)
                self.assertIn(words, re.sub(r"\s+", " ", ended.stderr))

    def test_a_channel_that_is_not_there(self) -> None:
        """Its name is told, and those that are."""
        self.write("bell")
        ended = self.run_program("alerts", "test", "boss")
        self.assertEqual(ended.returncode, 3)
        self.assertIn("site.toml has owner", ended.stderr)


if __name__ == "__main__":
    unittest.main()
