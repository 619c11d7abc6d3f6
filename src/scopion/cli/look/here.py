"""``scopion here``."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts.output import output_format, row_of, show
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row
from scopion.model.text import capitalised

if TYPE_CHECKING:
    from scopion.operations.scan.find_whereabouts import Whereabouts

KEYS = ("chosen", "name", "state", "medium", "address", "mac", "subnet", "gateway", "gateway_mac")
COLUMNS = (
    Column("", lambda row: "→" if row["chosen"] else "", lambda _: "bold green"),
    Column("interface", lambda row: row["name"], lambda row: "bold" if row["chosen"] else ""),
    Column("state", lambda row: row["state"], lambda row: "green" if row["state"] == "up" else "dim"),
    Column("medium", lambda row: row["medium"], optional=1),
    Column("address", lambda row: row["address"] + "/" + row["subnet"].partition("/")[2] if row["address"] else "–"),
    Column("MAC", lambda row: row["mac"] or "–"),
    Column("gateway", lambda row: row["gateway"] or "–"),
    Column("gateway MAC", lambda row: _gateway_mac(row), optional=2),
)


@click.command()
@output_format
@pass_session
def here(session: Session, format_name: str | None) -> None:
    """Where this machine is: interface, subnet, gateway, site.

    Nothing is changed. At most the gateway is asked for its MAC address: it tells networks that use the same subnet
    apart.
    """
    from scopion.operations.scan.find_whereabouts import whereabouts
    from scopion.operations.scan.recognise_network import Belonging

    found = whereabouts(session.site)
    rows = list(_rows(found))
    recognised = found.recognition
    document = {
        "interfaces": rows,
        "scan_takes": found.choice.interface.name if found.choice else None,
        "because": found.choice.reason if found.choice else found.no_choice,
        "site": {
            "folder": str(session.folder),
            "name": session.site.name if found.has_site else None,
            "here": bool(recognised and recognised.verdict is Belonging.OURS),
            "verdict": str(recognised.verdict) if recognised else None,
            "reason": recognised.reason if recognised else None,
        },
        "raw_frames": found.rights.raw_frames,
        "how_to_get_more": found.rights.how_to_get_more or None,
    }
    show(rows, KEYS, COLUMNS, format_name, document=document)
    session.note("")
    for sentence in _sentences(session, found):
        session.note(sentence)


def _rows(found: Whereabouts) -> Iterator[dict[str, Any]]:
    from scopion.attachment.choose import medium_words

    chosen = found.choice.interface if found.choice else None
    for interface in found.interfaces:
        for number, address in enumerate(interface.addresses or (None,)):
            first = number == 0
            yield row_of(
                interface,
                KEYS,
                chosen=interface is chosen and first,
                state="up" if interface.up else "down",
                medium=medium_words(interface),
                address=address.ip if address else None,
                subnet=address.network if address else None,
                gateway=interface.gateway if first else None,
                gateway_mac=found.gateway_mac if interface is chosen and first else None,
            )


def _gateway_mac(row: Row) -> str:
    if row["gateway_mac"] or not row["gateway"]:
        return row["gateway_mac"] or "–"
    return "no answer" if row["chosen"] else "not asked"


def _sentences(session: Session, found: Whereabouts) -> list[str]:
    from scopion.operations.scan.recognise_network import Belonging

    if found.choice is None or found.recognition is None:
        return [f"A scan is not possible: {found.no_choice}."]
    interface = found.choice.interface
    told = [f"scan would take {interface.name} ({interface.subnets[0]}), because {found.choice.reason}."]
    verdict = found.recognition.verdict
    if verdict is Belonging.OURS:
        told.append(f"This is {session.site.name}: {found.recognition.reason}. ({session.folder})")
    elif verdict is Belonging.FOUNDING:
        told.append(f"No site is known yet; scopion scan makes one of this network, in {session.folder}.")
    else:
        told.append(
            f"This is not one of the networks of {session.site.name}: {found.recognition.reason}. ({session.folder})"
        )
        told.append("A scan here is shown but not remembered, unless you add --remember.")
    told += _learning(session)
    if found.rights.raw_frames:
        told.append("You may send raw frames: scan uses ARP.")
    else:
        told.append(
            "You may not send raw frames: scan finds hosts by harmless datagrams, which takes a few seconds more."
        )
        told.append(capitalised(f"{found.rights.how_to_get_more}."))
    return told


def _learning(session: Session) -> list[str]:
    """Return a sentence on the subnets that are being learnt, and until when: only where alerts are sent."""
    from scopion.operations.notify.manage_alerts import learning_subnets

    if not session.site.settings.channel:
        return []
    clock = session.site.clock
    return [
        f"{each.name} is being learnt until {clock.local(each.until):%A %d %B, %H:%M}: one alert a day for what joins."
        for each in learning_subnets(session.site)
    ]
