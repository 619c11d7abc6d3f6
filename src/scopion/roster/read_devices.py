"""Queries about devices. ``write_descriptions`` writes what people say of them."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from datetime import date, datetime

from scopion.model.device import Adapter, Device, Event, KnownTrait, Standing, Stay
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.roster.folding.note_traits import all_traits
from scopion.roster.read_history import STAY_COLUMNS, stay_of
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import UNPAIRED_SUBJECT, from_ms, stored_mac, stored_words, unpaired_subject

_NOWHERE: frozenset[str] = frozenset()
# By their text: calling the class for each of ten thousand takes five times as long.
_MEDIA, _STANDINGS = stored_words(Medium), stored_words(Standing)
# In the order in which they are read: by name each would take three times as long.
_ADAPTER = "mac, device, own, medium, medium_evidence, first_seen, last_seen"
_DEVICE = (
    "id, standing, first_seen, label, owner, place, note, guest_until, standing_since, because, revision, essential"
)
# Adapter by adapter, each by one look-up in an index: a year has tens of thousands of closed stays. CROSS JOIN keeps
# SQLite to this order. Several stays may have ended at the same moment.
_LATEST = """
    SELECT stay.mac, stay.address, stay.since, stay.until, stay.present, stay.source, stay.place
    FROM adapter CROSS JOIN (SELECT 0 AS six UNION ALL SELECT 1) CROSS JOIN stay
    ON stay.mac = adapter.mac AND (instr(stay.address, ':') > 0) = six AND NOT stay.present AND stay.until = (
        SELECT max(until) FROM stay AS past
        WHERE past.mac = adapter.mac AND (instr(past.address, ':') > 0) = six AND NOT past.present
    )
    WHERE adapter.mac NOT IN (SELECT mac FROM stay INDEXED BY stay_present WHERE present) {chosen}
    ORDER BY stay.address
"""


def all_devices(roster: Roster) -> list[Device]:
    """Return every device with its adapters and their present or latest stays, in the order of their making."""
    return _devices(roster, None)


def devices_about(roster: Roster, events: Iterable[Event]) -> dict[int, Device]:
    """Return the devices that events are about, by their numbers; the other device of a contest is among them."""
    numbers = {event.device_id for event in events}
    others = {event.other_mac for event in events if event.other_mac is not None}
    with roster.guarded():
        for mac in others:
            numbers |= {row[0] for row in roster.db.execute("SELECT device FROM adapter WHERE mac = ?", (str(mac),))}
    return {device.id: device for device in some_devices(roster, numbers)}


def some_devices(roster: Roster, numbers: Collection[int]) -> list[Device]:
    """Return the devices with these numbers, in the order of their making."""
    return _devices(roster, numbers) if numbers else []


def _devices(roster: Roster, numbers: Collection[int] | None) -> list[Device]:
    """Return the devices with these numbers; all of them for None."""
    chosen = f"({','.join(map(str, numbers))})" if numbers is not None else ""
    subjects = (
        f"WHERE subject IN (SELECT mac FROM adapter WHERE device IN {chosen} "
        f"UNION SELECT {UNPAIRED_SUBJECT} FROM unpaired WHERE device IN {chosen})"
    )
    with roster.guarded():
        traits = all_traits(roster, subjects if chosen else "")
        adapters, own = _adapters(roster, traits, chosen)
        unpaired = _unpaired(roster)
        routes: dict[int, set[str]] = {}
        gateways = "SELECT device, place FROM adapter JOIN subnet ON gateway_mac = adapter.mac"
        for number, where in roster.rows(gateways):
            routes.setdefault(number, set()).add(where)
        home = roster.home
        found = []
        which = f"WHERE id IN {chosen}" if chosen else ""
        for row in roster.rows(f"SELECT {_DEVICE} FROM device {which} ORDER BY id"):
            number, standing, first_seen, label, owner, place, note, until, since, because, revision, essential = row
            elsewhere = unpaired.get(number, ())
            hosts = [unpaired_subject(stay.place, str(stay.address)) for stay in elsewhere]
            heard = [known for subject in hosts for known in traits.get(subject, ())] if hosts else ()
            gateway_in = routes.get(number, _NOWHERE)
            found.append(
                Device(
                    number, _STANDINGS[standing], from_ms(first_seen), label, owner, place, note,
                    date.fromisoformat(until) if until else None,
                    from_ms(since) if since is not None else None, because, revision,
                    number in own, home in gateway_in, adapters.get(number, ()), elsewhere, tuple(heard),
                    bool(essential), tuple(sorted(gateway_in - {home})) if gateway_in else (),
                )
            )  # fmt: skip
        return found


def set_media(roster: Roster, media: Mapping[MacAddress, Medium | None]) -> None:
    """Note how adapters are connected, as a file tells it; what is known already stays."""
    with roster.transaction() as db:
        db.executemany(
            "UPDATE adapter SET medium = ? WHERE mac = ? AND medium = 'unknown'",
            [(medium, str(mac)) for mac, medium in media.items() if medium],
        )


def known_adapters(roster: Roster) -> dict[MacAddress, datetime]:
    """Return every adapter ever seen, with when it was last seen."""
    with roster.guarded():
        rows = roster.rows("SELECT mac, last_seen FROM adapter")
        return {stored_mac(mac): from_ms(last_seen) for mac, last_seen in rows}


def _adapters(
    roster: Roster, traits: Mapping[str, tuple[KnownTrait, ...]], chosen: str
) -> tuple[dict[int, tuple[Adapter, ...]], set[int]]:
    """Return the adapters of each device by its number, and the devices that this machine is."""
    stays = _stays(roster, f"AND mac IN (SELECT mac FROM adapter WHERE device IN {chosen})" if chosen else "")
    which = f"WHERE device IN {chosen}" if chosen else ""
    found: dict[int, tuple[Adapter, ...]] = {}
    own: set[int] = set()
    for row in roster.rows(f"SELECT {_ADAPTER} FROM adapter {which} ORDER BY first_seen, mac"):
        mac, device, is_own, medium, evidence, first, last = row
        here, said = stays.get(mac, ()), traits.get(mac, ())
        known = Adapter(stored_mac(mac), _MEDIA[medium], from_ms(first), from_ms(last), here, evidence, said)
        found[device] = (*found.get(device, ()), known)
        if is_own:
            own.add(device)
    return found, own


def _stays(roster: Roster, chosen: str) -> dict[str, tuple[Stay, ...]]:
    """Return by MAC address the present stays, or the latest one of each IP version if the adapter is absent."""
    found: dict[str, tuple[Stay, ...]] = {}
    present = f"SELECT {STAY_COLUMNS} FROM stay INDEXED BY stay_present WHERE present {chosen} ORDER BY since, address"
    for query in (present, _LATEST.format(chosen=chosen.replace("AND mac", "AND adapter.mac"))):
        for row in roster.rows(query):
            found[row[0]] = (*found.get(row[0], ()), stay_of(row))
    return found


def _unpaired(roster: Roster) -> dict[int, tuple[Stay, ...]]:
    """Return by device where it was seen while its MAC address was not known."""
    found: dict[int, tuple[Stay, ...]] = {}
    query = "SELECT NULL, address, since, until, present, NULL, place, device FROM unpaired ORDER BY address, place"
    for row in roster.rows(query):
        found[row[-1]] = (*found.get(row[-1], ()), stay_of(row))
    return found
