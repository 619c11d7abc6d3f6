"""What people want fewer messages about: muted devices and kinds of events, and subnets that are being learnt."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from ipaddress import IPv4Network
from sqlite3 import Row

from scopion.model.device import EventKind
from scopion.model.value import value
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_words, to_ms

_KINDS = stored_words(EventKind)


@value
class Mute:
    """This device, this kind of event, or this kind of this device is not told until then."""

    id: int
    device_id: int | None  # None: any
    kind: EventKind | None  # None: any
    since: datetime
    until: datetime

    def covers(self, device_id: int, kind: EventKind, at: datetime) -> bool:
        """Tell whether an event is muted."""
        return at < self.until and self.device_id in (None, device_id) and self.kind in (None, kind)


def mutes(roster: Roster, now: datetime) -> list[Mute]:
    """Return the mutes that are in force, in the order of their making."""
    with roster.guarded():
        return [
            _mute(row) for row in roster.db.execute("SELECT * FROM mute WHERE until > ? ORDER BY id", (to_ms(now),))
        ]


def mute(roster: Roster, device_id: int | None, kind: EventKind | None, since: datetime, until: datetime) -> None:
    """Mute something. An earlier mute of the same is replaced, and mutes that are over are removed."""
    with roster.transaction() as db:
        db.execute("DELETE FROM mute WHERE (device IS ? AND kind IS ?) OR until <= ?", (device_id, kind, to_ms(since)))
        db.execute(
            "INSERT INTO mute (device, kind, since, until) VALUES (?, ?, ?, ?)",
            (device_id, kind, to_ms(since), to_ms(until)),
        )


def unmute(roster: Roster, device_id: int | None, kind: EventKind | None) -> int:
    """End the mutes of exactly this; all if nothing is given. Returns how many were ended."""
    with roster.transaction() as db:
        if device_id is None and kind is None:
            return db.execute("DELETE FROM mute").rowcount
        return db.execute("DELETE FROM mute WHERE device IS ? AND kind IS ?", (device_id, kind)).rowcount


@value
class Learning:
    """Until when joining devices of a subnet are told once a day only."""

    range: IPv4Network
    until: datetime
    place: str = ""


def learning(roster: Roster, days: Callable[[IPv4Network, str], float], now: datetime) -> list[Learning]:
    """Return the subnets of all places that are being learnt: for some days from their baseline on, unless people said
    otherwise.
    """
    with roster.guarded():
        rows = roster.rows(
            "SELECT subnet.place, range, learning_until, coalesce(ended, since) "
            "FROM subnet JOIN scan ON scan.id = baseline ORDER BY since, subnet.place, range"
        )
        found = []
        for place, text, said, baseline in rows:
            subnet = IPv4Network(text)
            usual = from_ms(baseline) + timedelta(days=days(subnet, place))
            found.append(Learning(subnet, from_ms(said) if said is not None else usual, place))
        return [each for each in found if each.until > now]


def set_learning(roster: Roster, subnet: IPv4Network, place: str, until: datetime) -> bool:
    """Let the learning of a subnet of a place end at a moment. Returns False if the subnet is not known."""
    with roster.transaction() as db:
        query = "UPDATE subnet SET learning_until = ? WHERE place = ? AND range = ?"
        return db.execute(query, (to_ms(until), place, str(subnet))).rowcount > 0


def _mute(row: Row) -> Mute:
    return Mute(
        id=row["id"],
        device_id=row["device"],
        kind=_KINDS[row["kind"]] if row["kind"] else None,
        since=from_ms(row["since"]),
        until=from_ms(row["until"]),
    )
