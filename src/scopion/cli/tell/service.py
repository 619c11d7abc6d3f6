"""``scopion service``: the unit for the system's service manager, printed, installed, removed; and the way by hand."""

from __future__ import annotations

from collections.abc import Sequence

import click

from scopion.cli.parts.families import Family
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import echo, style
from scopion.operations.folder.find_folder import SYSTEM_FOLDER
from scopion.operations.sensors.load_sensor import load_sensor
from scopion.watching.service import service_unit as units
from scopion.watching.service.check_access import cannot_run, installation, program_path, unreachable
from scopion.watching.service.install_sensor import (
    hands_of,
    is_sensor,
    sensor_install_steps,
    sensor_remove_steps,
)
from scopion.watching.service.install_service import install_steps, remove_steps, secrets_left_behind
from scopion.watching.service.radius_unit import radius_units
from scopion.watching.service.sensor_unit import SENSOR_FOLDER, sensor_unit_text
from scopion.watching.service.service_manager import InstallStep
from scopion.watching.service.service_unit import unit_text, warnings

_yes = click.option("--yes", is_flag=True, help="Do not ask.")


@click.group(cls=Family, invoke_without_command=True)
@click.pass_context
def service(ctx: click.Context) -> None:
    """A hardened unit for the system's service manager.

    Without a command it is scopion service unit.
    """
    if ctx.invoked_subcommand is None:
        ctx.invoke(unit)


@service.command()
@pass_session
def unit(session: Session) -> None:
    """Print the unit that the site's settings need; nothing is changed.

    site.toml decides its rights: raw frames only if the method needs them, credentials by their names, folders that
    channels write to. With lists by RADIUS there are two more units, for the server that access points ask.
    In the folder of a sensor, the unit is the sensor's: sensor.toml decides.
    """
    if is_sensor(session.folder):
        _print_sensor(session)
        return
    settings = session.site.settings
    folder = session.folder if session.named else SYSTEM_FOLDER
    found = installation(settings, folder)
    echo(unit_text(settings, found, folder), nl=False)
    for name, text in radius_units(settings, found, folder).items():
        echo(f"\n# --- {name}\n{text}", nl=False)
    _warn(session, cannot_run(found), *unreachable(settings, folder), *warnings(settings))


@service.command()
@_yes
@pass_session
def install(session: Session, yes: bool) -> None:
    """Set the service up: account, folder, unit; shows each step and asks.

    If the system has no site yet, the present one (or the one named with --site) becomes it. With the folder of a
    sensor, that sensor becomes a service.
    """
    if is_sensor(session.folder):
        _carry_out(session, sensor_install_steps(session.folder), yes)
        _warn(session, *unreachable(hands_of(session.folder)))
        session.note("The sensor runs: journalctl -u scopion-sensor says how it does.")
        session.note("At the machine that keeps the roster, scopion sensors shows it within a minute.")
        return
    left_behind = secrets_left_behind(session.folder)
    _carry_out(session, install_steps(session.folder), yes)
    for each in left_behind:
        session.note(f"{style('Caution:', fg='yellow')} {each}.")
    session.note(
        "The service runs: scopion status and journalctl -u scopion say how it does. Its site is /var/lib/scopion."
    )
    session.note("An account that reads and changes it must join the group: usermod -aG scopion YOUR-ACCOUNT")


@service.command()
@_yes
@pass_session
def remove(session: Session, yes: bool) -> None:
    """Stop the service and remove its unit; the site, or a sensor's folder, stays."""
    _carry_out(session, sensor_remove_steps() if is_sensor(session.folder) else remove_steps(), yes)


@service.command("by-hand")
@pass_session
def by_hand(session: Session) -> None:
    """Show how to set it up with another service manager, or with none."""
    echo(units.by_hand(session.site.settings, program_path()), nl=False)


def _print_sensor(session: Session) -> None:
    """Print the unit of a sensor."""
    hands = hands_of(session.folder)
    found = installation(hands, session.folder)
    folder = session.folder if session.named else SENSOR_FOLDER
    echo(sensor_unit_text(load_sensor(session.folder), found, folder, hands), nl=False)
    _warn(session, cannot_run(found), *unreachable(hands))


def _warn(session: Session, *warnings: str) -> None:
    for each in filter(None, warnings):
        session.note(f"{style('Note:', fg='yellow')} {each}.")


def _carry_out(session: Session, steps: Sequence[InstallStep], yes: bool) -> None:
    for step in steps:
        session.note(f"  {step.says}")
    if not yes:
        session.require_yes("Do that?")
    for step in steps:
        step.do()
