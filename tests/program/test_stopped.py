"""Ctrl-C at any moment: the last line is true. What a command has done for good is said, and how to go back."""

from __future__ import annotations

import io
import subprocess
import sys
import unittest
from contextlib import redirect_stderr, redirect_stdout
from unittest import mock

from scopion.cli import main
from scopion.scenes.access_point import SceneControlLine
from tests.support import PreparedTest, ProgramTest

REAL_ASK = SceneControlLine.ask


class Stopped(PreparedTest):
    @classmethod
    def prepare(cls, site: ProgramTest) -> None:
        site.begin()
        site.run_ok("scan", "--no-names")

    def stopped(self, *arguments: str, at: str, side_effect: object = KeyboardInterrupt) -> str:
        """Run a command in which something is interrupted; its last line."""
        err = io.StringIO()
        with (
            mock.patch.dict("os.environ", {"SCOPION_SITE": str(self.site)}),
            mock.patch.object(sys, "stdin", io.StringIO()),
            mock.patch(at, side_effect=side_effect),
            redirect_stdout(io.StringIO()),
            redirect_stderr(err),
        ):
            self.assertEqual(main.run(list(arguments)), 1)
        return err.getvalue().splitlines()[-1]

    def test_nothing_was_changed(self) -> None:
        """Only where that is so: before anything was written, and where a change was taken back by itself."""
        nothing = "scopion: stopped; nothing was changed"
        self.assertEqual(self.stopped("devices", at="scopion.cli.remember.devices.show"), nothing)
        for within in (
            "scopion.operations.edit.edit_devices.again",
            "scopion.operations.edit.edit_devices.set_description",
        ):
            self.assertEqual(self.stopped("label", "192.0.2.31", "kiln", at=within), nothing)
        self.assertNotIn("kiln", self.run_ok("devices", "192.0.2.31"))

        def while_a_class_is_made(*_: object, **__: object) -> None:
            class Meeting:
                def __set_name__(self, owner: type, name: str) -> None:
                    raise KeyboardInterrupt

            type("Made", (), {"field": Meeting()})

        self.assertEqual(
            self.stopped("devices", at="scopion.cli.remember.devices.show", side_effect=while_a_class_is_made), nothing
        )

    def test_an_interrupt_in_a_callback_of_the_interpreter_is_not_lost(self) -> None:
        """Python cannot raise there: no traceback is printed, and the command is stopped a moment later."""
        script = (
            "import sys, time\n"
            "from scopion.cli import main\n"
            "class Gone:\n"
            "    def __del__(self):\n"
            "        raise KeyboardInterrupt\n"
            "def waits(*_):\n"
            "    Gone()\n"
            "    time.sleep(20)\n"
            "main.cli.main = lambda *_, **__: waits()\n"
            "main.main(['devices'])\n"
        )
        ended = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False, timeout=60)
        self.assertEqual((ended.returncode, ended.stderr), (1, "scopion: stopped; nothing was changed\n"))

    def test_what_was_taken_in_stands(self) -> None:
        """Three hundred devices of an import; a label whose answer is being printed; a scan; a file."""
        path = self.folder / "list.csv"
        rows = "".join(f"02:00:00:00:{number >> 8:02x}:{number & 255:02x},host-{number}\n" for number in range(300))
        path.write_text(f"macs,label\n{rows}")
        said = self.stopped(
            "import", str(path), "--yes", at="scopion.cli.remember.take_over.Session.note", side_effect=self.late
        )
        self.assertRegex(
            said, r"stopped; change \d+ stands \(300 devices taken over from list.csv\): scopion undo \d+ "
        )
        number = said.split("scopion undo ")[1].split()[0]
        self.run_ok("undo", number, "--yes")
        self.assertNotIn("host-7", self.run_ok("devices"))
        said = self.stopped("label", "192.0.2.31", "kiln", at="scopion.cli.remember.describe.Session.note")
        self.assertRegex(said, r"change \d+ stands \(.*label 'kiln'\): scopion undo")
        self.assertIn(
            "the scan of 192.0.2.0/24 is remembered",
            self.stopped("scan", "--no-names", at="scopion.cli.look.scan.show"),
        )
        out = self.folder / "out.csv"
        said = self.stopped("export", str(out), at="scopion.cli.remember.export_file.counted")
        self.assertEqual(said, f"scopion: stopped; {out} is written")

    def late(self, text: str = "") -> None:
        """Interrupts once the import is done."""
        roster = self.opened().roster_for_reading()
        assert roster is not None
        if roster.db.execute("SELECT count(*) FROM change WHERE kind = 'import'").fetchone()[0]:
            raise KeyboardInterrupt

    def test_after_the_first_of_two_enforcers(self) -> None:
        """The first holds the new list and the second what it held; each is said, and how to go back."""
        (self.site / "site.toml").write_text(
            "".join(
                f'[[enforcer]]\nname = "{name}"\ntype = "hostapd"\nnetwork = "Kilnhaven"\n'
                f'radio = {{ "{radio}" = {{ socket = "/run/hostapd/{socket}" }} }}\n'
                for name, radio, socket in (("one", "2.4", "wlan0"), ("two", "5", "wlan1"))
            )
        )
        self.run_ok("wifi", "deny", "Kilnhaven", "192.0.2.61")
        self.run_ok("wifi", "mode", "Kilnhaven", "deny")
        added = 0

        def ask(line: SceneControlLine, command: str) -> str:
            nonlocal added
            added += "ADD_MAC" in command
            if added == 2 and "ADD_MAC" in command:
                raise KeyboardInterrupt
            return REAL_ASK(line, command)

        err = io.StringIO()
        with (
            mock.patch.dict("os.environ", {"SCOPION_SITE": str(self.site)}),
            mock.patch.object(sys, "stdin", io.StringIO()),
            mock.patch.object(SceneControlLine, "ask", ask),
            redirect_stdout(io.StringIO()),
            redirect_stderr(err),
        ):
            self.assertEqual(main.run(["wifi", "push", "Kilnhaven", "--yes", "--no-verify"]), 1)
        said = err.getvalue().splitlines()[-1]
        self.assertIn("one holds the new list (push 1): scopion wifi revert --to 1 goes back", said)
        self.assertIn("two holds what it held (push 2 was rolled back)", said)


if __name__ == "__main__":
    unittest.main()
