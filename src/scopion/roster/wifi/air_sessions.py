"""Associations with access points from beginning to end, with the octets of each: as accounting tells them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from scopion.model.mac import MacAddress
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_mac, to_ms


@dataclass(frozen=True, slots=True)
class AirSession:
    """One association of an adapter."""

    mac: MacAddress
    ssid: str
    access_point: str
    since: datetime
    until: datetime  # when it ended, or was reported on last
    present: bool
    received: int  # octets from the device
    sent: int  # octets to it


def note_sessions(roster: Roster, sessions: Iterable[AirSession]) -> None:
    """Remember associations; one that is known grows, whatever the order of reports."""
    with roster.transaction() as db:
        for each in sessions:
            db.execute(
                "INSERT INTO air_session VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (mac, access_point, since) "
                "DO UPDATE SET until = max(until, excluded.until), present = excluded.present, "
                "received = max(received, excluded.received), sent = max(sent, excluded.sent)",
                (
                    str(each.mac),
                    each.ssid,
                    each.access_point,
                    to_ms(each.since),
                    to_ms(each.until),
                    each.present,
                    each.received,
                    each.sent,
                ),
            )


def sessions_since(roster: Roster, moment: datetime) -> dict[int, list[AirSession]]:
    """Return by device the associations that were not over by a moment, in the order of time."""
    found: dict[int, list[AirSession]] = defaultdict(list)
    with roster.guarded():
        for row in roster.db.execute(
            "SELECT air_session.*, adapter.device FROM air_session JOIN adapter USING (mac) "
            "WHERE air_session.present OR until >= ? ORDER BY since",
            (to_ms(moment),),
        ):
            found[row["device"]].append(
                AirSession(
                    stored_mac(row["mac"]),
                    row["ssid"],
                    row["access_point"],
                    from_ms(row["since"]),
                    from_ms(row["until"]),
                    bool(row["present"]),
                    row["received"],
                    row["sent"],
                )
            )
    return dict(found)
