"""``scopion export``."""

from __future__ import annotations

import click

from scopion.cli.parts import options
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.terminal import echo
from scopion.model.text import counted

KINDS = ("csv", "json", "jsonl", "ethers", "hosts", "dnsmasq-hosts", "isc-hosts", "kea-hosts")
_TOLD_AT_MOST = 10


@click.command("export")
@click.argument("file", metavar="[FILE|-]", default="-")
@click.option("--as", "kind", type=click.Choice(KINDS), help="The form. [by FILE's name, else csv]")
@click.option("--device", "devices", metavar="DEVICE", type=options.DeviceParam(), multiple=True, help="Only these.")
@options.standings
@click.option("--site", "archive", metavar="FILE.zip", help="The whole site into one file, to move or to keep.")
@click.option("--force", is_flag=True, help="Overwrite FILE.")
@pass_session
def export_file(
    session: Session,
    file: str,
    kind: str | None,
    devices: tuple[str, ...],
    standing: tuple[str, ...],
    archive: str | None,
    force: bool,
) -> None:
    """Write devices for other programs, or the whole site.

    csv opens in a spreadsheet and comes back by scopion import without loss; json and jsonl are described by a JSON
    Schema; ethers and hosts are the files of these names; dnsmasq-hosts, isc-hosts and kea-hosts are reservations for
    DHCP servers. With - or nothing, it goes to standard output.
    """
    from scopion.operations.exchange.exchange_devices import export, kind_of, write

    if archive is not None:
        from scopion.operations.exchange.export_site import export_site

        if file != "-" or kind or devices or standing:
            raise click.UsageError("--site writes everything: it goes with no other choice")
        told = export_site(session.site, archive, force=force)
        session.note(f"The whole site is in {archive}: {', '.join(told.names)}.")
        for remark in told.remarks:
            session.note(remark)
        return
    chosen = kind or (kind_of(file) if file != "-" else None) or "csv"
    exported = export(session.site, chosen, devices, standing)
    if file == "-":
        echo(exported.text, nl=False)
    else:
        write(file, exported, force=force)
        session.note(f"{counted(exported.count, 'device')} written to {file} as {chosen}.")
    for left_out in exported.left_out[:_TOLD_AT_MOST]:
        session.note(f"Left out: {left_out}.")
    if len(exported.left_out) > _TOLD_AT_MOST:
        session.note(f"and {len(exported.left_out) - _TOLD_AT_MOST} more left out.")
