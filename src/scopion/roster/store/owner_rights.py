"""On whose behalf a site's settings act: root does nothing for ``site.toml`` that its owner could not do alone.

Who may write ``site.toml`` may name programs, files and secrets. Under sudo, or in a job of root's, that would make
them root. So what it names is run, written and read within the rights of the account that owns the file.
"""

from __future__ import annotations

import os
import stat
import sys
from pathlib import Path
from typing import Any

from scopion.model.errors import Refused

SETTINGS = "site.toml"


def bound_to(folder: Path) -> int | None:
    """The account within whose rights the settings of a site act, or None where this process's own are no more.

    Raises Refused for settings of root's that others may change.
    """
    if sys.platform == "win32" or os.geteuid() != 0:
        return None
    path = folder / SETTINGS
    try:
        there = path.stat()
    except OSError:
        return None  # nothing is set
    if there.st_uid == 0 and there.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
        raise Refused(
            f"{path} belongs to root and others may change it, so what it names is not done as root: chmod 644 {path}, "
            "or chown it to the account that it should act for"
        )
    return there.st_uid or None


def within_rights(account: int | None) -> dict[str, Any]:
    """The arguments by which ``subprocess`` starts a program with an account's rights; none for None."""
    if account is None or sys.platform == "win32":
        return {}
    import pwd

    try:
        entry = pwd.getpwuid(account)
    except KeyError:  # an account of elsewhere: its number, and no group
        return {"user": account, "group": account, "extra_groups": []}
    groups = os.getgrouplist(entry.pw_name, entry.pw_gid)
    return {"user": account, "group": entry.pw_gid, "extra_groups": groups}


def home_of(account: int) -> str:
    """The home folder of an account; / where it has none."""
    import pwd

    try:
        return pwd.getpwuid(account).pw_dir
    except KeyError:
        return "/"
