"""``scopion wifi stations``: which devices are associated with which access point."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import TYPE_CHECKING, Any

import click

from scopion.cli.parts import options
from scopion.cli.parts.output import output_format, row_of, show, spoken_ago
from scopion.cli.parts.session import Session, pass_session
from scopion.cli.parts.table import Column, Row
from scopion.model.band import at_band
from scopion.model.clock import spoken_span
from scopion.model.errors import EnforcerUnreachable
from scopion.model.signal import strength_of
from scopion.model.text import capitalised, closed, counted

if TYPE_CHECKING:
    from scopion.operations.stations.list_attempts import AttemptRow
    from scopion.operations.stations.list_stations import StationRow

_STANDINGS = {"new": "yellow", "unwanted": "red", "guest": "cyan", "known": "green"}
KEYS = (
    "standing", "name", "mac", "vendor", "ssid", "access_point", "radio", "signal_dbm", "since", "received", "sent",
    "list", "admitted", "authorized", "links", "as_of",
)  # fmt: skip
_WHICH = (
    Column("standing", lambda row: row["standing"] or "?", lambda row: _STANDINGS.get(row["standing"], "")),
    Column("name", lambda row: row["name"] or "–", lambda _: "bold", shrinks=True),
    Column("MAC", lambda row: row["mac"]),
    Column("vendor", lambda row: row["vendor"] or "", shrinks=True, optional=3),
)
_RADIO = Column("radio", lambda row: f"{row['radio']} GHz" if row["radio"] else "?")
_SIGNAL = Column(
    "signal dBm", lambda row: _signal(row["signal_dbm"]), lambda row: _strength(row["signal_dbm"]), right=True
)
_HOW_MUCH = (
    Column("for", lambda row: row["for"], right=True, optional=1),
    Column("traffic", lambda row: _traffic(row["received"], row["sent"]), right=True),
    Column("list", lambda row: row["list"] or "–", lambda row: "" if row["admitted"] else "red bold"),
)

REFUSED_KEYS = (
    "standing", "name", "mac", "vendor", "ssid", "access_point", "radio", "times", "since", "last", "expected",
)  # fmt: skip
REFUSED_COLUMNS = (
    *_WHICH,
    Column("network", lambda row: row["ssid"], shrinks=True),
    Column("times", lambda row: str(row["times"]), right=True),
    Column("last", lambda row: row["ago"], right=True),
    Column("by", lambda row: at_band(row["access_point"], row["radio"] or ""), shrinks=True),
    Column("", lambda row: "outside its hours" if row["expected"] else "", optional=2),
)


@click.command()
@click.argument("ssid", metavar="[SSID]", type=options.NetworkParam(), required=False)
@click.option("--busiest", is_flag=True, help="The most traffic first.")
@click.option("--refused", is_flag=True, help="Instead: devices that were turned away, how often and when last.")
@output_format
@pass_session
def stations(session: Session, ssid: str | None, busiest: bool, refused: bool, format_name: str | None) -> None:
    """Associated devices: access point, signal, traffic, lists.

    The result is remembered: scopion show names the access point of a device. With --refused, who asked and was turned
    away, as the RADIUS server and the watch have counted: nothing is read from an access point.
    """
    if refused:
        _show_refused(session, ssid, format_name)
        return
    from scopion.operations.intake.pasted_lists import PASTED
    from scopion.operations.stations.list_stations import stations as look

    found, unread = look(session.site, ssid)
    if busiest:
        found.sort(key=lambda each: -each.traffic)
    rows = [_row(session, each) for each in found]
    show(rows, KEYS, _columns(rows), format_name)
    for each in unread:
        where = at_band(each.enforcer, each.radio)
        session.note(f"{where}: not read, {closed(each.problem)}")
    if found:
        session.note("")
    pasted = sorted({(each.located.ssid, each.located.at) for each in found if each.located.access_point == PASTED})
    for name, at in pasted:
        on = f"{session.site.clock.local(at):%A, %H:%M} ({spoken_ago(at, session.site.clock.now())})"
        session.note(f"The stations of {name!r} are from the list that was pasted on {on}.")
    against = sum(not each.admitted for each in found)
    said = f"{counted(len(found), 'station')} associated"
    said += f"; {against} of them would be refused by your lists" if against else ""
    session.note(f"{said}.")
    if unread and not found:
        raise EnforcerUnreachable("no access point could be read")


def _show_refused(session: Session, ssid: str | None, format_name: str | None) -> None:
    from scopion.operations.stations.list_attempts import attempts

    found = attempts(session.site, ssid)
    show([_refused_row(session, each) for each in found], REFUSED_KEYS, REFUSED_COLUMNS, format_name)
    if found:
        session.note("")
    waiting = sum(each.expected for each in found)
    also = f"; {waiting} of them on the allow list, outside the hours" if waiting else ""
    session.note(f"{capitalised(counted(len(found), 'device'))} turned away{also}.")


def _refused_row(session: Session, each: AttemptRow) -> dict[str, Any]:
    device = each.device
    return {
        **row_of(
            each,
            REFUSED_KEYS,
            standing=device.standing if device else None,
            name=device.called if device and device.called != str(each.mac) else None,
            vendor=session.site.vendors.of(each.mac).name,
            times=each.attempt.times,
            last=each.attempt.last,
        ),
        "ago": spoken_ago(each.attempt.last, session.site.clock.now()),
    }


def _columns(rows: Sequence[Row]) -> tuple[Column, ...]:
    """Return the columns of which something is known; access points are named if there are several, or no radio is."""
    radios, signals = (not rows or any(row[key] for row in rows) for key in ("radio", "signal_dbm"))
    several = len({row["access_point"] for row in rows}) > 1
    place = Column("access point", lambda row: row["access_point"], shrinks=True, optional=2 if radios else 0)
    return (
        *_WHICH,
        *([place] if several or not radios else []),
        *([_RADIO] if radios else []),
        *([_SIGNAL] if signals else []),
        *_HOW_MUCH,
    )


def _row(session: Session, each: StationRow) -> dict[str, Any]:
    station = each.located.station
    since = each.located.at - timedelta(seconds=station.connected_s) if station.connected_s is not None else None
    return {
        **row_of(
            station,
            KEYS,
            standing=each.device.standing if each.device else None,
            name=each.name or None,
            vendor=session.site.vendors.of(station.mac).name,
            signal_dbm=station.signal,
            since=since,
            list=each.listed,
            admitted=each.admitted,
            as_of=each.located.at,
            **row_of(each.located, ("ssid", "access_point", "radio")),
        ),
        "for": spoken_span(timedelta(seconds=station.connected_s)) if station.connected_s is not None else "?",
    }


def _signal(dbm: int | None) -> str:
    """Return the signal in dBm and in a word."""
    return "?" if dbm is None else f"{strength_of(dbm):6} {dbm}"


def _strength(dbm: int | None) -> str:
    return "yellow" if dbm is not None and strength_of(dbm) == "weak" else ""


def _traffic(received: int | None, sent: int | None) -> str:
    return "?" if received is None and sent is None else _octets((received or 0) + (sent or 0))


def _octets(count: int) -> str:
    for size, unit in ((1_000_000_000, "GB"), (1_000_000, "MB"), (1_000, "kB")):
        if count >= size:
            return f"{count / size:.1f} {unit}"
    return f"{count} B"
