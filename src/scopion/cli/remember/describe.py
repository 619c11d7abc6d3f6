"""What people say of devices: ``scopion label``, ``mark``, ``same`` and ``forget``."""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING

import click

from scopion.cli.parts import options
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import confirm, echo, style
from scopion.model.device import Device, Standing
from scopion.model.text import counted

if TYPE_CHECKING:
    from scopion.operations.edit.edit_devices import Mark


@click.command()
@click.argument("device", metavar="[DEVICE]", type=options.DeviceParam(), required=False)
@click.argument("text", metavar="[LABEL]", required=False)
@click.option("--owner", metavar="TEXT", help="Who owns it.")
@click.option("--place", metavar="TEXT", help="Where it stands.")
@click.option("--note", metavar="TEXT", help="Anything else worth keeping.")
@click.option("--kind", metavar="TEXT", help="What it is, as printer or phone; '' goes by the guess again.")
@click.option("--socket", metavar="NAME", help="The socket at which it hangs by cable, as 'office 3, left'.")
@click.option("--port", metavar="SWITCH/PORT", help="Name the socket at this port, instead of a device's.")
@click.option("--essential/--not-essential", default=None, help="It must never be refused on the air, or may be.")
@pass_session
def label(
    session: Session,
    /,
    device: str | None,
    text: str | None,
    socket: str | None,
    port: str | None,
    essential: bool | None,
    **texts: str | None,
) -> None:
    """Give a device its name, owner, place and kind.

    An empty LABEL ('') removes the label; the same holds for owner, place, note and socket. What is not given stays.
    A socket belongs to the port of the switch: it keeps its name whatever hangs there.
    """
    from scopion.operations.edit.edit_devices import called_alike, label_device

    if (port is not None and device is not None) or (port is None and device is None):
        raise click.UsageError("say either which DEVICE, or with --port which port")
    if port is not None and socket is None:
        raise click.UsageError("--port needs --socket, the name of the socket at that port")
    is_about_device = any(each is not None for each in (text, essential, *texts.values()))
    if device is None and is_about_device:
        raise click.UsageError("--port names a socket, and nothing else")
    if socket is not None:
        _name_socket(session, device, port, socket)
        if not is_about_device:
            return
    assert device is not None
    other = called_alike(session.site, device, text) if text else None
    if other is not None:
        said = f"{other.called} ({identity(other)}) calls itself {text!r}, too"
        if session.can_ask:
            confirm(f"{said}. Give this label all the same?", abort=True)
        else:
            session.note(f"{style('Caution:', fg='yellow')} {said}.")
    before, after = label_device(session.site, device, text, essential=essential, **texts)
    was = f" (was {before.label!r})" if before.label and before.label != after.label else ""
    named = f"is now {after.label!r}" if after.label else "has no label now"
    others = (("owner", after.owner), ("place", after.place), ("note", after.note))
    more = "".join(f", {title} {value!r}" for title, value in others if value)
    more += ", essential" if after.essential else ""
    more += f", kind {texts['kind']!r}" if texts.get("kind") else ", kind by guess" if texts.get("kind") == "" else ""
    session.note(f"{identity(after)} {named}{was}{more}.")


def _name_socket(session: Session, device: str | None, port: str | None, name: str) -> None:
    from scopion.operations.edit.name_sockets import name_socket_at, name_socket_of

    named = name_socket_of(session.site, device, name) if device else name_socket_at(session.site, port or "", name)
    was = f" (was {named.before!r})" if named.before and named.before != named.name else ""
    session.note(f"The socket at {named.port} {f'is {named.name!r} now' if named.name else 'has no name now'}{was}.")


@click.command()
@click.argument("devices", metavar="DEVICE... STANDING", type=options.DeviceOrStandingParam(), nargs=-1, required=True)
@click.option("--all-present", is_flag=True, help="All devices that are here and still new.")
@click.option(
    "--until", metavar="DATE", type=options.DayParam(), help="For a guest: the last day, as 2026-12-31 or friday."
)
@click.option("--because", metavar="TEXT", default="", help="Why; it is kept with the date.")
@click.option("--kind", metavar="TEXT", help="What they are, as printer or phone; '' goes by the guess again.")
@pass_session
def mark(
    session: Session, devices: tuple[str, ...], all_present: bool, until: date | None, because: str, kind: str | None
) -> None:
    """Set a device's standing: known, guest, unwanted, new.

    STANDING is one of these. Several devices at once: all are marked or, if one is not understood, none.
    """
    from scopion.operations.edit.edit_devices import Mark, mark_devices, mark_present

    *which, word = devices
    if word not in list(Standing):
        raise click.UsageError(f"a standing comes last: {', '.join(Standing)}, not {word!r}")
    if bool(which) == all_present:
        raise click.UsageError("say which devices, or --all-present" if not which else "--all-present names them all")
    wanted = Mark(Standing(word), until, because, kind)
    marked = mark_present(session.site, wanted) if all_present else mark_devices(session.site, which, wanted)
    _tell_marked(session, marked, wanted)


def _tell_marked(session: Session, marked: list[tuple[Device, Device]], wanted: Mark) -> None:
    for before, after in marked:
        end = f" until {after.guest_until.isoformat()}" if after.guest_until else ""
        was = f" (was {before.standing})" if before.standing is not after.standing else ""
        name = f"{after.label} ({identity(after)})" if after.label else identity(after)
        session.note(f"{name} is {after.standing}{end}{was}.")
    if len(marked) != 1:
        session.note(f"{counted(len(marked), 'device')} marked {wanted.standing}.")
    if wanted.standing is Standing.UNWANTED:
        for _, after in marked:
            if after.gateway or after.own:
                role = "the gateway: everything beyond it goes through it" if after.gateway else "this machine"
                session.note(f"{style('Caution:', fg='yellow')} {after.called} is {role}. scopion undo takes it back.")
    if marked and wanted.standing is Standing.UNWANTED:
        mac = marked[0][1].macs[0] if marked[0][1].macs else "DEVICE"
        session.note(f"To keep it off the Wi-Fi: scopion block {mac}")


@click.command()
@click.argument("devices", metavar="DEVICE DEVICE...", type=options.DeviceParam(), nargs=-1, required=True)
@click.option("--undo", "split", is_flag=True, help="Take back the latest joining of DEVICE, without loss.")
@pass_session
def same(session: Session, devices: tuple[str, ...], split: bool) -> None:
    """Join devices that are one thing with two adapters.

    The first device keeps its texts, and the others fill its blanks. Their adapters, stays, events and entries become
    its own. --undo splits them again; texts that were changed since stay with the first.
    """
    from scopion.operations.edit.edit_devices import same_devices, split_device

    if split:
        if len(devices) != 1:
            raise click.UsageError("--undo takes one DEVICE")
        joining, after = split_device(session.site, devices[0])
        session.note(f"Taken back: {joining.says}.")
        for device in after:
            session.note(f"  {device.called} ({identity(device)})")
        return
    if len(devices) < 2:
        raise click.UsageError("two devices are needed: those that are one")
    (kept, *others), now = same_devices(session.site, devices)
    for other in others:
        session.note(f"{other.called} ({identity(other)}) is the same as {kept.called} ({identity(kept)}).")
    session.note(
        f"{now.called} has {counted(len(now.macs), 'adapter')} now. To take it back: scopion same --undo {now.macs[0]}"
        if now.macs
        else f"{now.called} is one device now."
    )


@click.command()
@options.some_devices
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_session
def forget(session: Session, devices: tuple[str, ...], yes: bool) -> None:
    """Remove devices with everything that is known about them.

    Their past, their names and their entries on lists go with them. scopion undo brings that back, but not
    their history of ports, access points and usage.
    """
    from scopion.operations.devices.list_devices import find_device
    from scopion.operations.edit.edit_devices import forget_devices

    if not yes:
        chosen = {device.id: device for device in (find_device(session.site, each) for each in devices)}
        for device in chosen.values():
            echo(f"  {device.called} ({identity(device)}), {device.standing}", err=True)
        session.require_yes(f"Forget {counted(len(chosen), 'device')} with all that is known of them?")
    for device in forget_devices(session.site, devices):
        session.note(f"{device.called} ({identity(device)}) is forgotten.")
    session.note("To bring back all but the history of ports, access points and usage: scopion undo")


def identity(device: Device) -> str:
    """Return a device by what it cannot choose: its MACs and its present or last addresses."""
    macs = ", ".join(map(str, device.macs)) or f"device {device.id}"
    addresses = ", ".join(map(str, device.addresses))
    return f"{macs} at {addresses}" if addresses else macs
