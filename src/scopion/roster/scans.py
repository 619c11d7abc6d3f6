"""The record of scans and subnets: what was asked, what is known of each subnet, which scan was its baseline."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from ipaddress import IPv4Address, IPv4Network
from sqlite3 import Row

from scopion.model.mac import MacAddress
from scopion.model.targets import Targets
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import as_written, from_ms, stored_mac, to_ms


@dataclass(frozen=True, slots=True)
class KnownSubnet:
    """A subnet of the site, by which the site is recognised."""

    range: IPv4Network
    gateway: IPv4Address | None
    gateway_mac: MacAddress | None
    since: datetime
    has_baseline: bool
    place: str = ""  # empty: the only place, which has no name


def known_subnets(roster: Roster, place: str | None = None) -> tuple[KnownSubnet, ...]:
    """Return the subnets of a place; of this machine's for None, as everywhere here."""
    return _subnets(roster, "WHERE place = ?", roster.placed(place))


def all_subnets(roster: Roster) -> tuple[KnownSubnet, ...]:
    """Return the subnets of all places."""
    return _subnets(roster, "")


def _subnets(roster: Roster, where: str, *values: str) -> tuple[KnownSubnet, ...]:
    with roster.guarded(), as_written("a subnet"):
        rows = roster.db.execute(f"SELECT * FROM subnet {where} ORDER BY since, place, range", values)
        return tuple(
            KnownSubnet(
                range=IPv4Network(row["range"]),
                gateway=IPv4Address(row["gateway"]) if row["gateway"] else None,
                gateway_mac=stored_mac(row["gateway_mac"]) if row["gateway_mac"] else None,
                since=from_ms(row["since"]),
                has_baseline=row["baseline"] is not None,
                place=row["place"],
            )
            for row in rows
        )


@dataclass(frozen=True, slots=True)
class ScanRecord:
    """What is remembered of a scan."""

    number: int
    started: datetime
    ended: datetime | None  # None: it runs, or was killed
    targets: str
    interface: str
    method: str
    asked: int
    answered: int
    completed: bool
    place: str = ""


def latest_scans(roster: Roster, limit: int, place: str | None = None) -> list[ScanRecord]:
    """Return the latest scans of a place that have ended, the latest first."""
    with roster.guarded():
        query = "SELECT * FROM scan WHERE ended IS NOT NULL AND place = ? ORDER BY id DESC LIMIT ?"
        return [_scan(row) for row in roster.db.execute(query, (roster.placed(place), limit))]


def last_complete_scan(roster: Roster, subnet: IPv4Network, place: str | None = None) -> datetime | None:
    """Return when the last complete scan of a subnet ended; None if none is remembered."""
    with roster.guarded():
        query = "SELECT max(ended) FROM scan WHERE subnet = ? AND place = ? AND outcome = 'complete'"
        (ended,) = roster.db.execute(query, (str(subnet), roster.placed(place))).fetchone()
        return from_ms(ended) if ended is not None else None


def last_scans(roster: Roster) -> dict[tuple[str, IPv4Network], tuple[datetime | None, datetime | None]]:
    """Return by place and subnet when the last scan of any part of it ended, and when the last complete one did."""
    with roster.guarded(), as_written("a scan"):
        rows = roster.rows(
            "SELECT place, subnet, max(ended), max(CASE WHEN outcome = 'complete' THEN ended END) FROM scan "
            "WHERE subnet <> '' GROUP BY place, subnet"
        )
        return {
            (place, IPv4Network(subnet)): (_ended(looked), _ended(completed))
            for place, subnet, looked, completed in rows
        }


def _ended(value: int | None) -> datetime | None:
    return from_ms(value) if value is not None else None


def usual_answers(
    roster: Roster, subnet: IPv4Network, targets: str, method: str, lately: datetime, place: str | None = None
) -> int:
    """Return how many addresses answered the same question before: in the last complete scan, or
    any that ended lately.
    """
    with roster.guarded():
        row = roster.db.execute(
            "WITH alike AS (SELECT id, ended, answered FROM scan "
            "WHERE subnet = ?1 AND targets = ?2 AND method = ?3 AND place = ?5 AND outcome = 'complete') "
            "SELECT max(answered) FROM alike WHERE ended >= ?4 OR id = (SELECT max(id) FROM alike)",
            (str(subnet), targets, method, to_ms(lately), roster.placed(place)),
        ).fetchone()
        return row[0] or 0


def find_scan(roster: Roster, number: int) -> ScanRecord | None:
    """Return a scan by its number; None if there was none, or if it is not remembered any more."""
    with roster.guarded():
        row = roster.db.execute("SELECT * FROM scan WHERE id = ?", (number,)).fetchone()
        return _scan(row) if row else None


def first_look(roster: Roster) -> datetime | None:
    """Return when the first complete scan of any subnet ended: the roster begins there. None before it."""
    with roster.guarded():
        row = roster.db.execute(
            "SELECT min(coalesce(ended, since)) FROM subnet JOIN scan ON scan.id = subnet.baseline"
        ).fetchone()
        return from_ms(row[0]) if row[0] is not None else None


def _scan(row: Row) -> ScanRecord:
    return ScanRecord(
        number=row["id"],
        started=from_ms(row["started"]),
        ended=from_ms(row["ended"]) if row["ended"] is not None else None,
        targets=row["targets"],
        interface=row["interface"],
        method=row["method"],
        asked=row["asked"],
        answered=row["answered"],
        completed=row["outcome"] == "complete",
        place=row["place"],
    )


def begin_scan(
    roster: Roster,
    targets: Targets,
    subnet: IPv4Network,
    interface: str,
    method: str,
    at: datetime,
    place: str | None = None,
) -> int:
    """Note that a scan runs; a scan that is killed stays marked as running. Returns its number."""
    with roster.transaction() as db:
        row = db.execute(
            "INSERT INTO scan (targets, subnet, interface, method, started, place) VALUES (?, ?, ?, ?, ?, ?)",
            (str(targets), str(subnet), interface, method, to_ms(at), roster.placed(place)),
        )
        return row.lastrowid or 0


def drop_scan(roster: Roster, scan: int) -> None:
    """Forget a scan that turned out to be of another site."""
    with roster.transaction() as db:
        db.execute("DELETE FROM scan WHERE id = ?", (scan,))


def end_scan(
    roster: Roster, scan: int, at: datetime, *, asked: int, answered: int, rounds: int, completed: bool
) -> None:
    """Note how a scan ended."""
    with roster.transaction() as db:
        db.execute(
            "UPDATE scan SET ended = ?, asked = ?, answered = ?, rounds = ?, outcome = ? WHERE id = ?",
            (to_ms(at), asked, answered, rounds, "complete" if completed else "partial", scan),
        )


def note_subnet(
    roster: Roster,
    subnet: IPv4Network,
    gateway: IPv4Address | None,
    mac: MacAddress | None,
    at: datetime,
    place: str | None = None,
) -> None:
    """Make a subnet one of the site's, or update its gateway; what is not known now is kept."""
    with roster.transaction() as db:
        db.execute(
            "INSERT INTO subnet (place, range, gateway, gateway_mac, since) VALUES (?, ?, ?, ?, ?) "
            "ON CONFLICT (place, range) DO UPDATE SET gateway = coalesce(excluded.gateway, gateway), "
            "gateway_mac = coalesce(excluded.gateway_mac, gateway_mac)",
            (
                roster.placed(place),
                str(subnet),
                str(gateway) if gateway else None,
                str(mac) if mac else None,
                to_ms(at),
            ),
        )


def note_baseline(roster: Roster, subnet: IPv4Network, scan: int, place: str | None = None) -> None:
    """Note which scan was the first complete one of a subnet."""
    with roster.transaction() as db:
        db.execute(
            "UPDATE subnet SET baseline = ? WHERE place = ? AND range = ? AND baseline IS NULL",
            (scan, roster.placed(place), str(subnet)),
        )
