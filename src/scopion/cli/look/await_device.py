"""``scopion await``."""

from __future__ import annotations

import click

from scopion.cli.parts.options import DeviceParam, SpanParam
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import echo
from scopion.model.text import capitalised


@click.command("await")
@click.option("--vendor", default="", metavar="TEXT", help="A device whose vendor has a word that begins so.")
@click.option("--name", default="", metavar="TEXT", help="A device whose label or host name begins so.")
@click.option("--mac", default="", metavar="MAC", help="A device whose MAC address begins so.")
@click.option("--new", is_flag=True, help="Not one that is here already.")
@click.option(
    "--gone",
    type=DeviceParam(),
    is_flag=False,
    flag_value="",
    metavar="[DEVICE]",
    help="Wait until it stops answering; without a DEVICE, until any one does.",
)
@click.option("--timeout", type=SpanParam(), metavar="TIME", help="Give up after 30s, 5m... with exit code 3 [never].")
@click.option("--interface", metavar="NAME", help="Wait on this one [see scopion here].")
@pass_session
def await_device(
    session: Session,
    vendor: str,
    name: str,
    mac: str,
    new: bool,
    gone: str | None,
    timeout: float | None,
    interface: str | None,
) -> None:
    """Wait until a device is here or gone; print its address.

    Without options it waits for a device that was not here at the start; one that is here and was in no scan before was
    plugged in just now, and is printed at once. Devices that fit and are here already are printed at once, all of them,
    except with --new. Only addresses go to standard output:
    address=$(scopion await --name kiln-1)
    """
    from scopion.alerts.news import who
    from scopion.operations.scan.wait_for_device import WaitGoal, Waiting

    if gone is not None and (vendor or name or mac or new):
        raise click.UsageError("--gone takes a DEVICE, and none of --vendor, --name, --mac and --new")
    waiting = Waiting(session.site, interface, timeout, lambda text: session.note(capitalised(f"{text}.")))
    wanted = WaitGoal.parse(vendor, name, mac, new=new)
    hosts = [waiting.until_gone(gone)] if gone is not None else waiting.until_here(wanted)
    for host in hosts:
        echo(str(host.address))
        session.note(f"{'Gone' if gone is not None else 'Here'}: {who(host.mac, host.device, session.site.vendors)}.")
    if len(hosts) > 1:
        session.note(f"{len(hosts)} devices fit: a longer --vendor, --name or --mac tells them apart.")
