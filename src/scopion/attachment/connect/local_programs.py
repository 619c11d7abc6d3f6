"""Programs, files and control sockets of this machine, behind the same protocol as those of an access point."""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
from collections.abc import Sequence
from pathlib import Path

from scopion.attachment.connect.control_socket import LocalControlLine
from scopion.attachment.connect.far_script import log_script
from scopion.attachment.connect.one_by_one import OneByOne
from scopion.attachment.live_lock import require_unlocked
from scopion.attachment.permission import hand_down_network_administration
from scopion.attachment.ports import Ran
from scopion.model.errors import EnforcerUnreachable
from scopion.roster.store.write_files import reason, replacing

_RUN_S = 30.0
FIREWALL = "nft"
_SYSTEM_PATH = "/usr/sbin:/sbin"  # folders of firewall programs that a user's PATH does not have


class LocalShell(OneByOne):
    """Implements ``Shell`` for this machine. Raises LiveNetworkLocked."""

    def __init__(self) -> None:
        require_unlocked()
        super().__init__(self, LocalControlLine)

    def run(self, command: Sequence[str], stdin: str = "") -> Ran:
        """Run a program with this process's rights."""
        path = f"{os.environ.get('PATH', os.defpath)}:{_SYSTEM_PATH}"
        program = shutil.which(command[0], path=path)
        if program is None:
            raise EnforcerUnreachable(f"{command[0]} is not installed on this machine")
        try:
            ended = subprocess.run(
                [program, *command[1:]],
                input=stdin,
                capture_output=True,
                encoding="utf-8",
                errors="surrogateescape",
                timeout=_RUN_S,
                check=False,
                preexec_fn=hand_down_network_administration if command[0] == FIREWALL else None,
            )
        except (OSError, subprocess.TimeoutExpired) as error:
            raise EnforcerUnreachable(f"{command[0]}: {error}") from None
        return Ran(ended.returncode, ended.stdout, ended.stderr)

    def read(self, path: str) -> str | None:
        """Return a file's text as UTF-8, byte for byte."""
        try:
            return Path(path).read_bytes().decode("utf-8", "surrogateescape")
        except FileNotFoundError:
            return None
        except OSError as error:
            raise EnforcerUnreachable(f"{path}: {error.strerror}") from None

    def write(self, path: str, text: str) -> None:
        """Replace a file by one that is written beside it: no process reads half of it, or a file with wider rights."""
        target = Path(path).resolve()
        try:
            kept = target.stat() if target.exists() else None
            mode = stat.S_IMODE(kept.st_mode) if kept else 0o600
            owner = (kept.st_uid, kept.st_gid) if kept and os.geteuid() == 0 else None
            with replacing(target, mode, owner) as file:
                file.write(text.encode("utf-8", "surrogateescape"))
        except OSError as error:
            raise EnforcerUnreachable(f"{path} cannot be written: {reason(error)}") from None

    def log(self, words: Sequence[str]) -> str:
        """Return the last lines of the system's log that have one of some words."""
        return self.run(("sh", "-c", log_script(words))).output

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """Return the mode and the group by its name, or by its number if it has no name."""
        import grp

        try:
            found = Path(path).stat()
        except OSError:
            return None
        try:
            group = grp.getgrgid(found.st_gid).gr_name
        except KeyError:
            group = str(found.st_gid)
        return stat.S_IMODE(found.st_mode), group
