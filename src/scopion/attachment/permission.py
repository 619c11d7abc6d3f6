"""What to tell somebody who may not send raw frames."""

from __future__ import annotations

import shutil
import sys
from pathlib import Path


def how_to_get_raw_frames() -> str:
    """One line. Never by giving rights to the interpreter: every script of every user would have them."""
    program = shutil.which(sys.argv[0]) or shutil.which("scopion") or "scopion"
    return f"for raw frames: sudo {Path(program).absolute()} (your own roster is used, and its files stay yours)"
