"""A made-up site of a hundred places with a sensor each, all with the very same range and 250 devices of their own."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Iterator
from contextlib import closing
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

from scopion.model.batch import Batch, ScanFacts, SensorClocks, Sighting
from scopion.model.mac import MacAddress
from scopion.model.observation import Observation, Source
from scopion.model.targets import Targets
from scopion.roster.spool.spool import Spool
from scopion.wire.sensor_documents import batch_to_json

SENSORS, DEVICES = 100, 250
RANGE = IPv4Network("192.0.2.0/24")
MINUTE, MINUTES = timedelta(minutes=1), 1440
BOOTED_BEFORE_S = 40_000.0
# Of the devices of a place so many come and go during a day: each is away for three hours, one after the other.
_GUESTS, _AWAY = 25, 180


def name_of(sensor: int) -> str:
    """Return the name of a sensor."""
    return f"s{sensor:02}"


def place_of(sensor: int) -> str:
    """Return the name of its place."""
    return f"place {sensor:02}"


def settings(broker: str = 'host = "127.0.0.1"', more: str = "") -> str:
    """Return ``site.toml`` of the site, with these lines for its broker, and more."""
    text = f'name = "many"\nplace = "main"\n{more}\n[broker]\ntopics = "many"\n{broker}\n'
    for sensor in range(SENSORS):
        text += f'[[sensor]]\nname = "{name_of(sensor)}"\nplace = "{place_of(sensor)}"\nsilent_s = 600\n'
        text += f'[[subnet]]\nrange = "{RANGE}"\nplace = "{place_of(sensor)}"\nlearning_days = 0\n'
    return text


def mac_of(sensor: int, device: int) -> MacAddress:
    """Return the MAC address of a device."""
    return MacAddress(bytes([0x10, 0xC0, 0xDE, sensor >> 8, sensor & 0xFF, device]))


def address_of(device: int) -> IPv4Address:
    """Return its address, the same in all places."""
    return RANGE[2 + device]


def sighting(sensor: int, device: int, at: datetime) -> Observation:
    """Return that a device answered."""
    return Observation(mac_of(sensor, device), address_of(device), at, Source.ARP, subnet=RANGE)


def sweep(sensor: int, step: int, at: datetime, answered: int) -> ScanFacts:
    """Return a complete scan that has just ended."""
    return ScanFacts(
        step, at - timedelta(seconds=4), at, RANGE, Targets.of_subnet(RANGE), "eth0", "arp", 254, answered, 2, True, 3,
        1.5, gateway=address_of(0), gateway_mac=mac_of(sensor, 0), looking_since=at - timedelta(days=2),
    )  # fmt: skip


def minute(sensor: int, number: int, clocks: SensorClocks, devices: range | list[int]) -> bytes:
    """Return the batch of a minute: who answered the sweep that has just ended."""
    at = clocks.at - timedelta(seconds=1)
    seen = tuple(Sighting(1, sighting(sensor, each, at - timedelta(seconds=2))) for each in devices)
    scans = (sweep(sensor, 1, at, len(seen)),)
    life = f"life{sensor}"
    batch = Batch(name_of(sensor), place_of(sensor), life, number, number - 1, clocks, "1.0", seen, scans)
    return batch_to_json(batch)


def newcomer(sensor: int, number: int, clocks: SensorClocks, mac: MacAddress, address: IPv4Address) -> bytes:
    """Return the batch that is sent at once when a device was heard for the first time."""
    seen = Observation(mac, address, clocks.at - timedelta(milliseconds=50), Source.ARP, subnet=RANGE)
    life = f"life{sensor}"
    batch = Batch(name_of(sensor), place_of(sensor), life, number, number - 1, clocks, "1.0", (Sighting(1, seen),))
    return batch_to_json(batch)


def days_without_a_line(began: datetime) -> Iterator[tuple[int, list[bytes]]]:
    """Yield what each sensor has to tell after a day without a line: what a sensor's own file makes of such a day.

    One file is played, minute by minute; the others differ from it in their names and MAC addresses only.
    """
    with (
        tempfile.TemporaryDirectory() as name,
        closing(Spool.open(Path(name), name_of(0), place_of(0), "1.0")) as spool,
    ):
        spool.close_batch(_clocks(began, 0))
        for number in range(1, MINUTES + 1):
            at = began + number * MINUTE
            here = [each for each in range(DEVICES) if not _is_away(each, number)]
            seen = [sighting(0, each, at - timedelta(seconds=2)) for each in here]
            spool.note(seen, sweep(0, 0, at, len(seen)), _clocks(began, number))
        spool.close_batch(_clocks(began, MINUTES))
        batches = [octets for _, octets in spool.batches(0, 1000)]
    for sensor in range(SENSORS):
        yield sensor, [_as_of(octets, sensor) for octets in batches]


def _is_away(device: int, number: int) -> bool:
    since = number - device * (MINUTES - _AWAY) // _GUESTS
    return 0 < device <= _GUESTS and 0 <= since < _AWAY


def _clocks(began: datetime, number: int) -> SensorClocks:
    return SensorClocks(began + number * MINUTE, "boot", BOOTED_BEFORE_S + number * 60.0)


def _as_of(octets: bytes, sensor: int) -> bytes:
    """Return the batch as another sensor would have made it."""
    text = octets.decode().replace(str(mac_of(0, 0))[:-2], str(mac_of(sensor, 0))[:-2])
    whole = json.loads(text) | {"sensor": name_of(sensor), "place": place_of(sensor), "life": f"life{sensor}"}
    return json.dumps(whole, separators=(",", ":")).encode()
