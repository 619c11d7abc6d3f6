"""A site whose past is made, so that what a report must say about it is known: eight devices, eight weeks.

Wednesday, 30 September 2026, noon in Lisbon is now. Names that try to be markup or mathematics are among them.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from pathlib import Path
from zoneinfo import ZoneInfo

from scopion.model.device import Standing
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source
from scopion.model.targets import Targets
from scopion.operations.site.open_site import Site
from scopion.roster.folding.fold_observations import fold
from scopion.roster.read_devices import all_devices
from scopion.roster.scans import begin_scan, end_scan, note_baseline, note_subnet
from scopion.roster.store.open_roster import Roster
from scopion.roster.write_descriptions import set_description, set_essential, set_standing

NOW = datetime(2026, 9, 30, 11, tzinfo=UTC)  # noon on the wall
BEGIN = NOW.replace(hour=0) - timedelta(weeks=8)
SUBNET = IPv4Network("192.0.2.0/24")
LISBON = ZoneInfo("Europe/Lisbon")
LONG = IPv6Address("2001:db8:c0de:1234:5678:9abc:def0:1234")  # the newcomer's only address
HOSTILE, MATHEMATICS = "<img src=x onerror=alert(1)>", r"$\frac{a}{b}$"
# Name, last part of the address, standing; when it is here stands in ``_hours``.
DEVICES = (
    ("gateway box", 1, Standing.KNOWN), ("server", 5, Standing.KNOWN), ("printer", 20, Standing.KNOWN),
    ("scanner", 20, Standing.KNOWN), ("till", 50, Standing.KNOWN), ("office", 81, Standing.KNOWN),
    ("stranger", 66, Standing.UNWANTED), ("newcomer", 91, Standing.NEW),
)  # fmt: skip


class FixedClock:
    """Always the same moment, in Lisbon."""

    def __init__(self, at: datetime) -> None:
        self._at = at

    def now(self) -> datetime:
        """The moment."""
        return self._at

    def monotonic(self) -> float:
        """No time passes."""
        return 0.0

    def local(self, moment: datetime) -> datetime:
        """As the wall shows it."""
        return moment.astimezone(LISBON)

    def from_local(self, wall: datetime) -> datetime:
        """The moment at which the wall shows a time."""
        return wall.replace(tzinfo=LISBON).astimezone(UTC)


def opened_at(folder: Path, at: datetime) -> Site:
    """The site of a folder at a moment."""
    site = Site(folder)
    site.__dict__["clock"] = FixedClock(at)
    return site


def make_past(folder: Path) -> None:
    """Make it."""
    (folder / "site.toml").write_text('name = "Kilnhaven"\ntimezone = "Europe/Lisbon"\n')
    roster = Roster.open(folder)
    with roster.transaction():
        _play(roster)
        for device in all_devices(roster):
            number = device.macs[0].octets[-1]
            name, _, standing = DEVICES[number]
            place = HOSTILE if name == "office" else ""
            label = f"{name} {MATHEMATICS}" if name == "scanner" else name
            set_description(roster, device, label=label, place=place)
            set_standing(roster, device, standing, at=NOW)
            if name == "till":
                set_essential(roster, device, True)
            if name == "scanner":
                set_description(roster, device, owner=HOSTILE)
    roster.close()


def _play(roster: Roster) -> None:
    """A complete scan each hour, on the wall's clock: who is here answers, and who is not is gone."""
    note_subnet(roster, SUBNET, IPv4Address("192.0.2.1"), _mac(0), BEGIN)
    at, first = BEGIN, True
    here: set[int] = set()
    while at <= NOW:
        present = set(_here(at.astimezone(LISBON)))
        scan = begin_scan(roster, Targets.of_subnet(SUBNET), SUBNET, "eth0", "arp", at)
        seen = [Observation(_mac(n), _address(n), at, Source.ARP) for n in sorted(present)]
        fold(roster, seen, {_address(n) for n in here - present} - {_address(n) for n in present}, at, silent=first)
        end_scan(roster, scan, at, asked=254, answered=len(seen), rounds=1, completed=True)
        if first:
            note_baseline(roster, SUBNET, scan)
        here, first = present, False
        at += timedelta(hours=1)


def _here(wall: datetime) -> Iterator[int]:
    """The numbers of the devices that are here at an hour of the wall's clock."""
    always = [0, 2, 3, 6]
    yield from always
    if wall < datetime(2026, 9, 30, 5, tzinfo=LISBON):
        yield 1  # the server, until last night
    if wall.weekday() < 6 and 9 <= wall.hour <= 12 and wall.date() < datetime(2026, 9, 28).date():
        yield 4  # the till, in the mornings until Saturday
    odd = wall.date() == datetime(2026, 9, 27).date() and wall.hour == 3
    if odd or (wall.weekday() < 5 and 9 <= wall.hour <= 16):
        yield 5
    if wall >= datetime(2026, 9, 21, 10, tzinfo=LISBON):
        yield 7


def _mac(number: int) -> MacAddress:
    return MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 0, number]))


def _address(number: int) -> IPv4Address | IPv6Address:
    return LONG if number == 7 else IPv4Address(f"192.0.2.{DEVICES[number][1]}")
