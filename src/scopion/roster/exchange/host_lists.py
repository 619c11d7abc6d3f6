"""Lists for other programs, in both directions: ``ethers`` and ``hosts`` files, host reservations of DHCP servers.

ethers(5): a MAC address and a name. hosts(5): an address and names. dnsmasq: ``dhcp-host=``. ISC dhcpd: ``host x { ...
}`` (dhcpd.conf(5)). Kea: the JSON map ``reservations`` (Kea ARM, 8.3). Names are written as DNS allows (RFC 1123, 2.1)
and made from the label: no text from the network can end a line or open a block.
"""

from __future__ import annotations

import json
import re
import unicodedata
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import Any

from scopion.model.address import Address
from scopion.model.errors import InvalidMacAddress
from scopion.model.mac import MacAddress
from scopion.roster.exchange import fields
from scopion.roster.exchange.record import AdapterRecord, DeviceRecord, RecordProblem, Records, duplicates

# Words that dnsmasq would take for a lease time, a MAC address or one of its own.
_MISTAKEN = re.compile(r"\d+[smhdw]?|[0-9a-f]{12}|ignore|infinite")
MAX_NAME = 63  # of one label of a host name (RFC 1035, 2.3.4)


@dataclass(frozen=True, slots=True)
class Written:
    """A list, and the devices that it leaves out with the reason."""

    text: str
    left_out: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class _Line:
    """One adapter of such a list."""

    mac: MacAddress | None
    address: IPv4Address | None
    name: str
    called: str


def host_name(text: str) -> str:
    """Return a name that DNS allows, made from any text; empty if nothing is left of it."""
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode().casefold()
    name = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:MAX_NAME].rstrip("-")
    return f"host-{name}"[:MAX_NAME] if _MISTAKEN.fullmatch(name) else name


def write_list(kind: str, records: Iterable[DeviceRecord]) -> Written:
    """Write a list of one kind: ethers, hosts, dnsmasq-hosts, isc-hosts, kea-hosts."""
    lines, left_out = _lines(records, kind)
    return Written(_WRITERS[kind](lines), tuple(left_out))


def read_list(kind: str, text: str) -> Records:
    """Read a list of one kind: names for adapters, or for addresses."""
    records, problems = _READERS[kind](text)
    return Records(tuple(records), (*problems, *duplicates(records)))


def _lines(records: Iterable[DeviceRecord], kind: str) -> tuple[list[_Line], list[str]]:
    lines: list[_Line] = []
    left_out: list[str] = []
    names: set[str] = set()
    taken: dict[IPv4Address, str] = {}
    needs_address, needs_mac = kind != "ethers", kind != "hosts"
    for record in records:
        called = record.label or (record.names[0].value if record.names else "") or ", ".join(map(str, record.macs))
        base = host_name(record.label or (record.names[0].value.partition(".")[0] if record.names else ""))
        if not base:
            left_out.append(f"{called} has no name")
            continue
        count = 0
        for adapter in record.adapters:
            address = next((each for each in adapter.addresses if isinstance(each, IPv4Address)), None)
            if needs_address and address is None:
                continue
            if needs_address and address is not None and address in taken:
                left_out.append(f"{called} ({adapter.mac}): {address} is {taken[address]}'s")
                continue
            count += 1
            if address is not None and needs_address:
                taken[address] = called
            lines.append(_Line(adapter.mac if needs_mac else None, address, _unique(base, names), called))
        if not count:
            left_out.append(f"{called} has no IPv4 address")
    return lines, left_out


def _unique(base: str, names: set[str]) -> str:
    name, number = base, 1
    while name in names:
        number += 1
        name = f"{base[: MAX_NAME - 4]}-{number}"
    names.add(name)
    return name


def _write_ethers(lines: Sequence[_Line]) -> str:
    return "".join(f"{line.mac} {line.name}\n" for line in lines)


def _write_hosts(lines: Sequence[_Line]) -> str:
    return "".join(f"{line.address}\t{line.name}\n" for line in sorted(lines, key=_by_address))


def _write_dnsmasq(lines: Sequence[_Line]) -> str:
    return "".join(f"dhcp-host={line.mac},{line.address},{line.name}\n" for line in sorted(lines, key=_by_address))


def _write_isc(lines: Sequence[_Line]) -> str:
    return "".join(
        f"host {line.name} {{\n  hardware ethernet {line.mac};\n  fixed-address {line.address};\n"
        f'  option host-name "{line.name}";\n}}\n'
        for line in sorted(lines, key=_by_address)
    )


def _write_kea(lines: Sequence[_Line]) -> str:
    reservations = [
        {"hw-address": str(line.mac), "ip-address": str(line.address), "hostname": line.name}
        for line in sorted(lines, key=_by_address)
    ]
    return json.dumps({"reservations": reservations}, indent=2) + "\n"


def _by_address(line: _Line) -> tuple[int, str]:
    return (int(line.address) if line.address else 0, line.name)


Read = tuple[list[DeviceRecord], list[RecordProblem]]


def _each_line(text: str, read: Callable[[str], DeviceRecord | None]) -> Read:
    records: list[DeviceRecord] = []
    problems: list[RecordProblem] = []
    for number, line in enumerate(text.splitlines(), 1):
        content = line.partition("#")[0].strip()
        if not content:
            continue
        try:
            record = read(content)
        except ValueError as error:
            problems.append(RecordProblem(number, str(error)))
            continue
        if record is not None:
            records.append(_at(record, number))
    return records, problems


def _at(record: DeviceRecord, line: int) -> DeviceRecord:
    from dataclasses import replace

    return replace(record, line=line)


def _named(mac: MacAddress, name: str, addresses: tuple[Address, ...] = ()) -> DeviceRecord:
    return DeviceRecord(adapters=(AdapterRecord(mac, addresses=addresses),), label=name)


def _read_ethers(text: str) -> Read:
    def read(line: str) -> DeviceRecord:
        parts = line.split()
        if len(parts) != 2:
            raise ValueError(f"{line[:40]!r} is not a MAC address and a name")
        return _named(fields.mac(parts[0]), parts[1])

    return _each_line(text, read)


def _read_hosts(text: str) -> Read:
    def read(line: str) -> DeviceRecord | None:
        parts = line.split()
        if len(parts) < 2:
            raise ValueError(f"{line[:40]!r} is not an address and a name")
        address = fields.address(parts[0].partition("%")[0])
        if address.is_loopback or address.is_multicast or address.is_unspecified:
            return None  # every hosts file begins with the machine itself
        return DeviceRecord(unpaired=(address,), label=parts[1].partition(".")[0])

    return _each_line(text, read)


def _read_dnsmasq(text: str) -> Read:
    def read(line: str) -> DeviceRecord | None:
        key, _, value = line.partition("=")
        if key.strip() != "dhcp-host":
            return None  # other settings of the same file
        macs: list[MacAddress] = []
        addresses: list[Address] = []
        name = ""
        for part in map(str.strip, value.split(",")):
            if part.startswith(("set:", "tag:", "id:", "net:")) or part in ("ignore", "infinite") or _is_lease(part):
                continue
            try:
                macs.append(fields.mac(part))
            except InvalidMacAddress:
                try:
                    addresses.append(fields.address(part.strip("[]")))
                except ValueError:
                    name = part
        if not macs:
            raise ValueError("this reservation names no MAC address")
        adapters = tuple(AdapterRecord(mac, addresses=tuple(addresses)) for mac in macs)
        return DeviceRecord(adapters=adapters, label=name or None)

    return _each_line(text, read)


def _is_lease(part: str) -> bool:
    return re.fullmatch(r"\d+[smhdw]?", part) is not None


_HOST = re.compile(r"\bhost\s+(?P<name>[\w.-]+)\s*\{(?P<body>[^{}]*)\}")


def _read_isc(text: str) -> Read:
    plain = "\n".join(line.partition("#")[0] for line in text.splitlines())
    records: list[DeviceRecord] = []
    problems: list[RecordProblem] = []
    for match in _HOST.finditer(plain):
        line = plain.count("\n", 0, match.start()) + 1
        statements = dict(_statement(each) for each in match["body"].split(";") if each.strip())
        try:
            mac = fields.mac(statements.get("hardware ethernet", ""))
            addresses = tuple(
                fields.address(part) for part in statements.get("fixed-address", "").split(",") if part.strip()
            )
        except ValueError as error:
            problems.append(RecordProblem(line, f"host {match['name']}: {error}"))
            continue
        records.append(_at(_named(mac, match["name"].partition(".")[0], addresses), line))
    if len(records) + len(problems) < len(re.findall(r"\bhost\s+[\w.-]+\s*\{", plain)):
        problems.append(RecordProblem(plain.count("\n") + 1, "a host { ... } block is not closed: half a file?"))
    return records, problems


def _statement(text: str) -> tuple[str, str]:
    *key, value = text.split()
    return " ".join(key), value


def _read_kea(text: str) -> Read:
    try:
        document = json.loads(re.sub(r"(?m)^[ \t]*(//|#).*$", "", text))
        reservations = list(_reservations(document))
    except json.JSONDecodeError as error:
        return [], [RecordProblem(error.lineno, f"no JSON: {error.msg}")]
    except RecursionError:
        return [], [RecordProblem(0, "not JSON that a program wrote: it is nested too deeply")]
    records: list[DeviceRecord] = []
    problems: list[RecordProblem] = []
    for number, each in enumerate(reservations, 1):
        try:
            mac = fields.mac(str(each.get("hw-address", "")))
            addresses = (fields.address(str(each["ip-address"])),) if each.get("ip-address") else ()
        except ValueError as error:
            problems.append(RecordProblem(0, f"reservation {number}: {error}"))
            continue
        name = str(each.get("hostname") or "").partition(".")[0]
        records.append(_at(DeviceRecord((AdapterRecord(mac, addresses=addresses),), label=name or None), number))
    return records, problems


def _reservations(document: Any) -> Iterable[Mapping[str, Any]]:
    """Yield every map with a hardware address in any list called reservations, at any depth."""
    if isinstance(document, dict):
        for key, value in document.items():
            if key == "reservations" and isinstance(value, list):
                yield from (each for each in value if isinstance(each, dict) and "hw-address" in each)
            else:
                yield from _reservations(value)
    elif isinstance(document, list):
        for each in document:
            yield from _reservations(each)


_WRITERS: Mapping[str, Callable[[Sequence[_Line]], str]] = {
    "ethers": _write_ethers, "hosts": _write_hosts, "dnsmasq-hosts": _write_dnsmasq, "isc-hosts": _write_isc,
    "kea-hosts": _write_kea,
}  # fmt: skip
_READERS: Mapping[str, Callable[[str], Read]] = {
    "ethers": _read_ethers, "hosts": _read_hosts, "dnsmasq-hosts": _read_dnsmasq, "isc-hosts": _read_isc,
    "kea-hosts": _read_kea,
}  # fmt: skip
KINDS = tuple(_WRITERS)
