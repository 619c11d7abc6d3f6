"""The table of counters in a Linux router's firewall (nftables): octets by MAC address, on one interface of its.

It is a table of its own; no other is read or changed. Nothing is refused or delayed by it: each frame is only counted.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from scopion.attachment.ports import Job, Program, Ran
from scopion.model.errors import EnforcerUnreachable, InvalidMacAddress, Refused
from scopion.model.mac import MacAddress
from scopion.model.text import clean

TABLE = "scopion_usage"
# A made-up address a second for an hour: more are not counted, so that no one fills the router's memory.
_MOST = 4096
_FORGOTTEN_S = 86_400  # of an adapter that was silent for a day the counter goes
_PRIORITY = -500  # before all that may drop or change a frame
_ETHERNET_HEADER = 14  # octets that the kernel counts on the way out, and not on the way in
_UP, _DOWN = "up", "down"


@dataclass(frozen=True, slots=True)
class FlowCount:
    """What one adapter has sent and got through the router's interface, without the headers of Ethernet."""

    mac: MacAddress
    up: int  # octets
    down: int


def set_up_jobs(interface: str) -> list[Job]:
    """Return what puts the table there, in the JSON of libnftables-json(5); all of it is one transaction."""
    table = {"family": "netdev", "name": TABLE}
    own = {"family": "netdev", "table": TABLE}
    counter = [{"counter": None}]
    commands: list[dict[str, Any]] = [
        {"add": {"table": table}},
        {"delete": {"table": table}},
        {"add": {"table": table}},
    ]
    for name, hook, field in ((_UP, "ingress", "saddr"), (_DOWN, "egress", "daddr")):
        address = {"payload": {"protocol": "ether", "field": field}}
        kept = {"type": "ether_addr", "size": _MOST, "flags": ["timeout"], "timeout": _FORGOTTEN_S, "stmt": counter}
        hooked = {"type": "filter", "hook": hook, "dev": interface, "prio": _PRIORITY, "policy": "accept"}
        count = {"set": {"op": "update", "elem": address, "set": f"@{name}", "stmt": counter}}
        commands.append({"add": {"set": {**own, "name": name, **kept}}})
        commands.append({"add": {"chain": {**own, "name": name, **hooked}}})
        commands.append({"add": {"rule": {**own, "chain": name, "expr": [count]}}})
    return [Program(("nft", "-j", "-f", "-"), json.dumps({"nftables": commands})), *questions()]


def take_down_jobs() -> list[Job]:
    """Return what removes the table; it need not be there."""
    table = {"family": "netdev", "name": TABLE}
    commands = [{"add": {"table": table}}, {"delete": {"table": table}}]
    return [Program(("nft", "-j", "-f", "-"), json.dumps({"nftables": commands}))]


def questions() -> list[Job]:
    """Return what reads the table."""
    return [Program(("nft", "-j", "list", "table", "netdev", TABLE))]


def counts_in(name: str, ran: Ran) -> list[FlowCount]:
    """Return the counts by the answer of a router. Raises Refused if there is no table, EnforcerUnreachable."""
    require_done(name, ran)
    try:
        objects: Sequence[Mapping[str, Any]] = json.loads(ran.output)["nftables"]
        sets = {each["set"]["name"]: each["set"].get("elem", ()) for each in objects if "set" in each}
        up = dict(_element(each, 0) for each in sets[_UP])
        down = dict(_element(each, _ETHERNET_HEADER) for each in sets[_DOWN])
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, InvalidMacAddress):
        raise EnforcerUnreachable(f"{name}: nft answers {clean(ran.output, 60)!r}") from None
    return [FlowCount(mac, up.get(mac, 0), down.get(mac, 0)) for mac in sorted({*up, *down}) if not mac.is_multicast]


def require_done(name: str, ran: Ran) -> None:
    """Raise Refused or EnforcerUnreachable if the router did not do what it was asked for."""
    if ran.code == 0:
        return
    said = clean(next((line for line in ran.errors.splitlines() if line.strip()), "no reason was given"), 120)
    if "Operation not permitted" in ran.errors:
        raise EnforcerUnreachable(f"{name}: this account may not read the firewall: run as root")
    if "No such file" in ran.errors or "does not exist" in ran.errors:
        raise Refused(f"{name} does not count yet: scopion usage --set-up {name!r} asks it to")
    raise EnforcerUnreachable(f"{name}: nft says {said.replace('Error: ', '')!r}")


def _element(element: Mapping[str, Any], header: int) -> tuple[MacAddress, int]:
    inner = element["elem"]
    counter = inner["counter"]
    octets, packets = int(counter["bytes"]), int(counter["packets"])
    if not 0 <= octets < 2**63 or not 0 <= packets <= octets:
        raise ValueError("not a count")
    return MacAddress.parse(str(inner["val"])), max(0, octets - header * packets)
