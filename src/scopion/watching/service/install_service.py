"""Sets the service up on this machine, and removes it: account, folder, unit; as steps that can be shown first."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path
from tempfile import TemporaryDirectory

from scopion.model.errors import Refused
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
from scopion.watching.service.check_access import cannot_run, installation
from scopion.watching.service.radius_unit import SERVICE, SOCKET, radius_secret_references, radius_units
from scopion.watching.service.sensor_unit import SENSOR_FOLDER, SENSOR_UNIT
from scopion.watching.service.service_manager import (
    UNITS,
    InstallStep,
    account_steps,
    end,
    hand_over,
    require_manager,
    start,
    unit_steps,
)
from scopion.watching.service.service_unit import ACCOUNT, CREDENTIALS, NAME, Installation, secret_references, unit_text


def install_steps(own: Path) -> list[InstallStep]:
    """Return the steps of installing here. Raises NotPermitted, Refused, InvalidSettings, LiveNetworkLocked.

    ``own`` is the folder of the site that was in use until now: it becomes the system's, if that has none yet.
    """
    require_manager()
    copied = _is_to_be_copied(own)
    settings = load_settings(own if copied else SYSTEM_FOLDER)
    found = installation(settings)
    if problem := cannot_run(found):
        raise Refused(problem)
    unit = unit_text(settings, found)
    steps = [*account_steps()]
    steps.append(
        InstallStep(f"make the folder {SYSTEM_FOLDER} for the site, for the group {ACCOUNT} (mode 2770)", _make_folder)
    )
    if copied:
        steps.append(
            InstallStep(f"copy the site in {own} into it, without the files that hold secrets", lambda: _copy_site(own))
        )
    steps += [
        *unit_steps(NAME, unit),
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
        InstallStep("start the RADIUS server now, and early at every start", lambda: start(*units)),
    ]


def _radius_removal() -> list[InstallStep]:
    there = [name for name in (SERVICE, SOCKET) if (UNITS / name).exists()]
    if not there:
        return []
    return [InstallStep("end the RADIUS server, and remove its units", lambda: end(*there))]


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
    require_manager()
    if not (UNITS / NAME).exists():
        sensor = f"; for the sensor of this machine: --site {SENSOR_FOLDER}" if (UNITS / SENSOR_UNIT).exists() else ""
        raise Refused(f"{UNITS / NAME} is not there: nothing to remove{sensor}")
    says = f"end the service and remove {UNITS / NAME}; the site in {SYSTEM_FOLDER} stays"
    return [InstallStep(says, lambda: end(NAME)), *_radius_removal()]


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
    hand_over(SYSTEM_FOLDER)
    SYSTEM_FOLDER.chmod(0o2770)  # a change of owner removes the group's bit
