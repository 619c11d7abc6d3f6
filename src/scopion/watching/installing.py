"""Sets the service up on this machine, and takes it away again: account, folder, unit; as steps, for showing first."""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from scopion.alerts.settings import CommandSettings
from scopion.attachment.lock import require_unlocked
from scopion.model.errors import NotPermitted, Refused, ScopionError
from scopion.operations.folder import SYSTEM_FOLDER
from scopion.operations.settings import Settings, load_settings
from scopion.operations.site import prepare_folder
from scopion.roster.files import write_atomically
from scopion.watching.unit import ACCOUNT, NAME, Installation, unit_text

UNITS = Path("/etc/systemd/system")
_WITHIN_S = 60


@dataclass(frozen=True, slots=True)
class Step:
    """One thing to do, as it is shown, and as it is done."""

    says: str
    do: Callable[[], None]


def installation(settings: Settings, folder: Path = SYSTEM_FOLDER) -> Installation:
    """The program that runs now, where its parts are, and the groups that may read what the settings name."""
    groups = {group for each in settings.watch.leases if (group := _group_of(folder / each, folder))}
    code = Path(__file__).parents[1]
    return Installation(program_path(), (Path(sys.base_prefix), Path(sys.prefix), code), tuple(sorted(groups)))


def cannot_run(found: Installation) -> str:
    """Why the service's account could not run the program, in a sentence; empty if it can."""
    closed = next(filter(None, map(_closed, (found.program, *found.parts))), None)
    if closed is None:
        return ""
    return (
        f"the service's account cannot run {found.program}, for {closed} is closed to others: install the program into "
        "an environment that is open to all (python3 -m venv /opt/scopion), and use the one in there"
    )


def unreachable(settings: Settings, folder: Path = SYSTEM_FOLDER) -> list[str]:
    """What else the service's account could not run or read; a sentence each."""
    told = []
    for channel in settings.channel:
        if isinstance(channel, CommandSettings) and (closed := _closed(Path(channel.command[0]), folder)):
            told.append(f"channel {channel.name!r} runs {channel.command[0]}, but {closed} is closed to others")
    for each in settings.watch.leases:
        if (closed := _closed(folder / each, folder)) and not _group_of(folder / each, folder):
            told.append(
                f"the lease file {folder / each} cannot be read, for {closed} is closed to others and to its group"
            )
    return told


def _closed(path: Path, own: Path | None = None) -> Path | None:
    """The first part of a path that others than its owner and its group cannot use; None if they can, or it is ours."""
    if own is not None and path.is_relative_to(own):
        return None
    return next((each for each in (*reversed(path.parents), path) if not _is_open(each, stat.S_IROTH)), None)


def _is_open(path: Path, to: int) -> bool:
    """Whether a file can be read, or a folder be passed, by others (S_IROTH) or its group (S_IRGRP)."""
    try:
        mode = path.stat().st_mode
    except OSError:  # what is not there yet is none of our business
        return True
    return bool(mode & (to >> 2 if stat.S_ISDIR(mode) else to))


def _group_of(path: Path, own: Path) -> str:
    """The group whose members reach a file that is closed to others; empty if none does, or it is root's."""
    import grp

    closed = _closed(path, own)
    if closed is None or not _is_open(closed, stat.S_IRGRP):
        return ""
    try:
        group = closed.stat().st_gid
        return grp.getgrgid(group).gr_name if group else ""
    except (OSError, KeyError):
        return ""


def program_path() -> Path:
    """The program that is running now, as a service would start it."""
    found = shutil.which(sys.argv[0]) or shutil.which("scopion")
    path = Path(found or sys.argv[0]).absolute()
    return path if path.name.startswith("scopion") else Path(sys.executable).with_name("scopion")


def settings_of_service() -> Settings:
    """Those of the system's site, the defaults if there is none yet. Raises InvalidSettings."""
    return load_settings(SYSTEM_FOLDER)


def install_steps() -> list[Step]:
    """What installing comes to here. Raises NotPermitted, Refused, LiveNetworkLocked."""
    _require_manager()
    settings = settings_of_service()
    found = installation(settings)
    if problem := cannot_run(found):
        raise Refused(problem)
    unit = unit_text(settings, found)
    steps = []
    if not _has_account():
        steps.append(
            Step(f"make the account and group {ACCOUNT}, without password and shell", lambda: _run(*_NEW_ACCOUNT))
        )
    steps += [
        Step(f"make the folder {SYSTEM_FOLDER} for the site, for the group {ACCOUNT} (mode 2770)", _make_folder),
        Step(f"write {UNITS / NAME}", lambda: write_atomically(UNITS / NAME, unit.encode(), 0o644)),
        Step("let the service manager read it, start it now and at every start", _start),
    ]
    return steps


def remove_steps() -> list[Step]:
    """What removing comes to; the site stays. Raises NotPermitted, Refused, LiveNetworkLocked."""
    _require_manager()
    if not (UNITS / NAME).exists():
        raise Refused(f"{UNITS / NAME} is not there: nothing to remove")

    def stop() -> None:
        _run("systemctl", "disable", "--now", NAME)
        (UNITS / NAME).unlink()
        _run("systemctl", "daemon-reload")

    return [Step(f"end the service and remove {UNITS / NAME}; the site in {SYSTEM_FOLDER} stays", stop)]


_NEW_ACCOUNT = (
    "useradd", "--system", "--user-group", "--home-dir", str(SYSTEM_FOLDER), "--no-create-home",
    "--shell", "/usr/sbin/nologin", ACCOUNT,
)  # fmt: skip


def _require_manager() -> None:
    require_unlocked()
    if not Path("/run/systemd/system").is_dir():
        raise Refused("no systemd runs here: scopion service by-hand tells how to set the service up without it")
    if os.geteuid() != 0:
        raise NotPermitted(f"installing a service needs root: sudo {program_path()} service install")


def _has_account() -> bool:
    import pwd

    try:
        pwd.getpwnam(ACCOUNT)
    except KeyError:
        return False
    return True


def _make_folder() -> None:
    import pwd

    account = pwd.getpwnam(ACCOUNT)
    SYSTEM_FOLDER.mkdir(parents=True, exist_ok=True)
    os.chown(SYSTEM_FOLDER, account.pw_uid, account.pw_gid)
    SYSTEM_FOLDER.chmod(0o2770)
    prepare_folder(SYSTEM_FOLDER)
    for path in SYSTEM_FOLDER.iterdir():
        if path.is_file() and not path.is_symlink():
            os.chown(path, account.pw_uid, account.pw_gid)


def _start() -> None:
    _run("systemctl", "daemon-reload")
    _run("systemctl", "enable", NAME)
    _run("systemctl", "restart", NAME)  # one that runs already would go on with the rights of before


def _run(*command: str) -> None:
    try:
        ended = subprocess.run(command, capture_output=True, text=True, check=False, timeout=_WITHIN_S)
    except (OSError, subprocess.TimeoutExpired) as error:
        raise ScopionError(f"{' '.join(command)}: {error}") from None
    if ended.returncode:
        said = " ".join(ended.stderr.split())
        raise ScopionError(f"{' '.join(command)} ended with {ended.returncode}: {said}")
