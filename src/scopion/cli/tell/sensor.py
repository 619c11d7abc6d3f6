"""``scopion sensor`` and ``scopion sensors``: other machines' ears and sweeps, which report into the roster."""

from __future__ import annotations

from ipaddress import IPv4Network
from pathlib import Path
from typing import Any

import click

from scopion.cli.parts.families import Family
from scopion.cli.parts.logged import Logged
from scopion.cli.parts.options import SpanParam
from scopion.cli.parts.output import on_clock, output_format, row_of, show, spoken_ago
from scopion.cli.parts.session import Session, pass_session, shell_word
from scopion.cli.parts.sheets import html_option, write_sheets
from scopion.cli.parts.table import Column
from scopion.cli.parts.terminal import style
from scopion.model.batch import RIGHT_WITHIN
from scopion.model.clock import spoken_span
from scopion.model.errors import UsageError
from scopion.model.text import counted, joined

KEYS = (
    "place", "name", "state", "program", "heard", "lag_s", "waiting", "oldest", "offset_s", "address", "lost", "kept",
    "troubles",
)  # fmt: skip
_STATES = {"here": "green", "silent": "bold red", "never-heard": "yellow", "not-enrolled": "dim"}
_WORDS = {"never-heard": "never heard", "not-enrolled": "not enrolled"}


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

    from scopion.operations.folder.read_apart import read_apart
    from scopion.operations.sensors.load_orders import load_orders
    from scopion.operations.sensors.load_sensor import load_sensor
    from scopion.watching.sensors.run_sensor import SensorFolder, run_sensor

    folder = session.site.folder
    file, permitted = read_apart(lambda: (load_sensor(folder), load_orders(folder)))
    with Logged(session):
        run_sensor(SensorFolder(folder, file, file.broker.topics, permitted), for_s=span, terminal=sys.stderr.isatty())


@sensor.command()
@click.argument("name", metavar="NAME")
@click.option("--place", required=True, metavar="PLACE", help="The place that it looks after.")
@click.option("--subnet", "subnets", metavar="RANGE", multiple=True, help="A subnet of that place. May be repeated.")
@click.option("--broker", metavar="HOST[:PORT]", help="The MQTT broker, with the first sensor.")
@click.option(
    "--trust",
    metavar="FILE",
    type=click.Path(dir_okay=False, path_type=Path),
    help="The broker's certificate, or its authority's [the system's].",
)
@click.option("--here", metavar="PLACE", default="", help="The name of this machine's place [main].")
@html_option
@pass_session
def enrol(
    session: Session,
    name: str,
    place: str,
    subnets: tuple[str, ...],
    broker: str | None,
    trust: Path | None,
    here: str,
    file: Path | None,
) -> None:
    """Enrol a sensor: its settings, its account, what goes where.

    NAME is a word of small letters, digits and hyphens. What goes to its machine is put into one folder, and what goes
    to the broker into another.
    """
    from scopion.operations.sensors.enrol_sensor import NewBroker, enrol_sensor
    from scopion.operations.sensors.word_sensor_sheet import sensor_sheet

    new = None
    if broker is not None:
        host, _, port = broker.rpartition(":") if broker.count(":") == 1 else (broker, "", "")
        if port and not (port.isdecimal() and 0 < int(port) < 65_536):
            raise UsageError(f"{broker!r} is not a broker: write it as broker.example or broker.example:8883")
        new = NewBroker(host or broker, int(port or 8883), trust)
    elif trust is not None:
        raise UsageError("--trust goes with --broker")
    made = enrol_sensor(session.site, name, place, subnets=_ranges(subnets), broker=new, here=here)
    if made.named_home:
        session.note(f"This machine's place is called {made.named_home!r} from now on: place in site.toml.")
    write_sheets(session, name, [sensor_sheet(made, session.site.clock.local(session.site.clock.now()))], file)


@sensor.command()
@click.argument("name", metavar="NAME")
@click.option("--new-key", is_flag=True, help="Make another key: the old one may be known to others.")
@html_option
@pass_session
def orders(session: Session, name: str, new_key: bool, file: Path | None) -> None:
    """Let a sensor carry out lists on access points there.

    For those that say via = NAME in site.toml. What goes to its machine is put into one folder.
    """
    from scopion.operations.sensors.prepare_orders import prepare_orders
    from scopion.operations.sensors.word_orders_sheet import orders_sheet

    made = prepare_orders(session.site, name, new_key=new_key)
    write_sheets(session, name, [orders_sheet(made, session.site.clock.local(session.site.clock.now()))], file)


@sensor.command()
@click.argument("name", metavar="NAME")
@pass_session
def forget(session: Session, name: str) -> None:
    """Forget a sensor that is not enrolled any more.

    Its place, and the devices that it has told, stay.
    """
    from scopion.operations.sensors.forget_sensor import forget_sensor

    forget_sensor(session.site, name)
    session.note(f"{name} is forgotten; what it told stays.")


def _ranges(texts: tuple[str, ...]) -> list[IPv4Network]:
    found = []
    for text in texts:
        try:
            found.append(IPv4Network(text.strip()))
        except ValueError:
            raise UsageError(f"{text!r} is not a subnet: write it as 192.0.2.0/24") from None
    return found


@click.command()
@output_format
@pass_session
def sensors(session: Session, format_name: str | None) -> None:
    """Sensors of other places: when each was heard.

    How far each is behind, what waits there, and whether its clock is right.
    """
    from scopion.operations.sensors.list_sensors import list_sensors

    found = list_sensors(session.site)
    now = session.site.clock.now()
    rows = [
        {
            **row_of(each, KEYS, lag_s=_seconds(each.lag), offset_s=_seconds(each.offset)),
            "ago": spoken_ago(each.heard, now) if each.heard is not None else "never",
        }
        for each in found
    ]
    columns = [
        Column("place", lambda row: row["place"], lambda _: "bold"),
        Column("sensor", lambda row: row["name"]),
        Column("state", lambda row: _WORDS.get(row["state"], row["state"]), lambda row: _STATES[row["state"]]),
        Column("heard", lambda row: row["ago"]),
        Column("behind", _behind, right=True),
        Column(
            "waiting",
            lambda row: str(row["waiting"]),
            lambda row: "yellow" if row["waiting"] > 4 else "dim",
            right=True,
        ),
        Column("clock", _clock, lambda row: "dim" if _is_right(row["offset_s"] or 0) else "red", right=True),
        Column("address", lambda row: row["address"] or "", lambda _: "dim", optional=1),
        Column("version", lambda row: row["program"] or "", lambda _: "dim", optional=2),
    ]
    show(rows, KEYS, columns, format_name)
    _close(session, found)


def _seconds(span: Any) -> float | None:
    return round(span.total_seconds(), 3) if span is not None else None


def _behind(row: Any) -> str:
    from datetime import timedelta

    return spoken_span(timedelta(seconds=row["lag_s"])) if row["lag_s"] is not None else ""


def _is_right(offset_s: float) -> bool:
    return abs(offset_s) <= RIGHT_WITHIN.total_seconds()


def _clock(row: Any) -> str:
    from datetime import timedelta

    offset = row["offset_s"]
    if offset is None:
        return ""
    if _is_right(offset):
        return "right"
    return f"{spoken_span(timedelta(seconds=abs(offset)))} {'ahead' if offset > 0 else 'slow'}"


def _close(session: Session, found: Any) -> None:
    if not found:
        session.note("There is no sensor: scopion sensor enrol NAME --place PLACE adds one.")
        return
    session.note("")
    for each in found:
        if each.lost is not None:
            since = on_clock(session.site.clock, each.lost.isoformat())
            session.note(
                f"{style(each.name, fg='red')} is silent since {since}: nothing in {each.place} counts as gone."
            )
        if each.kept:
            session.note(
                f"{each.name} speaks a later version: {counted(each.kept, 'document')} kept until this one does."
            )
        for trouble in each.troubles:
            session.note(f"{each.name}: {trouble}")
    well = sum(each.is_well for each in found)
    names = joined([shell_word(each.name) for each in found if not each.is_well])
    session.note(f"{counted(len(found), 'sensor')}, {well} as it should be{f'; look at {names}' if names else ''}.")
