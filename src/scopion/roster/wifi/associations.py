"""Which adapter is associated with which access point, or was last: read from enforcers, kept beside the adapters."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from sqlite3 import Row

from scopion.model.band import at_band
from scopion.model.mac import MacAddress
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_mac, to_ms

# An access point in a busy place meets thousands of made-up addresses; the latest are kept.
_MOST = 5_000
ASSOCIATED = "associated with"  # how the evidence for an adapter's medium begins that an access point has told


@dataclass(frozen=True, slots=True)
class Association:
    """Where an adapter is on the air, or was last."""

    mac: MacAddress
    ssid: str
    access_point: str  # the enforcer's name
    radio: str  # GHz; empty: not known
    since: datetime | None  # when it associated, if the access point tells
    seen: datetime
    signal: int | None = None  # dBm

    @property
    def where(self) -> str:
        """Return its access point and radio in words."""
        return at_band(self.access_point, self.radio)


def associations(roster: Roster) -> dict[MacAddress, Association]:
    """Return all that are remembered."""
    with roster.guarded():
        found = map(_association, roster.db.execute("SELECT * FROM association ORDER BY mac"))
        return {each.mac: each for each in found}


def association_of(roster: Roster, mac: MacAddress) -> Association | None:
    """Return where one adapter is, or was last; None if no access point has told."""
    with roster.guarded():
        row = roster.db.execute("SELECT * FROM association WHERE mac = ?", (str(mac),)).fetchone()
        return _association(row) if row is not None else None


def _association(row: Row) -> Association:
    return Association(
        stored_mac(row["mac"]),
        row["ssid"],
        row["access_point"],
        row["radio"],
        from_ms(row["since"]) if row["since"] is not None else None,
        from_ms(row["seen"]),
        row["signal"],
    )


def networks_of(roster: Roster) -> dict[MacAddress, str]:
    """Return the SSID on which each adapter was met last."""
    return {mac: each.ssid for mac, each in associations(roster).items()}


def note_associations(roster: Roster, found: Iterable[Association]) -> None:
    """Remember associations; an associated adapter is wireless, whatever was guessed before."""
    with roster.transaction() as db:
        for each in found:
            db.execute(
                "INSERT INTO association (mac, ssid, access_point, radio, since, seen, signal) "
                "VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (mac) DO UPDATE SET ssid = excluded.ssid, "
                "access_point = excluded.access_point, radio = excluded.radio, since = excluded.since, "
                "seen = excluded.seen, signal = excluded.signal",
                (
                    str(each.mac),
                    each.ssid,
                    each.access_point,
                    each.radio,
                    to_ms(each.since) if each.since else None,
                    to_ms(each.seen),
                    each.signal,
                ),
            )
            db.execute(
                "UPDATE adapter SET medium = 'wireless', medium_evidence = ? "
                "WHERE mac = ? AND NOT (own AND medium <> 'unknown')",
                (f"{ASSOCIATED} {each.where}", str(each.mac)),
            )
        db.execute(
            "DELETE FROM association WHERE mac NOT IN (SELECT mac FROM association ORDER BY seen DESC LIMIT ?)",
            (_MOST,),
        )


def note_links(roster: Roster, mac: MacAddress, links: Iterable[MacAddress], at: datetime) -> None:
    """Give a device the adapters of its links: one that uses several at once has an address for each of them.

    An address that another device has already stays there: only people say that two devices are one.
    """
    with roster.transaction() as db:
        for link in links:
            db.execute(
                "INSERT OR IGNORE INTO adapter (mac, device, medium, medium_evidence, own, first_seen, last_seen) "
                "SELECT ?1, device, 'wireless', ?2, own, ?3, ?3 FROM adapter WHERE mac = ?4",
                (str(link), f"a link of {mac}", to_ms(at), str(mac)),
            )
