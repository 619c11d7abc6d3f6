"""Limits root to the rights of the owner of ``site.toml``: root does nothing that the owner could not do alone.

A person who may write ``site.toml`` may name programs, files and secrets. Under sudo, or in a job of root's, that would
give the rights of root. So what it names is run, written and read with the rights of the account that owns the file.
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
    """Return the account whose rights limit the settings of a site; None if this process has no more rights.

    Raises Refused for settings of root that others may change.
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
    """Return the arguments by which ``subprocess`` starts a program with an account's rights; none for None."""
    if account is None or sys.platform == "win32":
        return {}
    import pwd

    try:
        entry = pwd.getpwuid(account)
    except KeyError:  # an account of another machine: its number, and no group
        return {"user": account, "group": account, "extra_groups": []}
    groups = os.getgrouplist(entry.pw_name, entry.pw_gid)
    return {"user": account, "group": entry.pw_gid, "extra_groups": groups}


def home_of(account: int) -> str:
    """Return the home folder of an account; / if it has none."""
    import pwd

    try:
        return pwd.getpwuid(account).pw_dir
    except KeyError:
        return "/"
