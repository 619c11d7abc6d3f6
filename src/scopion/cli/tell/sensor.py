"""``scopion sensor``: another machine's ears and sweeps, which report into the roster."""

from __future__ import annotations

import click

from scopion.cli.parts.families import Family
from scopion.cli.parts.logged import Logged
from scopion.cli.parts.options import SpanParam
from scopion.cli.parts.session import Session, pass_session


@click.group(cls=Family, no_args_is_help=True)
def sensor() -> None:
    """Look after another place, and report it over MQTT.

    A sensor has no roster and sends no alerts: all that it sees goes to the machine that keeps the roster.
    """


@sensor.command()
@click.option("--for", "span", type=SpanParam(), metavar="TIME", help="End after this time: 8h, 30m.")
@pass_session
def run(session: Session, span: float | None) -> None:
    """Run the sensor whose sensor.toml is in the folder of --site."""
    import sys

    from scopion.operations.sensors.load_sensor import load_sensor
    from scopion.watching.sensors.run_sensor import SensorFolder, run_sensor

    folder = session.site.folder
    file = load_sensor(folder)
    with Logged(session):
        run_sensor(SensorFolder(folder, file, file.broker.topics), for_s=span, terminal=sys.stderr.isatty())
