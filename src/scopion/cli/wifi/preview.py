"""``scopion wifi preview``: what a push would change, as rows and as sentences."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.flags import gathered
from scopion.cli.parts.output import output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session, shell_word
from scopion.cli.parts.table import Column
from scopion.cli.parts.terminal import style
from scopion.model.band import at_band, spoken_band
from scopion.model.mac import MacAddress
from scopion.model.text import counted, joined

if TYPE_CHECKING:
    from scopion.operations.wifi.preview_push import Preview
    from scopion.operations.wifi.read_radios import RadioChoice
    from scopion.wireless.plan_radio import RadioPlan

_COLOURS = {"add": "green", "remove": "yellow", "foreign": "magenta", "drop": "yellow", "disconnect": "red"}
PREVIEW_KEYS = ("enforcer", "radio", "change", "list", "mac", "name", "associated")
PREVIEW_COLUMNS = (
    Column("enforcer", lambda row: row["enforcer"], optional=2),
    Column("radio", lambda row: spoken_band(row["radio"])),
    Column("change", lambda row: row["change"], lambda row: _COLOURS.get(row["change"], "")),
    Column("list", lambda row: row["list"]),
    Column("MAC", lambda row: row["mac"]),
    Column("name", lambda row: row["name"] or "–", shrinks=True),
    Column("now", lambda row: row["associated"] or ""),
)
radio_option = click.option("--radio", "radios", metavar="GHZ", multiple=True, help="This radio only: 2.4, 5 or 6.")
enforcer_option = click.option("--enforcer", metavar="NAME", help="This enforcer only.")
drop_foreign = click.option("--drop-foreign", is_flag=True, help="Remove entries that others have put there.")


@dataclass(frozen=True, slots=True)
class RadioOptions:
    """The radios that a command is about, and whether it removes foreign entries there."""

    enforcer: str | None
    radios: tuple[str, ...]
    drop_foreign: bool

    def choice(self) -> RadioChoice:
        """Return them as the operations take them."""
        from scopion.operations.wifi.read_radios import RadioChoice

        return RadioChoice(self.enforcer, self.radios)


@click.command()
@options.ssid
@enforcer_option
@radio_option
@drop_foreign
@output_format
@pass_session
@gathered("where", RadioOptions)
def preview(session: Session, ssid: str, where: RadioOptions, format_name: str | None) -> None:
    """Show what a push would change, radio by radio."""
    from scopion.operations.wifi.preview_push import preview as look

    found = look(session.site, ssid, where.choice(), drop_foreign=where.drop_foreign)
    show_preview(session, found, format_name)
    caution_way_in(session)
    if all(plan.is_in_force and not plan.leaving for plan in found.plans) and not found.hours:
        session.note("Every radio holds what it should, as far as that can be read.")
    else:
        session.note(f"To put it in force: scopion wifi push {shell_word(ssid)}")


def caution_way_in(session: Session) -> None:
    """Print that a push may cut its own connection, where that cannot be ruled out."""
    from scopion.operations.wifi.network_context import unknown_way_in

    if said := unknown_way_in():
        session.note(f"{style('Caution:', fg='yellow')} {said}.")


def show_preview(session: Session, found: Preview, format_name: str | None) -> None:
    """Show the rows, then a sentence for each radio."""
    rows = _rows(found)
    show(rows, PREVIEW_KEYS, PREVIEW_COLUMNS, format_name, document=_document(found, rows))
    session.note("")
    for sentence in _sentences(session, found):
        session.note(sentence)


def _rows(found: Preview) -> list[dict[str, Any]]:
    """Return a row for each entry that changes, is foreign, or goes."""
    names = _names(found)
    rows = []
    for plan in found.plans:
        here = {each.mac for each in plan.stations}

        def row(change: str, which: str, mac: MacAddress, plan: RadioPlan = plan, here: Any = here) -> dict[str, Any]:
            return {
                "enforcer": plan.enforcer,
                "radio": plan.radio,
                "change": change,
                "list": which,
                "mac": str(mac),
                "name": names.get(mac) or None,
                "associated": "associated" if mac in here else None,
            }

        for which in ("allow", "deny"):
            held, target = getattr(plan.held, which), getattr(plan.target, which)
            foreign, dropped = getattr(plan.foreign, which), getattr(plan.dropped, which)
            idle = getattr(plan.idle, which)
            added, removed, kept = target - held, held - target - dropped - idle, (held & target) - foreign
            changes = (("add", added), ("remove", removed), ("drop", dropped), ("foreign", foreign), ("idle", idle))
            rows += [row(change, which, mac) for change, macs in (*changes, ("keep", kept)) for mac in sorted(macs)]
        rows += [row("disconnect", "", each.mac) for each in plan.leaving]
    return rows


def _sentences(session: Session, found: Preview) -> list[str]:
    """Return a sentence for each radio, and what else a person should know."""
    said = []
    names = {mac: each.called for each in found.context.devices for mac in each.macs}
    for plan in found.plans:
        used = f"{counted(plan.target.entries, 'entry', 'entries')} used"
        if plan.capacity is not None:
            used = f"{plan.target.entries} of {plan.capacity} entries used"
        changes = [
            f"{len(plan.added)} added" if plan.added else "",
            f"{len(plan.removed)} removed" if plan.removed else "",
            f"{len(plan.kept)} kept" if plan.kept else "",
        ]
        changed = joined(list(filter(None, changes))) or "no entry changes"
        mode = f"mode {plan.target.mode}"
        if not plan.traits.reads_mode:
            mode += " (what it is now cannot be read)"
        elif plan.held.mode is not plan.target.mode:
            mode += f" (now {plan.held.mode})"
        leaving = [names.get(each.mac) or str(each.mac) for each in plan.leaving]
        gone = f" {joined(leaving)} will be disconnected right away." if leaving else ""
        said.append(f"{at_band(plan.enforcer, plan.radio)}: {mode}; {changed}, {used}.{gone}")
        if plan.held.remark:
            said.append(f"{at_band(plan.enforcer, plan.radio)}, as it is now: {plan.held.remark}.")
            if plan.traits.keeps_hours:  # it is the first push
                said.append(f"From then on, {plan.traits.survives}.")
        said += [
            f"Caution: {names.get(mac) or mac} is refused by your list, but a foreign allow entry on "
            f"{spoken_band(plan.radio)} voids that: --drop-foreign removes it, scopion wifi import takes it over."
            for mac in plan.voided
        ]
        if plan.foreign.entries:
            count = counted(plan.foreign.entries, "entry", "entries")
            said.append(f"{count} on {spoken_band(plan.radio)} not yours: kept; scopion wifi import takes them over.")
        if plan.idle.entries:
            count = counted(plan.idle.entries, "entry", "entries")
            them = "it stays" if plan.idle.entries == 1 else "they stay"
            said.append(
                f"{count} on {spoken_band(plan.radio)} not yours: {them} in the configuration, without effect in mode "
                f"{plan.target.mode}."
            )
    said += [f"{name}: other hours are to be typed into its timetable." for name in found.hours]
    if found.interrupted is not None:
        said.append(f"Push {found.interrupted.id} was ended half-way, or is still running: another push continues it.")
    if found.waiting is not None and found.taken_back is not None:
        until = session.site.clock.local(found.taken_back)
        said.append(f"Push {found.waiting.id} is taken back at {until:%H:%M:%S} unless you run scopion wifi keep")
    return said


def _names(found: Preview) -> dict[MacAddress, str]:
    """Return the name of each address: its device's, else the list's description."""
    names = {rule.line.mac: rule.line.name for rule in found.context.policy.rules}
    for device in found.context.devices:
        for mac in device.macs:
            if device.called != str(mac):
                names[mac] = device.called
    return names


def _document(found: Preview, rows: Sequence[dict[str, Any]]) -> dict[str, Any]:
    return {
        "ssid": found.context.network.ssid,
        "mode": str(found.context.wanted.mode),
        "radios": [
            {
                "enforcer": plan.enforcer,
                "radio": plan.radio,
                **row_of(plan.traits, ("effect", "reads_mode", "reads_stations", "notation")),
                "in_force": plan.is_in_force,
                "remark": plan.held.remark,
                "entries": plan.target.entries,
                "capacity": plan.capacity,
                "voided": [str(mac) for mac in plan.voided],
                "steps": [str(step) for step in plan.steps],
            }
            for plan in found.plans
        ],
        "changes": list(rows),
    }
