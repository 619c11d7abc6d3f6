"""Words the sheet of a sensor that was enrolled: what to put where, at the broker, at the sensor and here."""

from __future__ import annotations

from datetime import datetime

from scopion.operations.sensors.enrol_sensor import MOSQUITTO_FOLDER, Enrolled
from scopion.wireless.router_sheet import Sheet, SheetLine, SheetStep


def sensor_sheet(made: Enrolled, now: datetime) -> Sheet:
    """Return the sheet; ``now`` as the wall shows it."""
    sensor, broker = made.sensor, made.broker
    return Sheet(
        title=f"The sensor {sensor.name!r} for {sensor.place!r}: what to put where",
        about=f"through the broker at {broker.host}, port {broker.port}; made {now:%A %Y-%m-%d, %H:%M}",
        says="The files are made. Carry them over by a way that others cannot read: there are passwords among them.",
        steps=(_at_broker(made), *_at_sensor(made), _here()),
        hours=(),
        hours_say="",
        tail=(
            f"At the broker the sensor can write below {made.begins}/sensor/{sensor.name}, and nowhere else. What it "
            f"says about another place than {sensor.place!r} is refused.",
            "Enrolled by mistake, or stolen: take its [[sensor]] out of site.toml, and its account out of the files "
            f"of the broker; then scopion sensor forget {sensor.name}.",
        ),
    )


def _at_broker(made: Enrolled) -> SheetStep:
    commands = [f"install -o mosquitto -m 600 passwords access {MOSQUITTO_FOLDER}/"]
    if made.first:
        commands.append(f"install -m 644 scopion.conf {MOSQUITTO_FOLDER}/conf.d/")
    commands.append(f"systemctl {'restart' if made.first else 'reload'} mosquitto")
    return SheetStep(
        f"At the broker, as root, with the files of {made.to_broker}:",
        tuple(SheetLine(each, "") for each in commands),
        "scopion.conf says where its certificate and key have to be: put them there first." if made.first else "",
    )


def _at_sensor(made: Enrolled) -> tuple[SheetStep, ...]:
    return (
        SheetStep(
            f"On the sensor's machine, with Scopion installed: put the files of {made.to_sensor} into a folder of "
            "their own, broker-password readable by you only. To see it work:",
            (SheetLine("scopion --site THAT-FOLDER sensor run", ""),),
        ),
        SheetStep(
            "Then make it a service, which starts with the machine. As root, with the same folder:",
            (SheetLine("scopion --site THAT-FOLDER service install", ""),),
            "Without systemd: let what starts your programs start scopion sensor run, and again when it ends.",
        ),
    )


def _here() -> SheetStep:
    return SheetStep(
        "Here: restart the watch. After a minute, this shows the sensor as here:", (SheetLine("scopion sensors", ""),)
    )
