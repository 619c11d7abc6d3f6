"""Decides which silent adapters count as gone, and ends their stays. Part of folding."""

from __future__ import annotations

from collections import Counter
from collections.abc import Container, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import IPv4Address
from sqlite3 import Connection, Row

from scopion.model.address import Address, by_number
from scopion.model.device import Event, EventKind
from scopion.model.observation import Observation, Source
from scopion.roster.store.stored_values import stored_address, stored_mac, to_ms

# A made-up IPv6 address is preferred for a day (RFC 8981, 3.8), then another one is: an adapter that is here without it
# has given it up, whether or not the address was asked.
IPV6_FORGOTTEN = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class Silence:
    """Which silent adapters count as absent: those that no process has seen since the scan began.

    A kind of question does not judge what it cannot find.
    """

    began: datetime
    spared: Container[str] = ()  # MACs, and addresses of hosts without one, that were not silent for long enough yet
    judges: Container[Source] | None = None  # only stays that were last found by these sources; None: all
    one_claimant: bool = False  # the question finds only one of several adapters at an address

    def counts_for(self, row: Row, holders: Counter[str]) -> bool:
        """Tell whether the silence at a stay counts; ``holders`` tells how many adapters are at each address."""
        if self.judges is not None and (row["found"] is None or Source(row["found"]) not in self.judges):
            return False
        return not (self.one_claimant and holders[row["address"]] > 1)


def moved_on(db: Connection, place: str) -> set[int]:
    """Return the IPv4 stays of adapters that were first seen at another address of a place after they were last seen
    there.

    They are awake: their silence at the old address has nothing to do with dozing.
    """
    return {
        row[0]
        for row in db.execute(
            "SELECT old.id FROM stay AS old INDEXED BY stay_place JOIN stay AS new INDEXED BY stay_present "
            "ON new.mac = old.mac AND new.present AND new.since > old.until AND new.address NOT LIKE '%:%' "
            "AND new.place = old.place WHERE old.place = ? AND old.present AND old.address NOT LIKE '%:%'",
            (place,),
        )
    }


def missing_stays(
    before: Mapping[tuple[str, str], Row],
    sightings: Sequence[Observation],
    asked_enough: Container[Address],
    latest: int,
    at: datetime,
) -> list[Row]:
    """Return the stays that should have been confirmed and were not, IPv4 first."""
    observed = {(str(seen.mac), str(seen.address)) for seen in sightings}
    # An answer without a MAC address is taken for that of the adapter which is known to be there.
    answered = {str(seen.address) for seen in sightings if seen.mac is None}
    silent = [
        row
        for key, row in before.items()
        if key not in observed and row["address"] not in answered and row["until"] <= latest
    ]
    found = {row["id"]: row for row in silent if stored_address(row["address"]) in asked_enough}
    left_over = {row["mac"] for row in before.values() if row["id"] not in found and ":" not in row["address"]}
    here = {mac for mac, _ in observed} | left_over
    away = {row["mac"] for row in found.values() if ":" not in row["address"]} - here
    old = to_ms(at - IPV6_FORGOTTEN)
    for row in silent:
        # If IPv6 cannot be asked for, an adapter that is silent in IPv4 is gone altogether.
        if ":" in row["address"] and (row["mac"] in away or (row["mac"] in here and row["until"] < old)):
            found[row["id"]] = row
    return sorted(found.values(), key=lambda row: by_number(stored_address(row["address"]))[0])


def close_stays(db: Connection, missing: Sequence[Row], at: datetime, place: str) -> list[Event]:
    """End the stays in a place that were not confirmed: a move if the adapter has another address there since, else it
    has left.
    """
    db.executemany("UPDATE stay SET present = 0 WHERE id = ?", [(row["id"],) for row in missing])
    events: list[Event] = []
    for row in missing:
        mac, address = stored_mac(row["mac"]), stored_address(row["address"])
        adapter = db.execute("SELECT device, own FROM adapter WHERE mac = ?", (str(mac),)).fetchone()
        device = adapter["device"]
        now_at = db.execute(
            "SELECT address, since FROM stay WHERE mac = ? AND place = ? AND present "
            "ORDER BY address LIKE '%:%', since DESC LIMIT 1",
            (str(mac), place),
        ).fetchone()
        if now_at is None:
            if not adapter["own"] and not any(event.mac == mac for event in events):
                events.append(Event(EventKind.LEFT, at, device, mac, address))
        elif now_at["since"] > row["until"] and ":" not in row["address"] + now_at["address"]:
            moved_to = IPv4Address(now_at["address"])
            events.append(Event(EventKind.READDRESSED, at, device, mac, moved_to, was_address=address))
    return events
