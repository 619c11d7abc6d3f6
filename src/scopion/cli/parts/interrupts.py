"""Ctrl-C at the wrong moment: one that falls into a callback of the interpreter itself would be lost, with a traceback.

Python cannot raise there: it prints the error and goes on. Here the interrupt comes once more, a moment later.
"""

from __future__ import annotations

import _thread
import sys
import time
from typing import Any

_LATER_S = 0.01  # by then the callback has ended


class Interrupts:
    """Brings lost interrupts back for as long as a command runs."""

    def __init__(self) -> None:
        self._over = False
        sys.unraisablehook = self._unraisable

    def end(self) -> None:
        """Let none come any more: the command has ended."""
        self._over = True

    def _unraisable(self, lost: Any) -> None:
        if isinstance(lost.exc_value, KeyboardInterrupt) or lost.exc_type is KeyboardInterrupt:
            _thread.start_new_thread(self._again, ())
        else:
            sys.__unraisablehook__(lost)

    def _again(self) -> None:
        time.sleep(_LATER_S)
        if not self._over:
            _thread.interrupt_main()
