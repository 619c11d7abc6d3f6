"""What ``site.toml`` may not do: reach into the syntax of other files, or act with more rights than its owner has.

Several people may edit a shared site, and a site may come from elsewhere.
"""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from scopion.model.errors import InvalidSettings, UsageError
from scopion.model.toml_text import parse_toml
from scopion.operations.folder.read_secret import read_secret, require_private
from scopion.watching.service.service_unit import command_word, unit_word
from tests.support import FolderTest, ProgramTest

TOML_NEWLINE = "\\n"
OTHER = 64002


def words_of(line: str) -> list[str]:
    """The words that the service manager reads from a line, by systemd.syntax(7): quotes, backslashes, specifiers."""
    words, word, quote, escaped = list[str](), "", "", False
    for each in line + " ":
        if escaped:
            word, escaped = word + each, False
        elif each == "\\":
            escaped = True
        elif quote:
            word, quote = (word, "") if each == quote else (word + each, quote)
        elif each in "\"'":
            quote = each
        elif each == " ":
            words, word = [*words, word], ""
        else:
            word += each
    return [each.replace("%%", "%") for each in words]


class UnitWords(FolderTest):
    @given(st.lists(st.text(st.characters(exclude_categories=["C", "Z"], include_characters=" \"'\\%$;#"), min_size=1)))
    def test_a_word_is_read_as_it_was_meant(self, texts: list[str]) -> None:
        """Whatever characters a path has, the manager reads this path, one word of it, and no more words."""
        self.assertEqual(words_of(" ".join(map(unit_word, texts))), texts or [""])
        commands = words_of(" ".join(map(command_word, texts)))
        self.assertEqual([each.replace("$$", "$") for each in commands], texts or [""])

    @given(st.text(), st.characters(categories=["Cc", "Zl", "Zp"]), st.text())
    def test_no_line_ends_within_a_word(self, before: str, control: str, after: str) -> None:
        """A line end, or another control character, is refused: it could begin a directive."""
        with self.assertRaises(UsageError):
            unit_word(before + control + after)

    def test_the_manager_itself_reads_them_so(self) -> None:
        """A path with everything that is special is one path to systemd, too."""
        analyser = shutil.which("systemd-analyze")
        if analyser is None:
            if os.environ.get("CI"):
                self.fail("systemd-analyze is not installed; in CI this may not be skipped")
            self.skipTest("systemd-analyze is not installed")
        odd = "/var/odd \"x\" 100%! 'y' $HOME\\t"
        unit = self.folder / "scopion-test.service"
        for path, fine in ((unit_word(odd), True), (odd, False)):
            unit.write_text(f"[Service]\nExecStart=/bin/true {command_word(odd)}\nReadWritePaths={path}\n")
            said = subprocess.run([analyser, "verify", str(unit)], capture_output=True, text=True, check=False)
            self.assertEqual(said.stderr == "", fine, said.stderr)


class Settings(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.begin()

    def write(self, settings: str) -> Path:
        path = self.site / "site.toml"
        path.write_text(settings)
        return path

    def test_a_line_end_in_any_setting(self) -> None:
        """None gets into the unit as a directive: each is refused with its line, whether a key, a name or a path."""
        hook = '[[channel]]\ntype = "webhook"\nname = "phone"\nurl = "https://push.kilnhaven.example/"\n'
        enforcer = '[[enforcer]]\nname = "a"\ntype = "hostapd"\nnetwork = "K"\n'
        for settings in (
            f'{hook}key = "credential:x{TOML_NEWLINE}ExecStartPre=/bin/touch /tmp/owned"\n',
            f'[[channel]]\ntype = "file"\nname = "book"\npath = "/var/log/a{TOML_NEWLINE}ExecStartPre=x/book"\n',
            f'{enforcer}radio."5" = {{ socket = "/run/hostapd/wlan0", deny_file = "/etc/a{TOML_NEWLINE}b" }}\n',
            f'[[enforcer]]\nname = "u"\ntype = "uci"\nnetwork = "K"\nfile = "/etc/x{TOML_NEWLINE}User=root"\n',
            f'[watch]\nleases = ["/var/lib/a{TOML_NEWLINE}b"]\n',
            'name = "Kiln\\u001b[2Jhaven"\n',
            'name = "Kiln\\u202Ehaven"\n',
            '[absence]\ndevices = { "a\\u009b31m" = 60.0 }\n',
            'name = """\nKiln\nhaven"""\n',
        ):
            self.write(settings)
            for command in ("service", "devices"):
                said = self.refused(2, command) if command == "service" else self.run_program(command).stderr
                self.assertNotIn("\x1b", said)
                self.assertNotIn("\u202e", said)
                self.assertNotIn("\x9b", said)
            self.assertIn("control character", self.refused(2, "service"))
        self.write(f'{hook}key = "credential:../../etc/shadow"\n')
        self.assertIn("a secret does not stand here", self.refused(2, "service"))
        self.write('name = "the Kiln 👩‍🎨"\n')
        self.run_ok("service")

    def test_a_secret_is_not_shown_by_the_message_about_it(self) -> None:
        """A number as password, or as a header, and an address of the wrong kind."""
        mail = '[[channel]]\ntype = "email"\nname = "m"\nto = ["o@kilnhaven.example"]\nsender = "s@kilnhaven.example"\n'
        hook = '[[channel]]\ntype = "webhook"\nname = "h"\nurl = "https://push.kilnhaven.example/"\n'
        for settings in (
            f'{mail}host = "192.0.2.5"\nuser = "s"\npassword = 48151623\n',
            f'{mail}host = "192.0.2.5"\nuser = "s"\npassword = "48151623"\n',
            f"{hook}headers = {{ Authorization = 48151623 }}\n",
            f"{hook.replace('https://push', 'ftp://48151623')}",
            '[[router]]\naddress = "192.0.2.1"\ncommunity = 48151623\n',
        ):
            self.write(settings)
            self.assertNotIn("48151623", self.refused(2, "service"), settings)

    def test_what_is_no_document_of_ours(self) -> None:
        """Nested for ever, a number without end, keys of thousands of parts: one line each, and no traceback."""
        for settings in (
            "a = " + "[" * 5000 + "]" * 5000,
            "a = " + "{ b = " * 5000 + "1" + " }" * 5000,
            ".".join(["a"] * 5000) + " = 1",
            f"a = {'9' * 5000}",
            "timezone = " + "[" * 5000,
        ):
            self.write(settings + "\n")
            self.assertLess(len(self.refused(2, "service")), 400)
            self.run_program("devices")
            with self.assertRaises(ValueError):
                parse_toml(settings)
        (self.site / "site.toml").unlink()
        (self.site / "kinds.toml").write_text("a = " + "[" * 5000)
        self.assertIn("more than 32 deep", self.refused(2, "devices"))

    def test_a_key_for_ssh_that_lies_open(self) -> None:
        """An enforcer is not logged in to with a key that others may read or exchange."""
        (self.site / "id").write_text("key")
        (self.site / "id").chmod(0o644)
        self.write('[[enforcer]]\nname = "u"\ntype = "uci"\nnetwork = "K"\nssh = { host = "192.0.2.2", key = "id" }\n')
        self.run_ok("wifi", "deny", "K", "24:d3:a1:20:7e:14", "--new")
        said = self.run_program("wifi", "preview", "K")
        self.assertIn(
            "id holds the key of root on 192.0.2.2 and others may read or change it", said.stderr + said.stdout
        )

    @unittest.skipUnless(os.geteuid() == 0, "only root could do more than the owner of site.toml")
    def test_root_does_no_more_than_the_owner_could(self) -> None:
        """A command runs as the owner of site.toml; a file of root's is neither written nor read for it."""
        self.folder.chmod(0o755)
        told = self.site / "told"
        settings = self.write(
            '[[channel]]\nname = "c"\ntype = "command"\n'
            f'command = ["/bin/sh", "-c", "id -u > {told}; id -G >> {told}"]\n'
            f'[[channel]]\nname = "f"\ntype = "file"\npath = "{self.folder}/roots/book"\n'
            f'[[channel]]\nname = "o"\ntype = "file"\npath = "{self.site}/book"\n'
        )
        (self.folder / "roots").mkdir()
        self.site.chmod(0o755)
        for path in (self.site, settings):
            os.chown(path, OTHER, OTHER)
        self.run_ok("alerts", "test", "c")
        self.assertEqual(told.read_text().split(), [str(OTHER), str(OTHER)])
        self.assertIn("another account than site.toml", self.refused_test("f"))
        self.assertEqual(list((self.folder / "roots").iterdir()), [])
        self.run_ok("alerts", "test", "o")
        self.assertEqual((self.site / "book").stat().st_uid, OTHER)
        os.chown(settings, 0, 0)
        told.unlink()
        self.run_ok("alerts", "test", "c")  # asked for: root has made the file its own
        self.assertEqual(told.read_text().split()[0], "0")
        settings.chmod(0o660)
        self.assertIn("belongs to root and others may change it", self.refused_test("c"))

    def refused_test(self, channel: str) -> str:
        ended = self.run_program("alerts", "test", channel)
        self.assertEqual(ended.returncode, 1)
        return ended.stderr


class Secrets(FolderTest):
    def test_a_file_that_others_may_read(self) -> None:
        """Neither a password nor an SSH key is taken from one; under root the settings of another account do not get
        root's secrets.
        """
        path = self.folder / "key"
        path.write_text("clay\n")
        for mode in (0o644, 0o640, 0o620):
            path.chmod(mode)
            with self.assertRaisesRegex(InvalidSettings, "chmod 600"):
                require_private(path, self.folder, "the key")
            with self.assertRaisesRegex(InvalidSettings, "chmod 600"):
                read_secret("file:key", self.folder, "the key")
        path.chmod(0o600)
        require_private(path, self.folder, "the key")
        self.assertEqual(read_secret("file:key", self.folder, "the key"), "clay")
        if os.geteuid() == 0:
            (self.folder / "site.toml").write_text("")
            os.chown(self.folder / "site.toml", OTHER, OTHER)
            with self.assertRaisesRegex(InvalidSettings, "another account"):
                read_secret("file:key", self.folder, "the key")
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600)


if __name__ == "__main__":
    unittest.main()
