"""Sets the service up on this machine, and removes it: account, folder, unit; as steps that can be shown first."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from scopion.attachment.live_lock import require_unlocked
from scopion.model.errors import NotPermitted, Refused, ScopionError
from scopion.model.text import joined
from scopion.operations.exchange.export_site import export_site
from scopion.operations.exchange.import_site import site_import
from scopion.operations.folder.find_folder import SYSTEM_FOLDER
from scopion.operations.site.load_settings import load_settings
from scopion.operations.site.open_site import Site, prepare_folder
from scopion.operations.site.site_settings import Settings
from scopion.roster.store.open_roster import FILE as ROSTER_FILE
from scopion.roster.store.write_files import write_atomically
from scopion.scenes import STORY_FILE
from scopion.watching.service.check_access import cannot_run, installation, program_path
from scopion.watching.service.radius_unit import SERVICE, SOCKET, radius_secret_references, radius_units
from scopion.watching.service.service_unit import ACCOUNT, CREDENTIALS, NAME, Installation, secret_references, unit_text

UNITS = Path("/etc/systemd/system")
_WITHIN_S = 60


@dataclass(frozen=True, slots=True)
class InstallStep:
    """One thing to do, with its words."""

    says: str
    do: Callable[[], None]


def install_steps(own: Path) -> list[InstallStep]:
    """Return the steps of installing here. Raises NotPermitted, Refused, InvalidSettings, LiveNetworkLocked.

    ``own`` is the folder of the site that was in use until now: it becomes the system's, if that has none yet.
    """
    _require_manager()
    copied = _is_to_be_copied(own)
    settings = load_settings(own if copied else SYSTEM_FOLDER)
    found = installation(settings)
    if problem := cannot_run(found):
        raise Refused(problem)
    unit = unit_text(settings, found)
    steps = []
    if not _has_account():
        steps.append(
            InstallStep(
                f"make the account and group {ACCOUNT}, without password and shell", lambda: _run(*_NEW_ACCOUNT)
            )
        )
    steps.append(
        InstallStep(f"make the folder {SYSTEM_FOLDER} for the site, for the group {ACCOUNT} (mode 2770)", _make_folder)
    )
    if copied:
        steps.append(
            InstallStep(f"copy the site in {own} into it, without the files that hold secrets", lambda: _copy_site(own))
        )
    steps += [
        InstallStep(f"write {UNITS / NAME}", lambda: write_atomically(UNITS / NAME, unit.encode(), 0o644)),
        InstallStep("let the service manager read it, start it now and at every start", lambda: _start(NAME)),
    ]
    return [*steps, *_radius_steps(settings, found)]


def _radius_steps(settings: Settings, found: Installation) -> list[InstallStep]:
    """Return the steps for the server that access points ask; where there is none any more, those that remove it."""
    units = radius_units(settings, found)
    if not units:
        return _radius_removal()

    def write() -> None:
        for name, text in units.items():
            write_atomically(UNITS / name, text.encode(), 0o644)

    return [
        InstallStep(f"write {joined([str(UNITS / name) for name in units])}, for access points that ask", write),
        InstallStep("start the RADIUS server now, and early at every start", lambda: _start(*units)),
    ]


def _radius_removal() -> list[InstallStep]:
    there = [name for name in (SERVICE, SOCKET) if (UNITS / name).exists()]
    if not there:
        return []
    return [InstallStep("end the RADIUS server, and remove its units", lambda: _end(*there))]


def secrets_left_behind(own: Path) -> list[str]:
    """Return which secrets of a site the service lacks once the site is copied: a sentence each, with names only."""
    if not _is_to_be_copied(own):
        return []
    told = []
    settings = load_settings(own)
    for kind, name in sorted({*secret_references(settings), *radius_secret_references(settings)}):
        if kind == "file":
            path = own / name
            told.append(
                f"the secret in {path} was not copied: install -o {ACCOUNT} -g {ACCOUNT} -m 600 {path} {SYSTEM_FOLDER}/"
                if not Path(name).is_absolute()
                else f"the secret in {name} has to be readable by the account {ACCOUNT}"
            )
        elif kind == "env":
            told.append(f"the secret in the variable {name} is not known to the service: use credential:{name}")
        else:
            if not (CREDENTIALS / name).exists():
                told.append(f"the credential {name} is read from {CREDENTIALS / name}, which is not there yet")
    return told


def remove_steps() -> list[InstallStep]:
    """Return the steps of removing; the site stays. Raises NotPermitted, Refused, LiveNetworkLocked."""
    _require_manager()
    if not (UNITS / NAME).exists():
        raise Refused(f"{UNITS / NAME} is not there: nothing to remove")
    says = f"end the service and remove {UNITS / NAME}; the site in {SYSTEM_FOLDER} stays"
    return [InstallStep(says, lambda: _end(NAME)), *_radius_removal()]


_NEW_ACCOUNT = (
    "useradd", "--system", "--user-group", "--home-dir", str(SYSTEM_FOLDER), "--no-create-home",
    "--shell", "/usr/sbin/nologin", ACCOUNT,
)  # fmt: skip


def _require_manager() -> None:
    require_unlocked()
    if not Path("/run/systemd/system").is_dir():
        raise Refused("no systemd runs here: scopion service by-hand shows how to set the service up without it")
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
    SYSTEM_FOLDER.mkdir(parents=True, exist_ok=True)
    SYSTEM_FOLDER.chmod(0o2770)
    prepare_folder(SYSTEM_FOLDER)
    _hand_over()


def _is_to_be_copied(own: Path) -> bool:
    """Tell whether there is a user's site, on a real network, and the system has none yet."""
    made_up = (own / STORY_FILE).exists()
    return (own / ROSTER_FILE).exists() and not made_up and not (SYSTEM_FOLDER / ROSTER_FILE).exists()


def _copy_site(own: Path) -> None:
    with TemporaryDirectory() as holder, closing(Site(own)) as site:
        archive = f"{holder}/site.zip"
        export_site(site, archive)
        with site_import(SYSTEM_FOLDER, archive) as arrival:
            arrival.settle(SYSTEM_FOLDER, agreed=True)  # it was in use here
    _hand_over()


def _hand_over() -> None:
    """Give everything in the system's site to the service's account."""
    import pwd

    account = pwd.getpwnam(ACCOUNT)
    found = [
        each
        for base, folders, files in os.walk(SYSTEM_FOLDER)
        for each in (base, *(f"{base}/{name}" for name in [*folders, *files]))
    ]
    for path in found:
        os.chown(path, account.pw_uid, account.pw_gid, follow_symlinks=False)
    SYSTEM_FOLDER.chmod(0o2770)  # a change of owner removes the group's bit


def _start(*names: str) -> None:
    _run("systemctl", "daemon-reload")
    _run("systemctl", "enable", *names)
    _run("systemctl", "stop", *names)  # a socket does not start while its service runs
    _run("systemctl", "start", *names)  # a running service would go on with the old rights


def _end(*names: str) -> None:
    _run("systemctl", "disable", "--now", *names)
    for name in names:
        (UNITS / name).unlink()
    _run("systemctl", "daemon-reload")


def _run(*command: str) -> None:
    try:
        ended = subprocess.run(
            command, capture_output=True, encoding="utf-8", errors="replace", check=False, timeout=_WITHIN_S
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise ScopionError(f"{' '.join(command)}: {error}") from None
    if ended.returncode:
        said = " ".join(ended.stderr.split())
        raise ScopionError(f"{' '.join(command)} ended with {ended.returncode}: {said}")
