"""Client lists copied from routers' pages: made-up layouts with their truth, and random tables in random layouts."""

from __future__ import annotations

import html
import io
import json
import random
import unittest
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from ipaddress import IPv4Network
from pathlib import Path
from typing import Any

from scopion.discovery.client_lists.read import read_client_list
from scopion.discovery.records.reading import Reading, RecordContext
from scopion.discovery.records.registry import read_record
from scopion.model.errors import NotFound, UsageError
from scopion.model.mac import MacAddress, Notation
from scopion.model.observation import TraitKind
from tests.support import ROOT

LAYOUTS = ROOT / "tests/data/client-lists"
AS_OF = datetime(2026, 9, 14, 12, tzinfo=UTC)
SUBNETS = tuple(map(IPv4Network, ("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24")))
CONTEXT = RecordContext(AS_OF, SUBNETS)

# One row of headings a language: name, address, MAC address, state, lease.
HEADINGS = (
    ("Host name", "IP address", "MAC address", "Status", "Lease time left"),
    ("Gerätename", "IP-Adresse", "MAC-Adresse", "Zustand", "Restzeit"),
    ("Nom de l'appareil", "Adresse IP", "Adresse MAC", "État", "Bail"),
    ("Nombre", "Dirección IP", "Dirección MAC", "Estado", "Concesión"),
    ("Nome do dispositivo", "Endereço IP", "Endereço MAC", "Estado", "Concessão"),
    ("Nome host", "Indirizzo IP", "Indirizzo MAC", "Stato", "Scadenza"),
    ("Nazwa hosta", "Adres IP", "Adres MAC", "Stan", "Czas dzierżawy"),
    ("主机名", "IP地址", "MAC地址", "状态", "剩余租期"),
    ("ホスト名", "IPアドレス", "MACアドレス", "状態", "リース期間"),
)
FIRST = (
    "kiln",
    "glaze",
    "wheel",
    "office",
    "studio",
    "shop",
    "Maria's",
    "front desk",
    "Töpfer",
    "depot",
    "café",
    "old",
)
SECOND = (
    "laptop",
    "tablet",
    "phone",
    "printer",
    "camera",
    "tv",
    "sensor",
    "speaker",
    "scale",
    "console",
    "reader",
    "pc",
)


@dataclass(frozen=True)
class Row:
    """One client of a made-up table."""

    name: str
    address: str
    mac: MacAddress
    here: bool
    lease: str


class Layouts(unittest.TestCase):
    def test_every_layout_is_read_as_it_is(self) -> None:
        """Every MAC address, address and name is right; no client is there that is not; nothing is left unread."""
        found = layouts()
        self.assertGreaterEqual(len(found), 60)
        for path, truth in found:
            with self.subTest(layout=str(path.relative_to(LAYOUTS))):
                reading = read_client_list(path.read_text(encoding="utf-8"), CONTEXT)
                said = said_of(reading)
                self.assertEqual(set(said), {each["mac"] for each in truth["clients"]}, reading.about)
                for wanted in truth["clients"]:
                    told = {key: said[wanted["mac"]][key] for key in wanted if wanted[key] is not None}
                    self.assertEqual(told, {key: each for key, each in wanted.items() if each is not None})
                self.assertEqual([str(each) for each in reading.problems], [])

    def test_random_tables_in_random_layouts(self) -> None:
        """Of the names, addresses and MAC addresses of random tables in random layouts 99 % are read right."""
        right = total = 0
        wrong: list[str] = []
        for seed in range(400):
            chance = random.Random(seed)
            rows = random_rows(chance)
            render = chance.choice(RENDERERS)
            text = render(rows, chance)
            said = said_of(read_client_list(text, CONTEXT))
            for row in rows:
                told = said.get(str(row.mac), {})
                fields = [bool(told), told.get("address") == row.address, told.get("name") == row.name]
                right, total = right + sum(fields), total + len(fields)
                if not all(fields):
                    wrong.append(f"{seed} {render.__name__}: {row} read as {told}\n{text[:400]}")
        self.assertGreater(right / total, 0.99, "\n".join(wrong[:12]))

    def test_what_is_not_read_is_told(self) -> None:
        """Every line that holds a MAC address and was not read is told with its number; nothing becomes of it."""
        text = (
            "till\t192.0.2.50\t54:b1:a3:7c:00:50\nkiln\t192.0.2.51\t54:b1:a3:7c:00:51\n"
            "bridge 54:b1:a3:7c:00:52 54:b1:a3:7c:00:53 both\ngroup\t224.0.0.1\t01:00:5e:00:00:01\n"
        )
        reading = read_client_list(text, CONTEXT)
        self.assertEqual(len(reading.observations), 2)
        self.assertEqual({each.where for each in reading.problems}, {"line 3", "line 4"})

    def test_what_is_no_list_is_refused_in_words(self) -> None:
        """Without a MAC address the message says what to copy; more than 10 MB, or no text, is refused."""
        for data, error, words in (
            (b"Attached devices\ntill 192.0.2.50\n", NotFound, "copy the table"),
            (b"x" * ((10 << 20) + 1), UsageError, "10 MB"),
            (b"\x7fELF\0\0\0", UsageError, "neither text"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(error, words):
                read_bytes(data)
        latin = "Gerät;IP;MAC\nTöpferscheibe;192.0.2.77;00:1f:a8:9b:e2:77\n"
        for encoding in ("utf-8", "latin-1", "cp1252", "utf-16", "utf-8-sig"):
            with self.subTest(encoding=encoding):
                (read,) = said_of(read_bytes(latin.encode(encoding))).values()
                self.assertEqual(read["name"], "Töpferscheibe")


def read_bytes(data: bytes) -> Reading:
    """Read a file of these bytes."""
    raw = io.BytesIO(data)
    return read_record(io.BufferedReader(raw), CONTEXT)


def layouts() -> list[tuple[Path, Any]]:
    """Return every layout with its truth."""
    found = []
    for truth in sorted(LAYOUTS.glob("*/*.json")):
        stem = truth.name.removesuffix(".json")
        (text,) = [each for each in truth.parent.glob(f"{stem}.*") if each != truth]
        found.append((text, json.loads(truth.read_text(encoding="utf-8"))))
    return found


def said_of(reading: Reading) -> dict[str, dict[str, Any]]:
    """Return what was read of each client, in the words of the truth files."""
    found = {}
    for seen in reading.observations:
        assert seen.mac is not None
        client = reading.clients.get(seen.mac)
        dated = not seen.undated and seen.mac not in reading.absent
        found[str(seen.mac)] = {
            "mac": str(seen.mac),
            "address": str(seen.address) if seen.address else None,
            "name": next((each.value for each in seen.traits if each.kind is TraitKind.NAME), ""),
            "here": dated and seen.at == AS_OF,
            "medium": str(seen.medium),
            "seen": f"{seen.at:%Y-%m-%dT%H:%M:%S}",
            "band": client.band if client else "",
            "ssid": client.ssid if client else "",
            "signal": client.signal if client else None,
        }
    return found


def random_rows(chance: random.Random) -> list[Row]:
    """Return a table of 2 to 12 clients with different names."""
    count = chance.randint(2, 12)
    names = chance.sample([f"{first} {second}" for first in FIRST for second in SECOND], count)
    names = [chance.choice((name, name.replace(" ", "-"), f"{name}-{number}")) for number, name in enumerate(names)]
    hosts = chance.sample(range(2, 250), count)
    subnet = chance.choice(("192.0.2", "198.51.100"))
    return [
        Row(
            name, f"{subnet}.{host}",
            MacAddress(bytes([chance.choice((0x10, 0x54, 0x7C, 0xDA)), *chance.randbytes(5)])),
            chance.random() < 0.7, f"{chance.randint(0, 23):02}:{chance.randint(0, 59):02}:{chance.randint(0, 59):02}",
        )
        for name, host in zip(names, hosts, strict=True)
    ]  # fmt: skip


def columns(rows: Sequence[Row], chance: random.Random) -> tuple[list[str], list[list[str]]]:
    """Return headings and cells in a random order, with or without state and lease."""
    notation = chance.choice(list(Notation))
    words = chance.choice(HEADINGS)
    order = [0, 1, 2, *(each for each in (3, 4) if chance.random() < 0.5)]
    chance.shuffle(order)
    cells = [
        [row.name, row.address, row.mac.written(notation), "online" if row.here else "offline", row.lease]
        for row in rows
    ]
    return [words[at] for at in order], [[each[at] for at in order] for each in cells]


def separated(rows: Sequence[Row], chance: random.Random) -> str:
    """Cells with a sign between them, with headings or without."""
    sign = chance.choice(("\t", ";", ",", "|", " | ", "~"))
    headings, cells = columns(rows, chance)
    lines = [sign.join(each) for each in cells]
    return "\n".join([sign.join(headings), *lines] if chance.random() < 0.7 else lines)


def fixed(rows: Sequence[Row], chance: random.Random) -> str:
    """Columns of a fixed width."""
    headings, cells = columns(rows, chance)
    table = [headings, *cells]
    widths = [max(len(each[at]) for each in table) + chance.randint(1, 3) for at in range(len(headings))]
    lines = ["".join(f"{cell:{width}}" for cell, width in zip(each, widths, strict=True)).rstrip() for each in table]
    return "\n".join(lines if chance.random() < 0.7 else lines[1:])


def page(rows: Sequence[Row], chance: random.Random) -> str:
    """A page's source: a table, or boxes in boxes, perhaps on one line."""
    headings, cells = columns(rows, chance)
    outer, inner, cell = chance.choice(
        (("table", "tr", "td"), ("div", "div", "span"), ("ul", "li", "div"), ("section", "div", "p"))
    )
    between = chance.choice(("", "\n"))
    lines = [
        f"<{inner} class=r>{between.join(f'<{cell}>{html.escape(each)}</{cell}>' for each in line)}</{inner}>"
        for line in cells
    ]
    if cell == "td" and chance.random() < 0.7:
        lines.insert(0, f"<tr>{''.join(f'<th>{each}</th>' for each in headings)}</tr>")
    return f"<html><body><h1>Clients</h1>{between}<{outer}>{between.join(lines)}</{outer}></body></html>"


def script(rows: Sequence[Row], chance: random.Random) -> str:
    """Data of a script: arrays, objects, or a string with everything in it."""
    headings, cells = columns(rows, chance)
    form = chance.randrange(3)
    if form == 0:
        return f"var list = {json.dumps(cells, ensure_ascii=False, indent=chance.choice((None, 1)))};"
    if form == 1:
        listed = [dict(zip(headings, each, strict=True)) for each in cells]
        return json.dumps({"clients": listed}, ensure_ascii=False, indent=chance.choice((None, 2)))
    between, inner = chance.choice(((";", ","), ("|", ";"), ("<", ">"), ("#", ",")))
    return f'var s = "{between.join(inner.join(each) for each in cells)}";'


def labels(rows: Sequence[Row], chance: random.Random) -> str:
    """One field a line with its label, with blank lines between the clients or without."""
    headings, cells = columns(rows, chance)
    sign = chance.choice((": ", " : ", "=", ":\t"))
    blocks = ["\n".join(f"{label}{sign}{cell}" for label, cell in zip(headings, each, strict=True)) for each in cells]
    return chance.choice(("\n", "\n\n")).join(blocks)


def stacked(rows: Sequence[Row], chance: random.Random) -> str:
    """One cell a line, with the headings above it or without, as some browsers copy a table."""
    headings, cells = columns(rows, chance)
    if chance.random() < 0.5:
        return "\n".join([*headings, *(cell for each in cells for cell in each)])
    return chance.choice(("\n", "\n\n")).join("\n".join(each) for each in cells)


def merged(rows: Sequence[Row], chance: random.Random) -> str:
    """Name, address and MAC address in one cell or on two lines, with words around them."""
    notation = chance.choice((Notation.COLON, Notation.HYPHEN, Notation.DOT, Notation.HYPHEN_FOUR))
    form = chance.choice((
        "{0} ({1}) {2} {3}", "{0} {1} {2}\t{3}", "{0}\n{1} | {2}", "{0}, {1}, {2} - {3}", "{0}\n{1}\n{2}\n{3}\nEdit",
    ))  # fmt: skip
    return "\n".join(
        form.format(row.name, row.address, row.mac.written(notation), "online" if row.here else "offline")
        for row in rows
    )


RENDERERS: tuple[Callable[[Sequence[Row], random.Random], str], ...] = (
    separated, fixed, page, script, labels, stacked, merged,
)  # fmt: skip


if __name__ == "__main__":
    unittest.main()
