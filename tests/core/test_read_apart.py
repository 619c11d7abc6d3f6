"""What is read in a process of its own: the value, the error, and what cannot be handed over."""

from __future__ import annotations

import os
import sys
import unittest
from ipaddress import IPv4Network

from scopion.model.errors import InvalidSettings
from scopion.operations.folder.read_apart import read_apart


class Apart(unittest.TestCase):
    def test_what_comes_of_it(self) -> None:
        """A value from another process; the program's own error; what cannot be pickled is read here."""
        here = os.getpid()
        pid, subnet = read_apart(lambda: (os.getpid(), IPv4Network("192.0.2.0/24")))
        self.assertEqual((pid == here, subnet), (sys.platform == "win32", IPv4Network("192.0.2.0/24")))

        def wrong() -> None:
            raise InvalidSettings("sensor.toml, line 2: a text is needed")

        with self.assertRaisesRegex(InvalidSettings, "line 2: a text is needed"):
            read_apart(wrong)
        read = read_apart(lambda: (os.getpid(), lambda: "no other process has this"))
        self.assertEqual((read[0], read[1]()), (here, "no other process has this"))
