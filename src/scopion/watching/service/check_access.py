"""What a service has to reach on this machine: the program, and files that settings name, with its own account."""

from __future__ import annotations

import shutil
import stat
import sys
from pathlib import Path

from scopion.alerts.channels import registry as channels
from scopion.operations.folder.find_folder import SYSTEM_FOLDER
from scopion.operations.site.site_settings import Settings
from scopion.watching.service.service_unit import Installation
from scopion.wireless.enforcers import registry as enforcers


def installation(settings: Settings, folder: Path = SYSTEM_FOLDER) -> Installation:
    """Return the running program, where its parts are, and the groups that may read what the settings name."""
    used = [*settings.watch.leases, *(path for path, _ in _sockets(settings))]
    groups = {group for each in used if (group := _group_of(folder / each, folder))}
    return Installation(program_path(), program_parts(), tuple(sorted(groups)))


def _sockets(settings: Settings) -> list[tuple[str, str]]:
    """Return the sockets of enforcers on this machine, each with what to do if it is closed to the account."""
    local = [(each, enforcers.type_of(each)) for each in settings.enforcer if each.is_here]
    return [(path, entry.socket_advice) for each, entry in local for path in entry.sockets(each).values()]


def cannot_run(found: Installation) -> str:
    """Return why the service's account could not run the program, in a sentence; empty if it can."""
    closed = next(filter(None, map(_closed, (found.program, *found.parts))), None)
    if closed is None:
        return ""
    return (
        f"the service's account cannot run {found.program}, because {closed} is closed to others: install the program "
        "into an environment that is open to all (python3 -m venv /opt/scopion), and use the one in there"
    )


def unreachable(settings: Settings, folder: Path = SYSTEM_FOLDER) -> list[str]:
    """Return what else the service's account could not run or read; a sentence each."""
    told = []
    for channel in settings.channel:
        for program in channels.type_of(channel).runs(channel):
            if closed := _closed(Path(program), folder):
                told.append(f"channel {channel.name!r} runs {program}, but {closed} is closed to others")
    for each in settings.watch.leases:
        if (closed := _closed(folder / each, folder)) and not _group_of(folder / each, folder):
            told.append(
                f"the lease file {folder / each} cannot be read, because {closed} is closed to others and to its group"
            )
    for path, advice in _sockets(settings):
        if (closed := _closed(Path(path))) and not _group_of(Path(path), folder):
            told.append(
                f"the control socket {path} cannot be used, because {closed} is closed to others and to its group: "
                f"{advice}"
            )
    return told


def _closed(path: Path, own: Path | None = None) -> Path | None:
    """Return the first part of a path that other accounts cannot use; None if they can, or it is ours."""
    if own is not None and path.is_relative_to(own):
        return None
    return next((each for each in (*reversed(path.parents), path) if not _is_open(each, stat.S_IROTH)), None)


def _is_open(path: Path, to: int) -> bool:
    """Tell whether others (S_IROTH) or its group (S_IRGRP) can read a file, or pass a folder."""
    try:
        mode = path.stat().st_mode
    except OSError:  # a missing file is not our business
        return True
    return bool(mode & (to >> 2 if stat.S_ISDIR(mode) else to))


def _group_of(path: Path, own: Path) -> str:
    """Return the group that can use a file which is closed to others; empty if none can, or it is root's."""
    import grp

    closed = _closed(path, own)
    if closed is None or not _is_open(closed, stat.S_IRGRP):
        return ""
    try:
        group = closed.stat().st_gid
        return grp.getgrgid(group).gr_name if group else ""
    except (OSError, KeyError):
        return ""


def program_parts() -> tuple[Path, ...]:
    """Return where the interpreter and the code of the running program are."""
    return Path(sys.base_prefix), Path(sys.prefix), Path(__file__).parents[1]


def program_path() -> Path:
    """Return the running program, as a service would start it."""
    found = shutil.which(sys.argv[0]) or shutil.which("scopion")
    path = Path(found or sys.argv[0]).absolute()
    return path if path.name.startswith("scopion") else Path(sys.executable).with_name("scopion")
