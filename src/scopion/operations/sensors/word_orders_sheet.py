"""Words the sheet of a sensor that is to carry out orders: what to put where."""

from __future__ import annotations

import shlex
from datetime import datetime

from scopion.model.text import joined
from scopion.operations.sensors.load_orders import KEY_FILE
from scopion.operations.sensors.prepare_orders import Prepared
from scopion.operations.sensors.sensor_site import ORDERS_FILE
from scopion.wireless.router_sheet import Sheet, SheetLine, SheetStep


def orders_sheet(made: Prepared, now: datetime) -> Sheet:
    """Return the sheet; ``now`` as the wall shows it."""
    return Sheet(
        title=f"Orders to the sensor {made.sensor!r} in {made.place!r}: what to put where",
        about=f"for {joined(list(made.enforcers))}; made {now:%A %Y-%m-%d, %H:%M}",
        says=f"The files are made. Carry them over by a way that others cannot read: {KEY_FILE} is a secret.",
        steps=(_at_sensor(made), _here(made)),
        hours=(),
        hours_say="",
        tail=(
            f"The sensor does what {ORDERS_FILE} names, and nothing else: remove that file there, and it takes no "
            "orders.",
            f"If others may know the key: scopion sensor orders {made.sensor} --new-key, and carry both over again.",
        ),
    )


def _at_sensor(made: Prepared) -> SheetStep:
    machines = joined(list(made.machines))
    keys = f"It logs in to {machines} by itself, so the key or password, and known_hosts, have to be there, too."
    return SheetStep(
        f"On the sensor's machine: put {ORDERS_FILE} and {KEY_FILE} of {made.to_sensor} beside its sensor.toml, "
        f"{KEY_FILE} readable by its account only. Then make its service again, or start it again:",
        (SheetLine("scopion --site THAT-FOLDER service install", ""),),
        keys if made.machines else "",
    )


def _here(made: Prepared) -> SheetStep:
    return SheetStep(
        "Here: restart the watch. This reads what the access points hold, through the sensor:",
        tuple(SheetLine(f"scopion wifi preview {shlex.quote(each)}", "") for each in made.networks),
    )
