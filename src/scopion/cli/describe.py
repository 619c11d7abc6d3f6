"""``scopion label`` and ``scopion mark``."""

from __future__ import annotations

from datetime import date

import click

from scopion.cli import options
from scopion.cli.session import Session, pass_session
from scopion.model.device import Device, Standing


@click.command()
@options.device
@click.argument("text", metavar="[LABEL]", required=False)
@click.option("--owner", metavar="TEXT", help="Whose it is.")
@click.option("--place", metavar="TEXT", help="Where it stands.")
@click.option("--note", metavar="TEXT", help="Anything else worth keeping.")
@pass_session
def label(session: Session, /, device: str, text: str | None, **texts: str | None) -> None:
    """Give a device its name, owner and place.

    An empty LABEL ('') takes the name away; so does an empty owner, place or note. What is not given stays.
    """
    from scopion.operations.describe import label_device

    before, after = label_device(session.site, device, text, **texts)
    was = f" (was {before.label!r})" if before.label and before.label != after.label else ""
    named = f"is now {after.label!r}" if after.label else "has no label now"
    others = (("owner", after.owner), ("place", after.place), ("note", after.note))
    more = "".join(f", {title} {value!r}" for title, value in others if value)
    session.note(f"{_identity(after)} {named}{was}{more}.")


@click.command()
@options.some_devices
@click.argument("standing", type=click.Choice([str(each) for each in Standing]))
@click.option("--until", metavar="DATE", type=options.Day(), help="For a guest: the last day, as 2026-12-31.")
@pass_session
def mark(session: Session, devices: tuple[str, ...], standing: str, until: date | None) -> None:
    """Say what you think of it: known, guest, unwanted, new.

    Several devices at once: all are marked or, if one is not understood, none.
    """
    from scopion.operations.describe import mark_devices

    marked = mark_devices(session.site, devices, Standing(standing), until)
    for before, after in marked:
        end = f" until {after.guest_until.isoformat()}" if after.guest_until else ""
        was = f" (was {before.standing})" if before.standing is not after.standing else ""
        name = f"{after.label} ({_identity(after)})" if after.label else _identity(after)
        session.note(f"{name} is {after.standing}{end}{was}.")
    if standing == Standing.UNWANTED:
        mac = marked[0][1].macs[0] if marked[0][1].macs else "DEVICE"
        session.note(f"To refuse it on the Wi-Fi: scopion wifi deny SSID {mac}")


def _identity(device: Device) -> str:
    macs = ", ".join(map(str, device.macs)) or f"device {device.id}"
    addresses = ", ".join(map(str, device.addresses))
    return f"{macs} at {addresses}" if addresses else macs
