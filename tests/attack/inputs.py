"""Mutated inputs for everything that reads what others have written: frames, records, lists, settings, kept documents.

Each gives a value, None, or one of the errors that it is allowed; anything else ends the attack with the bytes.
``make fuzz``, or ``python -m tests.attack.inputs SECONDS [SEED]``, is this part alone, for so long; there a reading
that takes longer than any may ends it, too.
"""

from __future__ import annotations

import io
import json
import random
import sys
import tempfile
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any, NamedTuple

from scopion.alerts.message import message_from_json
from scopion.attachment.neighbour_text import read_neighbours
from scopion.attachment.ports import Ran
from scopion.attachment.udp_server import Arrival
from scopion.discovery.flow_table import counts_in
from scopion.discovery.hearing import Hearing
from scopion.discovery.kinds import load_kinds
from scopion.discovery.records.reading import RecordContext, RecordKind
from scopion.discovery.records.registry import read_record
from scopion.model.errors import DamagedRoster, MalformedFrame, NotFound, ScopionError
from scopion.model.mac import MacAddress
from scopion.operations.exchange.disable_actions import switched_off, what_acts
from scopion.operations.site.load_settings import load_settings
from scopion.roster.exchange import device_sheet as sheet
from scopion.roster.exchange import document, host_lists
from scopion.vendors.listing import read_listing
from scopion.wire.serial import event_from_json
from scopion.wireless.enforcers.enforcer import read_held
from scopion.wireless.enforcers.hostapd import list_file, with_mode
from scopion.wireless.enforcers.uci import interfaces, with_list
from scopion.wireless.list_policy import read_policy
from scopion.wireless.mac_list import read_mac_list
from scopion.wireless.radius.answer import read_answer
from scopion.wireless.radius.asking_points import Secrets
from scopion.wireless.radius.published import read_published
from scopion.wireless.radius.radius_settings import AskingSettings, RadiusSettings
from scopion.wireless.radius.responder import Memory, Responder
from scopion.wireless.radius.server_state import ServerState, read_state, state_text
from tests.frames import ACCESS_REQUEST, ACCOUNTING_REQUEST, DECODERS, EVERYTHING, RADIUS_SECRET
from tests.fuzz import attempt, damaged

_AS_OF = datetime(2026, 9, 14, 12, tzinfo=UTC)
# A datagram of 64 KB is decoded in a few milliseconds; this is far beyond, so a slow machine does not matter.
_LONGEST_S = 1.0
_MACS = frozenset([MacAddress.parse("10:c0:de:00:00:09")])


class Reader(NamedTuple):
    """What reads, samples that it understands, and the errors that it may raise."""

    read: Callable[[bytes], Any]
    samples: tuple[bytes, ...]
    allowed: tuple[type[Exception], ...] = (ScopionError,)


def _text(read: Callable[[str], Any]) -> Callable[[bytes], Any]:
    return lambda data: read(data.decode("utf-8", "surrogateescape"))


def _record(kind: RecordKind | None) -> Callable[[bytes], Any]:
    return lambda data: read_record(io.BufferedReader(io.BytesIO(data)), RecordContext(_AS_OF), kind)


def _file(folder: Path, name: str, read: Callable[[Path], Any]) -> Callable[[bytes], Any]:
    def call(data: bytes) -> Any:
        (folder / name).write_bytes(data)
        return read(folder)

    return call


def _heard(data: bytes) -> Any:
    hearing = Hearing()
    return list(hearing.take(data, _AS_OF))


def _answered() -> Callable[[bytes], Any]:
    """What answers access points; each of them asks at both ports."""
    point = AskingSettings(name="counter", address=IPv4Address("192.0.2.11"), secret="env:X")
    settings = RadiusSettings(type="radius", name="shop", network="K", access_point=(point,))
    secrets = {("shop", "counter"): Secrets(RADIUS_SECRET.decode())}
    responder = Responder([settings], secrets, lambda moment: moment, Memory())

    def answer(data: bytes) -> list[bytes | None]:
        packets = [Arrival(data, "192.0.2.11", 9, port) for port in (1812, 1813)]
        return [responder.answer(packet, _AS_OF, 0.0) for packet in packets]

    return answer


def readers(folder: Path) -> Mapping[str, Reader]:
    """Every reader by its name; those of files use a folder."""
    settings = (
        b'# kiln\nname = "Kiln"\n[watch]\ninterval_s = 60.0\nleases = ["a"]\n[alerts]\nnight = "22:00-06:00"\n'
        b'[[channel]]\ntype = "email"\nname = "m"\nto = ["o@kilnhaven.example"]\nsender = "s@kilnhaven.example"\n'
        b'host = "192.0.2.5"\npassword = "env:X"\nuser = "u"\n[[subnet]]\nrange = "192.0.2.0/24"\n'
        b'[[enforcer]]\nname = "a"\ntype = "hostapd"\nnetwork = "K"\nradio."5" = { socket = "/run/hostapd/w" }\n'
    )
    uci = (
        b"config wifi-device 'r0'\n\toption band '5g'\nconfig wifi-iface 'one'\n\toption device 'r0'\n"
        b"\toption ssid \"K \\\"x\\\"\"\n\toption macfilter 'deny'\n\tlist maclist '10:c0:de:00:00:09' # x\n"
    )
    event = {"form": "event/1", "kind": "joined", "at": "2026-09-14T12:00:00.000Z", "device": 1,
    "mac": "10:c0:de:00:00:09",
             "address": "192.0.2.9", "id": 3}  # fmt: skip
    held = {"allow": ["10:c0:de:00:00:09"], "deny": [], "mode": "allow"}
    policy = {"ssid": "K", "mode": "deny", "rules": [{"list": "deny", "mac": "10:c0:de:00:00:09", "name": "x",
              "own": False, "essential": False, "hours": "mon 08:00-18:00", "until": None}], "others": None,
              "only": [],
              "only_until": None}  # fmt: skip
    published = {"form": "radius-list/1", "at": "2026-09-14T12:00:00+00:00", "policy": policy}
    answer = {"at": "2026-09-14T12:00:00.000+00:00", "source": "192.0.2.11", "outcome": "accepted", "reason": "allowed"}
    flow = {"elem": {"val": "10:c0:de:00:00:09", "counter": {"packets": 9, "bytes": 900}}}
    message = {
        "id": "a", "site": "K", "subject": "s", "severity": "high", "at": "2026-09-14T12:00:00+00:00",
        "paragraphs": ["p"],
        "facts": [["a", "b"]], "items": [], "actions": [{"command": "c", "purpose": "p"}], "thread": "t",
        "events": [event],
        "more_events": 0, "test": False, "page": "reports/x.html",
    }  # fmt: skip
    kept = (DamagedRoster,)
    listing = b'Registry,Assignment,Organization Name,Organization Address\r\nMA-L,0CBE11,"Brackwater","Kent GB"\r\n'
    return {
        "frames heard": Reader(_heard, EVERYTHING, ()),
        "dnsmasq": Reader(_record(RecordKind.DNSMASQ), (b"1789373400 10:c0:de:00:00:09 192.0.2.9 till 01:10:c0\n",)),
        "isc-dhcpd": Reader(
            _record(RecordKind.ISC_DHCPD),
            (
                b"lease 192.0.2.9 {\n starts 1 2026/09/14 08:10:00;\n cltt epoch 1789373400;\n hardware ethernet "
                b'10:c0:de:00:00:09;\n uid "\\001x";\n client-hostname "till";\n}\n',
            ),
        ),
        "kea": Reader(
            _record(RecordKind.KEA),
            (
                b"address,hwaddr,client_id,valid_lifetime,expire,hostname,state\n"
                b"192.0.2.9,10:c0:de:00:00:09,01:10,3600,1789373400,till,0\n",
            ),
        ),
        "neighbours": Reader(
            _record(RecordKind.NEIGHBOURS),
            (b"192.0.2.9 dev eth0 lladdr 10:c0:de:00:00:09 REACHABLE\n? (192.0.2.9) at 10:c0:de:0:0:9 on en0\n",),
        ),
        "neighbour text": Reader(
            _text(lambda text: list(read_neighbours(text))), (b"192.0.2.9 10-c0-de-00-00-09 x\n",), ()
        ),
        "client-list": Reader(
            _record(RecordKind.CLIENT_LIST),
            (
                b"Name\tMAC\tIP\nTill\t10:C0:DE:00:00:09\t192.0.2.9\nPhone\t6C:D1:9E:08:40:90\toffline 4d ago\n",
                b"<table><tr><td>Till</td><td>10:c0:de:00:00:09</td><td>192.0.2.9</td></tr></table>",
            ),
        ),
        "capture": Reader(_record(RecordKind.CAPTURE), DECODERS["capture"].samples),
        "anything": Reader(_record(None), (b"192.0.2.9 10:c0:de:00:00:09 till\n",)),
        "sheet": Reader(
            _text(sheet.read_sheet), (b'standing,label,macs,because\r\nknown,"Till, 1",10:c0:de:00:00:09,ours\r\n',)
        ),
        "document": Reader(
            _text(document.read_document),
            (b'{"form": "scopion-devices", "version": 1, "devices": [{"macs": ["10:c0:de:00:00:09"]}]}',),
        ),
        "lines": Reader(
            _text(document.read_lines), (b'{"adapters": [{"mac": "10:c0:de:00:00:09"}], "label": "till"}\n',)
        ),
        **{
            kind: Reader(_text(lambda text, kind=kind: host_lists.read_list(kind, text)), (sample,))  # type: ignore[misc]
            for kind, sample in (
                ("ethers", b"10:c0:de:00:00:09 till\n"),
                ("hosts", b"192.0.2.9 till\n"),
                ("dnsmasq-hosts", b"dhcp-host=10:c0:de:00:00:09,192.0.2.9,till,12h\n"),
                ("isc-hosts", b"host till { hardware ethernet 10:c0:de:00:00:09; fixed-address 192.0.2.9; }\n"),
                ("kea-hosts", b'{"reservations": [{"hw-address": "10:c0:de:00:00:09", "ip-address": "192.0.2.9"}]}'),
            )
        },
        "mac list": Reader(_text(lambda text: read_mac_list(text.splitlines())), (b"10:c0:de:00:00:09, till # x\n",)),
        "listing": Reader(lambda data: read_listing(data, "oui.csv", least_rows=1), (listing,)),
        "site.toml": Reader(_file(folder, "site.toml", load_settings), (settings,)),
        "what acts": Reader(_text(lambda text: (what_acts(text), what_acts(switched_off(text)))), (settings,), ()),
        "kinds.toml": Reader(
            _file(folder, "kinds.toml", load_kinds), (b'[[rule]]\nkind = "till"\nsays = "x"\nname = ["till"]\n',)
        ),
        "nft counters": Reader(
            _text(lambda text: counts_in("router", Ran(0, text, ""))),
            (json.dumps({"nftables": [{"set": {"name": each, "elem": [flow]}} for each in ("up", "down")]}).encode(),),
        ),
        "uci": Reader(
            _text(
                lambda text: [
                    with_list(text, section, "allow", ["10:c0:de:00:00:09"])
                    for found in interfaces(text, 'K "x"').values()
                    for section in found
                ]
            ),
            (uci,),
            (),
        ),
        "hostapd files": Reader(
            _text(lambda text: (list_file(text, _MACS), with_mode(text, "wlan0", "1"))),
            (b"# x\n10:c0:de:00:00:01 1\n", b"interface=wlan0\nssid=K\nmacaddr_acl=0\nbss=wlan1\n"),
            (),
        ),
        "event": Reader(
            lambda data: event_from_json(json.loads(data)), (json.dumps(event).encode(),), (MalformedFrame, ValueError)
        ),
        "held": Reader(lambda data: read_held(json.loads(data)), (json.dumps(held).encode(),), (*kept, ValueError)),
        "policy": Reader(
            lambda data: read_policy(json.loads(data)), (json.dumps(policy).encode(),), (*kept, ValueError)
        ),
        "radius questions": Reader(_answered(), (ACCESS_REQUEST, ACCOUNTING_REQUEST), ()),
        "radius list": Reader(_text(read_published), (json.dumps(published).encode(),), (*kept, ValueError)),
        "radius state": Reader(_text(read_state), (state_text(ServerState()).encode(),), (*kept, ValueError)),
        "radius answers": Reader(
            lambda data: read_answer(json.loads(data)), (json.dumps(answer).encode(),), (*kept, ValueError)
        ),
        "message": Reader(
            _text(message_from_json), (json.dumps(message).encode(),), (ValueError, KeyError, TypeError, AttributeError)
        ),
    }


def attack(count: int, seed: int, longest_s: float = float("inf")) -> dict[str, int]:
    """So many inputs in all, 19 of 20 for the decoders of frames. How many each got; raises what none should raise."""
    chance = random.Random(seed)
    tried: dict[str, int] = {}

    def one(name: str, read: Callable[[bytes], Any], samples: tuple[bytes, ...], *allowed: type[Exception]) -> None:
        data = damaged(chance.choice(samples), chance)
        began = time.monotonic()
        attempt(name, read, data, allowed)
        if time.monotonic() - began > longest_s:
            raise AssertionError(f"{name} took {time.monotonic() - began:.1f} s for {data.hex()}")
        tried[name] = tried.get(name, 0) + 1

    with tempfile.TemporaryDirectory() as folder:
        others = readers(Path(folder))
        for name, reader in others.items():  # each understands its samples, or nothing would be tried
            for sample in reader.samples:
                reader.read(sample)
            assert reader.samples, name
        while sum(tried.values()) < count:
            for _ in range(19):
                for name, decoder in DECODERS.items():
                    one(name, decoder.decode, decoder.samples, MalformedFrame)
            name = chance.choice(list(others))
            for _ in range(len(DECODERS)):
                one(name, others[name].read, others[name].samples, *others[name].allowed, NotFound)
    return tried


if __name__ == "__main__":
    end = time.monotonic() + (float(sys.argv[1]) if len(sys.argv) > 1 else 60.0)
    first = int(sys.argv[2]) if len(sys.argv) > 2 else random.randrange(10**9)
    print(f"seed {first}", flush=True)
    came: dict[str, int] = {}
    while time.monotonic() < end:
        for reader_name, number in attack(20_000, first, _LONGEST_S).items():
            came[reader_name] = came.get(reader_name, 0) + number
        first += 1
    import resource

    print(
        f"{sum(came.values()):,} inputs for {len(came)} decoders and readers, each a value or a clean refusal; "
        f"peak {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10} MB"
    )
