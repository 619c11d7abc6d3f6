"""Queries about devices. What people say of them is written in ``descriptions``."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from datetime import date, datetime
from sqlite3 import Row

from scopion.model.device import Adapter, Device, KnownTrait, Standing, Stay
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium
from scopion.roster.history import STAY_COLUMNS, stay_of
from scopion.roster.store import Roster, from_ms
from scopion.roster.traits import all_traits

# By their text: calling the class for each of ten thousand takes five times as long.
_MEDIA = {str(each): each for each in Medium}
_STANDINGS = {str(each): each for each in Standing}
# In the order in which they are taken: by name each would take three times as long.
_ADAPTER = "mac, device, own, medium, medium_evidence, first_seen, last_seen"
_DEVICE = "id, standing, first_seen, label, owner, place, note, guest_until, standing_since, because, revision"
_STAY_OF_STAY = "stay.mac, stay.address, stay.since, stay.until, stay.present, stay.source"


def all_devices(roster: Roster) -> list[Device]:
    """Every device with its adapters and their present or latest stays, in the order of their making."""
    with roster.guarded():
        stays = _stays(roster)
        traits = all_traits(roster)
        unpaired: dict[int, list[Stay]] = defaultdict(list)
        for row in roster.db.execute(
            "SELECT NULL, address, since, until, present, NULL, device FROM unpaired ORDER BY address"
        ):
            unpaired[row["device"]].append(stay_of(row))
        gateways = {row[0] for row in roster.db.execute("SELECT gateway_mac FROM subnet WHERE gateway_mac IS NOT NULL")}
        adapters: dict[int, list[Adapter]] = defaultdict(list)
        own: set[int] = set()
        routes: set[int] = set()
        for row in roster.db.execute(f"SELECT {_ADAPTER} FROM adapter ORDER BY first_seen, mac"):
            mac, device, is_own, medium, evidence, first, last = row
            here, said = tuple(stays.get(mac, ())), traits.get(mac, ())
            known = Adapter(MacAddress.parse(mac), _MEDIA[medium], from_ms(first), from_ms(last), here, evidence, said)
            adapters[device].append(known)
            if is_own:
                own.add(device)
            if mac in gateways:
                routes.add(device)
        found = []
        for row in roster.db.execute(f"SELECT {_DEVICE} FROM device ORDER BY id"):
            number = row[0]
            elsewhere = unpaired.get(number, ())
            heard = tuple([known for stay in elsewhere for known in traits.get(str(stay.address), ())])
            whole = (tuple(adapters.get(number, ())), tuple(elsewhere), heard)
            found.append(_device(row, number in own, number in routes, *whole))
        return found


def set_media(roster: Roster, media: Mapping[MacAddress, Medium | None]) -> None:
    """Note what adapters are connected by, as a file tells it; what is known already stays."""
    with roster.transaction() as db:
        db.executemany(
            "UPDATE adapter SET medium = ? WHERE mac = ? AND medium = 'unknown'",
            [(medium, str(mac)) for mac, medium in media.items() if medium],
        )


def known_adapters(roster: Roster) -> dict[MacAddress, datetime]:
    """Every adapter ever seen, with when it was last seen."""
    with roster.guarded():
        rows = roster.db.execute("SELECT mac, last_seen FROM adapter")
        return {MacAddress.parse(row["mac"]): from_ms(row["last_seen"]) for row in rows}


def _stays(roster: Roster) -> dict[str, list[Stay]]:
    """By MAC: the present stays, or the latest one of each version of IP where an adapter is absent."""
    present: dict[str, list[Stay]] = defaultdict(list)
    for row in roster.db.execute(f"SELECT {STAY_COLUMNS} FROM stay WHERE present ORDER BY since, address"):
        present[row[0]].append(stay_of(row))
    # SQLite gives the other columns of the row that holds the maximum; several may have ended at that moment.
    latest = "SELECT *, max(until) FROM stay WHERE NOT present GROUP BY mac, instr(address, ':') > 0"
    absent: dict[str, list[Stay]] = defaultdict(list)
    for row in roster.db.execute(
        f"SELECT {_STAY_OF_STAY} FROM stay JOIN ({latest}) AS last ON stay.mac = last.mac AND stay.until = last.until "
        "AND (instr(stay.address, ':') > 0) = (instr(last.address, ':') > 0) WHERE NOT stay.present "
        "ORDER BY stay.address"
    ):
        if row[0] not in present:
            absent[row[0]].append(stay_of(row))
    return present | absent


def _device(
    row: Row,
    own: bool,
    gateway: bool,
    adapters: tuple[Adapter, ...],
    unpaired: tuple[Stay, ...],
    unpaired_traits: tuple[KnownTrait, ...],
) -> Device:
    number, standing, first_seen, label, owner, place, note, until, since, because, revision = row
    return Device(
        id=number,
        standing=_STANDINGS[standing],
        first_seen=from_ms(first_seen),
        label=label,
        owner=owner,
        place=place,
        note=note,
        guest_until=date.fromisoformat(until) if until else None,
        standing_since=from_ms(since) if since is not None else None,
        because=because,
        revision=revision,
        own=own,
        gateway=gateway,
        adapters=adapters,
        unpaired=unpaired,
        unpaired_traits=unpaired_traits,
    )
