"""Serves the bridge of a namespace to net-snmp's agent (pass_persist): BRIDGE-MIB, or Q-BRIDGE-MIB with its VLANs.

    agent.py bridge      dot1dTpFdbTable
    agent.py vlans       dot1qTpFdbTable and dot1qVlanCurrentTable

The kernel's own tables are read again after each second of questions. Ports, names and counters are the agent's own.
"""

from __future__ import annotations

import bisect
import json
import subprocess
import sys
import time
from pathlib import Path

Oid = tuple[int, ...]
BRIDGE: Oid = (1, 3, 6, 1, 2, 1, 17)
LEARNED, SELF = 3, 4  # dot1dTpFdbStatus
VLAN, TABLE = 10, 3  # the bridge is one VLAN, whose table has a number of its own (dot1qVlanFdbId)


def rows(kind: str) -> list[tuple[Oid, str, str]]:
    """What the bridge holds now, in the order of the numbers."""
    links = json.loads(_out("ip", "-j", "link", "show"))
    own = next(each for each in links if each["ifname"] == "bridge")
    ports = {each["ifname"]: each for each in links if each.get("master") == "bridge"}
    number = {}
    for name in list(ports):
        try:
            number[name] = int(Path(f"/sys/class/net/{name}/brport/port_no").read_text(), 16)
        except FileNotFoundError:  # pulled out since
            del ports[name]
    mac = own["address"].replace(":", " ")
    found: list[tuple[Oid, str, str]] = [((1, 1, 0), "octet", mac), ((1, 2, 0), "integer", str(len(ports)))]
    found += [((1, 4, 1, 2, number[name]), "integer", str(each["ifindex"])) for name, each in ports.items()]
    for entry in json.loads(_out("bridge", "-j", "fdb", "show", "br", "bridge")):
        if entry["ifname"] not in ports or entry["mac"].startswith(("33:33", "01:")):
            continue
        octets = tuple(bytes.fromhex(entry["mac"].replace(":", "")))
        state = SELF if entry.get("state") == "permanent" else LEARNED
        if kind == "vlans":
            found.append(((7, 1, 2, 2, 1, 2, TABLE, *octets), "integer", str(number[entry["ifname"]])))
        else:
            found.append(((4, 3, 1, 2, *octets), "integer", str(number[entry["ifname"]])))
            found.append(((4, 3, 1, 3, *octets), "integer", str(state)))
    if kind == "vlans":
        found.append(((7, 1, 4, 2, 1, 3, 0, VLAN), "gauge", str(TABLE)))
    table = {(*BRIDGE, *rest): (type_of, value) for rest, type_of, value in found}
    return [(oid, *table[oid]) for oid in sorted(table)]


def _out(*command: str) -> str:
    return subprocess.run(command, capture_output=True, text=True, check=True).stdout or "[]"


def serve(kind: str) -> None:
    """Answer until the agent ends."""
    read_at, table = 0.0, list[tuple[Oid, str, str]]()
    while question := sys.stdin.readline().strip():
        if question == "PING":
            print("PONG", flush=True)
            continue
        asked = tuple(map(int, sys.stdin.readline().strip().strip(".").split(".")))
        if time.monotonic() - read_at > 1.0:
            read_at, table = time.monotonic(), rows(kind)
        oids = [oid for oid, _, _ in table]
        at = bisect.bisect_right(oids, asked) if question == "getnext" else bisect.bisect_left(oids, asked)
        if at >= len(table) or (question == "get" and oids[at] != asked):
            print("NONE", flush=True)
            continue
        oid, type_of, value = table[at]
        print(f".{'.'.join(map(str, oid))}\n{type_of}\n{value}", flush=True)


if __name__ == "__main__":
    serve(sys.argv[1])
