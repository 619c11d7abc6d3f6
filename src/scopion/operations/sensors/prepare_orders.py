"""Prepares a sensor for orders: a key for both sides, and the enforcers on which it will carry them out.

What goes to the sensor's machine is written into the folder that is carried there, as when it was enrolled.
"""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from scopion.model.errors import NotFound, Refused
from scopion.model.text import joined
from scopion.operations.sensors.enrol_sensor import FOLDER
from scopion.operations.sensors.load_orders import KEY_FILE
from scopion.operations.sensors.sensor_site import ORDERS_FILE
from scopion.operations.site.edit_settings import table_text
from scopion.operations.site.load_settings import FILE as SETTINGS_FILE
from scopion.operations.site.load_settings import document_of, text_of
from scopion.operations.site.open_site import Site
from scopion.operations.site.reach_machine import order_key
from scopion.roster.store.write_files import make_folder, write_atomically


@dataclass(frozen=True, slots=True)
class Prepared:
    """What a sensor is to carry out orders on, and where its files are."""

    sensor: str
    place: str
    enforcers: tuple[str, ...]
    networks: tuple[str, ...]
    machines: tuple[str, ...]  # those that the sensor has to log in to
    to_sensor: Path  # the folder for the sensor's machine


def prepare_orders(site: Site, name: str, *, new_key: bool = False) -> Prepared:
    """Write the files. Raises NotFound, Refused, InvalidSettings, StorageFailed."""
    settings = site.settings
    sensor = next((each for each in settings.sensor if each.name == name), None)
    if sensor is None:
        known = joined([each.name for each in settings.sensor]) or "none"
        raise NotFound(f"there is no sensor {name!r} in site.toml; sensors there: {known}")
    by_it = [each for each in settings.enforcer if each.via == name]
    if not by_it:
        raise Refused(
            f"no [[enforcer]] of site.toml says via = {name!r}: write that first, for each access point that "
            f"{name} can reach and this machine cannot"
        )
    path = site.folder / SETTINGS_FILE
    tables: list[dict[str, Any]] = document_of(path, text_of(path) or "")["enforcer"]
    own = [{key: value for key, value in each.items() if key != "via"} for each in tables if each.get("via") == name]
    key_path = site.folder / order_key(name)
    if new_key or not key_path.exists():
        write_atomically(key_path, f"{secrets.token_hex(32)}\n".encode(), 0o600)
    to_sensor = site.folder.absolute() / FOLDER / name
    make_folder(to_sensor)
    text = "\n\n".join(table_text("enforcer", each) for each in own)
    about = (
        f"# What the sensor {name!r} may be ordered to do, made by scopion sensor orders: lists on these, no more.\n\n"
    )
    write_atomically(to_sensor / ORDERS_FILE, f"{about}{text}\n".encode())
    write_atomically(to_sensor / KEY_FILE, key_path.read_bytes(), 0o600)
    machines = tuple(dict.fromkeys(each.ssh.host for each in by_it if each.ssh is not None))
    networks = tuple(dict.fromkeys(each.network for each in by_it))
    return Prepared(name, sensor.place, tuple(each.name for each in by_it), networks, machines, to_sensor)
