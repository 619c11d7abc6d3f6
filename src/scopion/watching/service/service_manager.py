"""What installing a service does to this machine: the account, units, what the service manager is asked; as steps."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from scopion.attachment.live_lock import require_unlocked
from scopion.model.errors import NotPermitted, Refused, ScopionError
from scopion.operations.folder.find_folder import SYSTEM_FOLDER
from scopion.roster.store.write_files import write_atomically
from scopion.watching.service.check_access import program_path
from scopion.watching.service.service_unit import ACCOUNT

UNITS = Path("/etc/systemd/system")
_WITHIN_S = 60
_NEW_ACCOUNT = (
    "useradd", "--system", "--user-group", "--home-dir", str(SYSTEM_FOLDER), "--no-create-home",
    "--shell", "/usr/sbin/nologin", ACCOUNT,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class InstallStep:
    """One thing to do, with its words."""

    says: str
    do: Callable[[], None]


def require_manager() -> None:
    """Make sure that a service can be installed here. Raises LiveNetworkLocked, Refused, NotPermitted."""
    require_unlocked()
    if not Path("/run/systemd/system").is_dir():
        raise Refused("no systemd runs here: scopion service by-hand shows how to set the service up without it")
    if os.geteuid() != 0:
        raise NotPermitted(f"installing a service needs root: sudo {program_path()} service install")


def account_steps() -> Iterator[InstallStep]:
    """Yield the step that makes the services' account, if it is not there."""
    import pwd

    try:
        pwd.getpwnam(ACCOUNT)
    except KeyError:
        says = f"make the account and group {ACCOUNT}, without password and shell"
        yield InstallStep(says, lambda: run(*_NEW_ACCOUNT))


def unit_steps(name: str, text: str) -> Iterator[InstallStep]:
    """Yield the steps that write a unit and start it."""
    yield InstallStep(f"write {UNITS / name}", lambda: write_atomically(UNITS / name, text.encode(), 0o644))
    yield InstallStep("let the service manager read it, start it now and at every start", lambda: start(name))


def hand_over(folder: Path) -> None:
    """Give a folder with everything in it to the services' account."""
    import pwd

    account = pwd.getpwnam(ACCOUNT)
    found = [
        each
        for base, folders, files in os.walk(folder)
        for each in (base, *(f"{base}/{name}" for name in [*folders, *files]))
    ]
    for path in found:
        os.chown(path, account.pw_uid, account.pw_gid, follow_symlinks=False)


def start(*names: str) -> None:
    """Start units now and at every start. Raises ScopionError."""
    run("systemctl", "daemon-reload")
    run("systemctl", "enable", *names)
    run("systemctl", "stop", *names)  # a socket does not start while its service runs
    run("systemctl", "start", *names)  # a running service would go on with the old rights


def end(*names: str) -> None:
    """End units, and remove their files. Raises ScopionError."""
    run("systemctl", "disable", "--now", *names)
    for name in names:
        (UNITS / name).unlink()
    run("systemctl", "daemon-reload")


def run(*command: str) -> None:
    """Run one of the system's programs. Raises ScopionError with what it said."""
    try:
        ended = subprocess.run(
            command, capture_output=True, encoding="utf-8", errors="replace", check=False, timeout=_WITHIN_S
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise ScopionError(f"{' '.join(command)}: {error}") from None
    if ended.returncode:
        said = " ".join(ended.stderr.split())
        raise ScopionError(f"{' '.join(command)} ended with {ended.returncode}: {said}")
