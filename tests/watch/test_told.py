"""What people do with alerts, at the terminal: the list, the message, muting, learning, the live view, the desktop."""

from __future__ import annotations

import os
import pty
import re
import select
import shutil
import subprocess
import threading
import time
import unittest
import wave
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

from tools.make_tones import NOTES, tone

from scopion.alerts.channels.sound import SoundChannel
from scopion.alerts.phrases import Phrases
from scopion.alerts.wording import test_message as message_of_a_test
from scopion.model.alert import Severity
from scopion.vendors.registry import Vendors
from tests.made_past import FixedClock
from tests.support import NOON, PROGRAM, ProgramTest

_ESCAPES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]")


class Commands(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.run_ok("scan")

    def test_learning_is_told_and_can_be_ended(self) -> None:
        """After the baseline a subnet is learnt for seven days; here says so, and it can be ended or made longer."""
        (learnt,) = self.run_json("alerts", "learning")
        self.assertEqual((learnt["subnet"], learnt["until"][:10]), ("192.0.2.0/24", "2026-09-21"))
        self.assertIn("is being learnt until Monday 21 September", self.run_program("here").stderr)
        self.run_ok("alerts", "learning", "192.0.2.0/24", "--until", "2026-10-01")
        self.assertEqual(self.run_json("alerts", "learning")[0]["until"][:10], "2026-10-02")
        self.run_ok("alerts", "learning", "--end")
        self.assertEqual(self.run_json("alerts", "learning"), [])
        self.assertIn("no subnet is being learnt", self.refused(3, "alerts", "learning", "--end"))
        self.assertIn("is not a subnet of the site", self.refused(3, "alerts", "learning", "198.51.100.0/24", "--end"))

    def test_a_scan_by_hand_fills_the_outbox_and_the_watch_empties_it(self) -> None:
        """Every alert has its message, before and after it was sent; the JSON keys are those of the manual."""
        self.run_ok("alerts", "learning", "--end")
        self.run_ok("demo", "--next", str(self.site))
        self.run_ok("scan")
        self.run_ok("wifi", "stations")  # the watch reads them, too, and a message says where somebody is on the air
        waiting = self.run_json("alerts")
        self.assertEqual({each["state"] for each in waiting}, {"waiting"})
        text = self.run_ok("alerts", "show", str(waiting[0]["id"]))
        self.assertTrue(text.startswith(waiting[0]["subject"]))
        self.assertIn("What to do next:", text)
        self.assertIn("<h1", self.run_ok("alerts", "show", "1", "--html"))
        self.run_ok("watch", "--once")
        self.assertEqual({each["state"] for each in self.run_json("alerts", "list", "--state", "sent")}, {"sent"})
        self.assertEqual(self.run_ok("alerts", "show", str(waiting[0]["id"])), text)
        self.assertIn("there is no alert 99", self.refused(3, "alerts", "show", "99"))
        self.assertIn("there is no alert 1 that has failed", self.refused(3, "alerts", "retry", "1"))

    def test_muting_is_listed_ended_and_taken_back(self) -> None:
        """A device and a kind of event; a time is needed; undo knows of it."""
        self.run_ok("alerts", "mute", "192.0.2.50", "--for", "2h")
        self.run_ok("alerts", "mute", "--event", "contested", "--until", "tomorrow 08:00")
        listed = self.run_json("alerts", "mute")
        self.assertEqual([(each["device"], each["event"]) for each in listed], [("till", None), (None, "contested")])
        self.run_ok("alerts", "mute", "--event", "contested", "--end")
        self.assertEqual(len(self.run_json("alerts", "mute")), 1)
        self.run_ok("undo", "--yes")
        self.assertEqual(len(self.run_json("alerts", "mute")), 2)
        self.run_ok("alerts", "mute", "--end")
        self.assertEqual(self.run_json("alerts", "mute"), [])
        self.assertIn("say for how long", self.refused(2, "alerts", "mute", "192.0.2.50"))
        self.assertIn("everything at once cannot be muted", self.refused(2, "alerts", "mute", "--for", "2h"))
        self.assertIn("nothing of that is muted", self.refused(3, "alerts", "mute", "192.0.2.50", "--end"))

    def test_what_others_have_written_down_is_taken_in(self) -> None:
        """A lease file of this machine and a router's table feed the same memory, and one that is not there is told."""
        with (self.site / "site.toml").open("a") as file:
            file.write('[[router]]\naddress = "192.0.2.1"\ncommunity = "env:KILN"\n')
        text = (
            (self.site / "site.toml").read_text().replace("interval_s = 1800", 'interval_s = 1800\nleases = ["leases"]')
        )
        (self.site / "site.toml").write_text(text)
        missing = self.run_program("watch", "--once", KILN="readers")
        self.assertEqual(missing.returncode, 3, missing.stderr)
        self.assertIn("leases: No such file", missing.stderr)
        (self.site / "leases").write_text("1789999999 ac:d3:e5:00:51:40 192.0.2.40 glaze-scale *\n")
        self.assertEqual(self.run_program("watch", "--once", KILN="readers").returncode, 0)
        names = {each["name"] for each in self.run_json("devices")}
        self.assertIn("glaze-scale", names)


class LiveView(ProgramTest):
    """The watch in a terminal, as somebody sees it who then ends it with Ctrl-C."""

    def shown(self, enough: Callable[[bytes], bool]) -> bytes:
        """All that was written to the terminal, from the beginning until there was enough, and at the end."""
        environment = {**os.environ, "SCOPION_SITE": str(self.site), "TERM": "xterm", "COLUMNS": "120", "LINES": "40"}
        child, terminal = pty.fork()
        if child == 0:
            os.execve(PROGRAM, [PROGRAM, "watch"], environment)
        shown, deadline = b"", time.monotonic() + 30
        while time.monotonic() < deadline and not enough(shown):
            if select.select([terminal], [], [], 0.2)[0]:
                shown += os.read(terminal, 65_536)
        os.write(terminal, b"\x03")
        with suppress(OSError):  # the terminal ends with the process
            while part := os.read(terminal, 65_536):
                shown += part
        _, status = os.waitpid(child, 0)
        os.close(terminal)
        self.assertEqual(os.waitstatus_to_exitcode(status), 0)
        return shown

    def test_a_person_sees_who_is_here_and_what_happens(self) -> None:
        """In a terminal the watch shows devices, events, the next sweep and the channels, and Ctrl-C ends it well."""
        self.begin()
        self.run_ok("scan")
        self.run_ok("demo", "--next", str(self.site))
        shown = _ESCAPES.sub("", self.shown(lambda so_far: b"contested" in so_far).decode("utf-8", "replace"))
        for words in ("Kilnhaven Pottery is watched", "next sweep", "label-printer", "contested", "owner: "):
            self.assertIn(words, shown)
        self.assertIn("192.0.2.0/24 is learnt until Mon 21 Sep", shown)
        self.assertNotIn("Traceback", shown)

    def test_the_bell_rings(self) -> None:
        """The live view takes control characters out of what is written; a bell that is recorded as sent was heard."""
        self.begin()
        settings = self.site / "site.toml"
        # Without any channel, the person at the terminal is told in the same way.
        settings.write_text(re.sub(r"(?ms)^\[\[channel\]\].*?(?=^\[)", "", settings.read_text()))
        self.run_ok("scan")
        self.run_ok("demo", "--next", str(self.site))

        def sent(_: bytes) -> bool:
            return "sent" in {each["state"] for each in self.run_json("alerts", "list")}

        shown = self.shown(sent)
        self.assertTrue(sent(shown))
        self.assertIn(b"\a", shown)


class Sound(ProgramTest):
    """A stand-in for the desktop's player, first in PATH: it notes which file it is asked to play."""

    def setUp(self) -> None:
        super().setUp()
        self.begin()
        with (self.site / "site.toml").open("a") as settings:
            settings.write('\n[[channel]]\nname = "tone"\ntype = "sound"\n')
        self.programs = self.folder / "programs"
        self.programs.mkdir()

    def player(self, name: str, ends_with: int = 0) -> None:
        """Put one there."""
        path = self.programs / name
        path.write_text(f'#!/bin/sh\necho "{name} $1" >> "{self.folder}/asked"\nexit {ends_with}\n')
        path.chmod(0o755)

    def test_the_players_of_the_desktop_are_asked_for_the_tone_of_the_severity(self) -> None:
        """The first that can is enough; each severity has a tone of its own, which is a sound file as it was made."""
        self.player("pw-play", 1)
        self.player("paplay")
        self.player("aplay")
        ended = self.run_program("alerts", "test", "tone", PATH=str(self.programs))
        self.assertEqual(ended.returncode, 0, ended.stderr)
        asked = (self.folder / "asked").read_text().splitlines()
        self.assertEqual([line.split()[0] for line in asked], ["pw-play", "paplay"])
        message = message_of_a_test("1" * 32, "tone", NOON, Phrases("Kilnhaven", FixedClock(NOON), Vendors()))
        with mock.patch.dict(os.environ, {"PATH": str(self.programs)}):
            for severity in Severity:
                SoundChannel(self.folder).deliver(replace(message, severity=severity), lambda _: None)
        tones = [Path(line.split(maxsplit=1)[1]) for line in (self.folder / "asked").read_text().splitlines()[3::2]]
        self.assertEqual([each.name for each in tones], [f"tone-{each}.wav" for each in Severity])
        for severity, path in zip(Severity, tones, strict=True):
            self.assertEqual(path.read_bytes(), tone(NOTES[severity]))
            with wave.open(str(path)) as sound:
                self.assertLess(sound.getnframes() / sound.getframerate(), 1)

    def test_without_a_player_the_bell_rings(self) -> None:
        """In a terminal; where there is none either, it is said that there is no player."""
        (self.programs / "nothing").touch()
        code, shown = self.in_terminal("alerts", "test", "tone", PATH=str(self.programs))
        self.assertEqual(code, 0, shown)
        self.assertIn("\a", shown)
        ended = self.run_program("alerts", "test", "tone", PATH=str(self.programs))
        self.assertEqual(ended.returncode, 1)
        self.assertIn("no player is installed (pw-play, paplay, aplay, afplay); and there is no terminal", ended.stderr)


class Desktop(ProgramTest):
    """A session bus of the test's own, with a notification service on it."""

    def setUp(self) -> None:
        super().setUp()
        if shutil.which("dbus-daemon") is None:
            if os.environ.get("CI"):
                self.fail("dbus-daemon is not installed; in CI this may not be skipped")
            self.skipTest("dbus-daemon is not installed")
        command = ["dbus-daemon", "--session", "--nofork", "--print-address"]
        self.bus = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
        self.addCleanup(self.bus.wait)
        self.addCleanup(self.bus.terminate)
        assert self.bus.stdout is not None
        self.addCleanup(self.bus.stdout.close)
        self.address = self.bus.stdout.readline().strip()
        self.site.mkdir()
        (self.site / "site.toml").write_text('[[channel]]\ntype = "desktop"\nname = "screen"\n')

    def test_a_notification_by_the_common_interface(self) -> None:
        """The subject is its heading, markup in its body is escaped; without a service or a session it is explained."""
        self.assertIn("no notification service", self.failed(DBUS_SESSION_BUS_ADDRESS=self.address))
        self.assertIn("no desktop session", self.failed(DBUS_SESSION_BUS_ADDRESS=""))
        taken: list[Any] = []
        ready = threading.Event()
        service = threading.Thread(target=self._notifications, args=(taken, ready), daemon=True)
        service.start()
        self.assertTrue(ready.wait(10))
        ended = self.run_program("alerts", "test", "screen", DBUS_SESSION_BUS_ADDRESS=self.address)
        self.assertEqual(ended.returncode, 0, ended.stderr)
        service.join(10)
        ((_, _, _, subject, body, _, hints, _),) = taken
        self.assertTrue(subject.startswith("Test: "))
        self.assertIn("This is a test", body)
        self.assertEqual(hints["urgency"], ("y", 0))

    def failed(self, **environment: str) -> str:
        ended = self.run_program("alerts", "test", "screen", within=60, **environment)
        self.assertEqual(ended.returncode, 1)
        return ended.stderr

    def _notifications(self, taken: list[Any], ready: threading.Event) -> None:
        from jeepney import MessageType, new_method_return
        from jeepney.bus_messages import message_bus
        from jeepney.io.blocking import open_dbus_connection

        with open_dbus_connection(self.address) as bus:
            bus.send_and_get_reply(message_bus.RequestName("org.freedesktop.Notifications"))
            ready.set()
            while True:
                message = bus.receive(timeout=10)
                if message.header.message_type is MessageType.method_call:
                    taken.append(message.body)
                    bus.send(new_method_return(message, "u", (1,)))
                    return


if __name__ == "__main__":
    unittest.main()
