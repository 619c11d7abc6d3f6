"""A client list as people copy it from a router's web page: text, a table, CSV, or one field a line.

There are as many layouts as routers, so no layout is known here. Fields are recognised by what they look like, and
columns by what their fields have in common; a heading only helps to tell names from other words.
"""

from __future__ import annotations

import csv
import html
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import pairwise

from scopion.attachment.neighbour_text import MAC_TEXT
from scopion.discovery.records.reading import Reading, RecordKind
from scopion.discovery.said import host_name
from scopion.model.address import Address, parse_address
from scopion.model.errors import InvalidMacAddress
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Source
from scopion.model.text import clean

# Headings of the column of names, and of columns whose words are no names, in the languages of common pages.
_NAME_HEADINGS = (
    "name", "host", "client", "device", "hostname", "gerät", "appareil", "nom", "nombre", "nome", "naam", "dispositivo",
)  # fmt: skip
_OTHER_HEADINGS = (
    "vendor", "manufacturer", "brand", "type", "status", "state", "interface", "connection", "network", "ssid", "lease",
    "expires", "signal", "rate", "speed", "time", "mode", "band", "port", "group", "action",
    "hersteller", "typ", "verbindung",
)  # fmt: skip
_WIRELESS = re.compile(
    r"\b(?:wi-?fi|wlan|wireless|2[.,]4\s*g(?:hz)?|5\s*g(?:hz)?|6\s*ghz|802\.11\w*|radio|funk)\b", re.I
)
_CABLE = re.compile(r"\b(?:ethernet|wired|lan\s?\d*|cable|kabel|gigabit|10/100\w*|eth\d*)\b", re.I)
_NOT_A_NAME = re.compile(
    r"(?:[-–—*?.\s]*|n/?a|none|null|unknown|unbekannt|inconnu|desconocido|online|offline|active|inactive|connected|"
    r"disconnected|aktiv|inaktiv|yes|no|on|off|up|down|static|dynamic|dhcp|reserved|blocked|allowed|guest|edit|delete|block|"
    r"remove|details|more|never|infinite|forever|full|half|full duplex|half duplex|"
    # A number, perhaps with its unit, also followed by another one and any text. Each part is matched whole (*+), so
    # that a long row of numbers is read once.
    r"[\d.,:/%+-]*+\s++(?:[.,:/%+-][\d.,:/%+-]*+\s++)*+\d.*|"
    r"[\d\s.,:/%+-]*+(?:dbm|[kmg]?bps|[kmgt]?bits?/s|[kmgt]bits?|[kmgt]i?b(?:/s)?|ghz|mhz|s|m|h|d|sec|min|hours?|days?|"
    r"minutes?|seconds?|am|pm)?(?:\s+\d.*)?)",
    re.I,
)
# Words of a row whose client is away, in the languages of common pages; the router keeps blocked ones off.
_ABSENT = re.compile(
    r"(?<![\w-])(?:offline|inactive|disconnected|not connected|unreachable|expired|released|abandoned|declined|blocked|"
    r"denied|inaktiv|getrennt|nicht verbunden|abgelaufen|gesperrt|blockiert|hors ligne|inactif|déconnecté|expiré|"
    r"bloqué|inactivo|desconectado|caducado|bloqueado|non connesso|disconnesso|scaduto|bloccato|losgekoppeld|"
    r"geblokkeerd)(?![\w-])",
    re.I,
)
# Words and measures of a row whose client is there.
_THERE = re.compile(
    r"\b(?:online|active|connected|associated|authori[sz]ed|aktiv|verbunden|en ligne|actif|connecté|conectado|activo|"
    r"connesso|attivo|verbonden)\b|-\d{2,3}\s*dbm|\d\s*[kmg]?bit/?s|\d\s*[kmg]bps",
    re.I,
)
_UNITS = {"w": 604_800, "d": 86_400, "t": 86_400, "h": 3_600, "s": 1, "m": 60}
_SPAN = r"\d{1,5}\s{0,8}(?:weeks?|days?|hours?|hrs?|min(?:ute)?s?|sec(?:ond)?s?|[wdhms])"
_AGO = re.compile(
    rf"((?:{_SPAN}[\s,]{{0,8}}(?:and\s{{1,8}})?){{1,7}})ago\b|\bvor\s{{1,8}}(\d{{1,5}}\s{{0,8}}(?:Tag|Stunde|Minute|Sekunde)\w*)",
    re.I,
)
_ADDRESS = re.compile(r"(?<![\w.:])(?:\d{1,3}(?:\.\d{1,3}){3}|[0-9A-Fa-f]{0,4}(?::[0-9A-Fa-f]{0,4}){2,7})(?![\w.:])")
# The text before a field, if each field has its name.
_LABEL = re.compile(
    r"^(?:(?:mac|ip|ipv4|ipv6|hardware|physical|client|host|device|address|addr|adresse|name|id)[ -]?)+\s*[:=]\s*", re.I
)
_ENUMERATED = re.compile(r"^\d{1,3}[.)](?:\s+|$)")
_BARE_MAC = re.compile(r"(?<![0-9A-Za-z])[0-9A-Fa-f]{12}(?![0-9A-Za-z])")
_MAX_CELLS = 64


@dataclass(frozen=True, slots=True)
class _Record:
    """One client's cells, and their position."""

    line: int
    cells: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class _Client:
    """What was recognised in a record."""

    line: int
    mac: MacAddress
    address: Address | None
    medium: Medium
    words: tuple[tuple[int, str], ...]  # column and text of what is none of these, and may be a name
    absent: bool  # its row says that it is away
    there: bool  # something in its row shows that it is there
    ago: timedelta | None  # how long ago its row says that it was there, or left


def read_client_list(text: str, as_of: datetime) -> Reading:
    """Read the clients of a pasted list."""
    reading = Reading(RecordKind.CLIENT_LIST)
    plain = _plain(text)
    # Twelve digits without separators may also be a serial number: they count only if the list has no other MAC
    # address.
    macs = MAC_TEXT if MAC_TEXT.search(plain) else _BARE_MAC
    records, headings, form = _records(plain, macs)
    clients = []
    for record in records:
        client = _client(record, macs)
        if client is None:
            if any(macs.search(cell) for cell in record.cells):
                reading.trouble(f"line {record.line}", "several MAC addresses in one place", " ".join(record.cells))
            continue
        clients.append(client)
    column = _name_column(clients, headings)
    for client in clients:
        name = next((word for at, word in client.words if at == column), "")
        trait = host_name(name, Source.CLIENT_LIST) if name else None
        at = as_of - client.ago if client.ago is not None else as_of
        undated = client.ago is None and (client.absent or not client.there)
        if client.absent or client.ago is not None:
            reading.absent.add(client.mac)
        if not reading.add(at, Source.CLIENT_LIST, client.mac, client.address, (trait,), client.medium, undated):
            reading.trouble(f"line {client.line}", "no MAC address of a host", str(client.mac))
    heading = _heading(headings, column) if column is not None else ""
    told = [f"a client list, {form}"]
    if column is not None:
        told.append(
            f"names from the column {heading!r}" if heading else f"names from column {column // _MAX_CELLS + 1}"
        )
    reading.about = ", ".join(told)
    return reading


def _plain(text: str) -> str:
    """Return the text, or for a page's source its cells and rows as tabs and lines."""
    if not re.search(r"<t[dr][\s>]", text, re.I):
        return text
    text = " ".join(_without(_without(text, "script"), "style").split())
    text = re.sub(r"(?i)</t[dh]\s*>", "\t", text)
    text = re.sub(r"(?i)</tr\s*>|<br\s*/?>", "\n", text)
    return html.unescape(re.sub(r"<[^<>]*>", "", text))


def _without(text: str, tag: str) -> str:
    """Return a page without the elements of a kind; one that is not closed reaches to the end.
    Linear for every page.
    """
    small, kept, at = text.casefold(), [], 0
    if len(small) != len(text):  # a letter that folds into two: positions would not agree
        small = text
    while (start := small.find(f"<{tag}", at)) >= 0:
        kept.append(text[at:start])
        end = small.find(f"</{tag}", start)
        at = len(text) if end < 0 else end
    return " ".join([*kept, text[at:]])


def _records(text: str, macs: re.Pattern[str]) -> tuple[list[_Record], tuple[str, ...], str]:
    """Return the clients' cells, the columns' headings if there are any, and the form of the list."""
    lines = [(number, line.rstrip()) for number, line in enumerate(text.splitlines(), 1)]
    with_mac = [line for _, line in lines if macs.search(line)]
    if not with_mac:
        return [], (), "without any MAC address"
    separator = _separator(with_mac)
    if separator:
        form = {"\t": "tab-separated", ",": "CSV", ";": "CSV", "|": "with bars"}[separator]
        return *_tabular([(number, _cells(line, separator)) for number, line in lines], macs), form
    alone = sum(not _LABEL.sub("", macs.sub("", line).strip()).strip(" \t-–:;,|()") for line in with_mac)
    if alone * 2 > len(with_mac):
        return list(_stacked(lines, macs)), (), "one field a line"
    columns = [(number, tuple(re.split(r"\s{2,}|\t", line.strip()))) for number, line in lines]
    return *_tabular(columns, macs), "in columns"


def _separator(lines: Sequence[str]) -> str:
    """Return what separates the cells of most lines with a MAC address; empty if nothing does."""
    for separator in ("\t", ";", ",", "|"):
        counts = Counter(len(_cells(line, separator)) - 1 for line in lines)
        count, often = counts.most_common(1)[0]
        if count and often * 2 > len(lines):
            return separator
    return ""


def _cells(line: str, separator: str) -> tuple[str, ...]:
    with suppress(csv.Error):
        for row in csv.reader([line], delimiter=separator, skipinitialspace=True):
            return tuple(cell.strip() for cell in row[:_MAX_CELLS])
    return tuple(cell.strip() for cell in line.split(separator)[:_MAX_CELLS])


def _tabular(
    rows: Sequence[tuple[int, tuple[str, ...]]], macs: re.Pattern[str]
) -> tuple[list[_Record], tuple[str, ...]]:
    """Take rows with a MAC address for clients, and the last row of words before the first of them for the heading."""
    records: list[_Record] = []
    headings: tuple[str, ...] = ()
    for number, cells in rows:
        if any(macs.search(cell) for cell in cells):
            records.append(_Record(number, cells))
        elif not records and sum(bool(re.search(r"[^\W\d]", cell)) for cell in cells) > 1:
            headings = tuple(clean(cell) for cell in cells)
    return records, headings


def _stacked(lines: Sequence[tuple[int, str]], macs: re.Pattern[str]) -> Iterator[_Record]:
    """Yield clients of one field a line: they lie between blank lines or, without those, as far apart as their MACs.

    Every client has the same fields in the same order: text that stands farther before its MAC address than with most
    clients is a heading.
    """
    blocks: list[list[tuple[int, str]]] = [[]]
    for number, line in lines:
        if line.strip():
            blocks[-1].append((number, line.strip()))
        elif blocks[-1]:
            blocks.append([])
    places = [[at for at, (_, line) in enumerate(block) if macs.search(line)] for block in blocks]
    if all(len(at) <= 1 for at in places):
        lead = Counter(at[0] for at in places if at).most_common(1)[0][0]
        for block, at in zip(blocks, places, strict=True):
            if at:
                yield _record(block[max(0, at[0] - lead) :])
        return
    dense = [each for block in blocks for each in block]
    at = [place for place, (_, line) in enumerate(dense) if macs.search(line)]
    stride = Counter(second - first for first, second in pairwise(at)).most_common(1)[0][0]
    lead = min(at[0], stride - 1)
    for place in at:
        yield _record(dense[max(0, place - lead) : place - lead + stride])


def _record(block: Sequence[tuple[int, str]]) -> _Record:
    return _Record(block[0][0], tuple(line for _, line in block))


def _client(record: _Record, macs: re.Pattern[str]) -> _Client | None:
    """Return what a record's cells are; None without a MAC address or with several."""
    found: set[MacAddress] = set()
    addresses: list[Address] = []
    medium = Medium.UNKNOWN
    words: list[tuple[int, str]] = []
    absent, there, ago = False, False, None
    for column, cell in enumerate(record.cells):
        for match in macs.finditer(cell):
            with suppress(InvalidMacAddress):
                found.add(MacAddress.parse(match[0]))
        rest = macs.sub("\t", cell)
        for match in _ADDRESS.finditer(rest):
            with suppress(ValueError):
                addresses.append(parse_address(match[0]))
        # The text around a MAC or IP address in one cell is a field of its own.
        for place, piece in enumerate(_ADDRESS.sub("\t", rest).split("\t")):
            state = clean(piece)
            ago = _ago(state) or ago
            absent = absent or _says_only(_ABSENT, state)
            there = there or _THERE.search(state) is not None
            word = clean(_ENUMERATED.sub("", _LABEL.sub("", piece.strip()))).strip("()[],;|\"' ")
            if medium is Medium.UNKNOWN and _is_medium(word):
                medium = Medium.WIRELESS if _WIRELESS.search(word) else Medium.CABLE
            elif word and not _NOT_A_NAME.fullmatch(word) and not _says_only(_ABSENT, word):
                words.append((column * _MAX_CELLS + place, word))
    if len(found) != 1:
        return None
    address = next((each for each in addresses if each.version == 4), addresses[0] if addresses else None)
    # An address shows that a client is there, unless the MAC address stands in the middle of a sentence.
    written = len(record.cells) == 1 and sum(len(word.split()) for _, word in words) > 1
    there = (there or address is not None or medium is not Medium.UNKNOWN) and not written
    return _Client(record.line, found.pop(), address, medium, tuple(words), absent, there, ago)


def _says_only(what: re.Pattern[str], text: str) -> bool:
    """Tell whether a text says this and hardly anything else: ``Offline``, ``expired 4d ago``,
    ``offline since 12:40``.
    """
    without = what.sub("", _AGO.sub("", text))
    return what.search(text) is not None and len(re.sub(r"[\W\d_]+", "", without)) <= len("since")


def _ago(text: str) -> timedelta | None:
    """Return how long ago a text says that something was: ``4d ago``, ``2 hours, 5 minutes ago``;
    None if it does not.
    """
    match = _AGO.search(text)
    if match is None:
        return None
    parts = re.findall(r"(\d{1,5})\s{0,8}([a-z])", (match[1] or match[2]).casefold())
    return timedelta(seconds=sum(int(count) * _UNITS[unit] for count, unit in parts))


def _is_medium(word: str) -> bool:
    """Tell whether a text names the medium and hardly anything else: ``Wi-Fi 5 GHz``, ``LAN 2``,
    ``wireless -62 dBm``.
    """
    without = _CABLE.sub("", _WIRELESS.sub("", word))
    return without != word and len(without.strip(" ()/-0123456789.")) <= len("connected")


def _name_column(clients: Sequence[_Client], headings: Sequence[str]) -> int | None:
    """Return the column of names: by its heading, else the column whose words differ most from row to row."""
    columns: dict[int, Counter[str]] = {}
    for client in clients:
        for column, word in client.words:
            columns.setdefault(column, Counter())[word] += 1
    if not columns:
        return None

    def worth(column: int) -> tuple[int, int, int]:
        words = _heading(headings, column).casefold().replace("-", " ").split()
        named = any(word.startswith(_NAME_HEADINGS) for word in words) and not any(
            word.startswith(_OTHER_HEADINGS) for word in words
        )
        other = any(word.startswith(_OTHER_HEADINGS) for word in words)
        return (2 if named else 0 if other else 1, len(columns[column]), -column)

    best = max(columns, key=worth)
    return best if worth(best)[0] or not headings else None


def _heading(headings: Sequence[str], column: int) -> str:
    cell = column // _MAX_CELLS
    return headings[cell] if cell < len(headings) else ""
