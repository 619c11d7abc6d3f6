"""Sets a sensor up as a service on its machine, and removes it; as steps that can be shown first."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from scopion.model.errors import Refused
from scopion.model.text import counted
from scopion.operations.sensors.load_orders import KEY_FILE, load_orders
from scopion.operations.sensors.load_sensor import FILE, load_sensor
from scopion.operations.sensors.sensor_site import ORDERS_FILE
from scopion.operations.site.broker_settings import SensorFile, broker_access
from scopion.operations.site.site_settings import Settings
from scopion.roster.spool.spool import FILE as SPOOL_FILE
from scopion.roster.spool.spool import Spool
from scopion.watching.service.check_access import cannot_run, installation
from scopion.watching.service.sensor_unit import SENSOR_FOLDER, SENSOR_UNIT, sensor_unit_text
from scopion.watching.service.service_manager import (
    UNITS,
    InstallStep,
    account_steps,
    end,
    hand_over,
    require_manager,
    unit_steps,
)
from scopion.watching.service.service_unit import references


def hands_of(folder: Path) -> Settings:
    """Return settings with the enforcers on which the sensor in a folder carries out orders. Raises InvalidSettings."""
    permitted = load_orders(folder)
    return Settings(enforcer=permitted.enforcers if permitted is not None else ())


def is_sensor(folder: Path) -> bool:
    """Tell whether a folder is a sensor's, and not a site's."""
    return (folder / FILE).exists()


def sensor_install_steps(own: Path) -> list[InstallStep]:
    """Return the steps of installing the sensor whose settings are in a folder.

    Raises NotPermitted, Refused, InvalidSettings, LiveNetworkLocked.
    """
    require_manager()
    file = load_sensor(own)
    broker_access(file.broker, own, file.name)  # all that it names has to be there
    if any(kind == "env" for kind, _ in references([file.broker.password])):
        raise Refused(f"{own / FILE}: a service has no variable of yours: write password as file: or credential:")
    hands = hands_of(own)
    found = installation(hands, own)
    if problem := cannot_run(found):
        raise Refused(problem)
    steps = [*account_steps()]
    if own.resolve() != SENSOR_FOLDER:
        names = [FILE, *_named(file), *_named_by_orders(own, hands)]
        says = f"copy {', '.join(names)} from {own} to {SENSOR_FOLDER}, for the account of the service only"
        if waiting := _waiting(own):
            says += f"; {waiting} that it has not told yet stay there: run the sensor there until none waits"
        steps.append(InstallStep(says, lambda: _copy(own, names)))
    return [*steps, *unit_steps(SENSOR_UNIT, sensor_unit_text(file, found, hands=hands))]


def sensor_remove_steps() -> list[InstallStep]:
    """Return the steps of removing; its folder stays. Raises NotPermitted, Refused, LiveNetworkLocked."""
    require_manager()
    path = UNITS / SENSOR_UNIT
    if not path.exists():
        raise Refused(f"{path} is not there: nothing to remove")
    says = f"end the sensor and remove {path}; what it keeps in {SENSOR_FOLDER} stays"
    return [InstallStep(says, lambda: end(SENSOR_UNIT))]


def _waiting(own: Path) -> str:
    """Return in words what a sensor that ran in a folder has still to tell."""
    if not (own / SPOOL_FILE).exists():
        return ""
    with closing(Spool.open(own, "", "")) as spool:
        return counted(spool.closed, "batch", "batches") if spool.closed else ""


def _named(file: SensorFile) -> Iterator[str]:
    """Yield the files beside ``sensor.toml`` that it names."""
    secrets = [name for kind, name in references([file.broker.password]) if kind == "file"]
    for name in (file.broker.trust, file.broker.certificate, file.broker.key, *secrets):
        if name and not Path(name).is_absolute():
            yield name


def _named_by_orders(own: Path, hands: Settings) -> Iterator[str]:
    """Yield the files by which orders are permitted, and those that they name beside them."""
    if not hands.enforcer:
        return
    yield from (ORDERS_FILE, KEY_FILE)
    for each in hands.enforcer:
        named = [each.ssh.key, each.ssh.known_hosts] if each.ssh is not None else []
        secrets = references([each.ssh.password]) if each.ssh is not None else ()
        for name in (*named, *(name for kind, name in secrets if kind == "file")):
            if name and not Path(name).expanduser().is_absolute() and (own / name).exists():
                yield name


def _copy(own: Path, names: list[str]) -> None:
    """Copy the settings and what they name. What waits to be folded stays where it is: another life begins."""
    SENSOR_FOLDER.mkdir(mode=0o700, parents=True, exist_ok=True)
    SENSOR_FOLDER.chmod(0o700)
    for name in names:
        target = SENSOR_FOLDER / name
        target.parent.mkdir(parents=True, exist_ok=True)
        target.unlink(missing_ok=True)
        target.touch(mode=0o600)
        shutil.copyfile(own / name, target)
    hand_over(SENSOR_FOLDER)
