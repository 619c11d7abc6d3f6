"""nftables in the bridge family: the firewall of a Linux router or access point whose radios are ports of a bridge.

It has a table of its own for each network, and touches nobody else's. A whole list is replaced in one transaction, so
that there is no moment without one. Whoever is refused stays associated, and gets nowhere.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from scopion.attachment.ports import Shell
from scopion.model.errors import EnforcerUnreachable, InvalidMacAddress, Refused
from scopion.model.mac import MacAddress
from scopion.model.text import clean
from scopion.roster.lists import ListMode
from scopion.wireless.enforcers.base import Act, Effect, Held, Station, Step, Traits
from scopion.wireless.settings import BridgePort, NftablesSettings

_PRIORITY = -200  # before the filters of others (nft(8): filter is -200 in the bridge family, and equals take turns)


class BridgeFirewall:
    """Implements ``Enforcer``."""

    def __init__(self, settings: NftablesSettings, open_shell: Callable[[], Shell]) -> None:
        self.name = settings.name
        self.ssid = settings.network
        self.capacity = settings.holds
        self.traits = Traits(
            Effect.DROPS,
            reads_stations=False,
            atomic=True,
            survives="the rules are gone when the machine restarts: the watch pushes them again",
        )
        self.table = "scopion_" + (re.sub(r"\W+", "_", settings.name, flags=re.ASCII).strip("_").lower() or "lists")
        self._radio: dict[str, BridgePort] = dict(settings.radio.items())
        self._open_shell = open_shell
        self._shell: Shell | None = None

    def radios(self) -> tuple[str, ...]:
        """As the settings name them."""
        return tuple(self._radio)

    def check(self, radio: str) -> None:
        """That the interface is there and a port of a bridge: rules on another would do nothing."""
        interface = self._radio[radio].interface
        ran = self._run(["ip", "-j", "-d", "link", "show", "dev", interface])
        if ran.code != 0:
            raise Refused(f"{self.name} has no interface {interface!r}: mend [[enforcer]] in site.toml")
        try:
            (link,) = json.loads(ran.output)
        except ValueError:
            raise EnforcerUnreachable(f"{self.name}: ip answers {clean(ran.output, 60)!r}") from None
        if "master" not in link:
            raise Refused(
                f"{interface!r} of {self.name} is no port of a bridge, so that the bridge's firewall does not see it"
            )

    def held(self, radio: str) -> Held:
        """From its own table; nothing if it has none yet."""
        return self._read()[0].get(radio, Held(mode=ListMode.OFF))

    def take(self, radio: str, step: Step) -> None:
        """Replace the list of a radio, the others' stay; in one transaction."""
        if step.act is not Act.REPLACE:
            return  # nobody can be disconnected here: whoever is refused gets nowhere
        assert step.held is not None
        wanted = {**self._read()[0], radio: step.held}
        self._apply(self._ruleset(wanted))

    def keep(self, radio: str, held: Held) -> None:
        """It has no file of its own: the watch looks after it."""

    def stations(self, radio: str) -> Sequence[Station]:
        """A firewall knows none."""
        return ()

    def attempts(self, radio: str) -> Mapping[MacAddress, int]:
        """Frames that were dropped since the list was put in place, by who sent them."""
        return self._read()[1].get(radio, {})

    def close(self) -> None:
        """Log out."""
        if self._shell is not None:
            self._shell.close()
            self._shell = None

    def _read(self) -> tuple[dict[str, Held], dict[str, dict[MacAddress, int]]]:
        ran = self._run(["nft", "-j", "list", "table", "bridge", self.table])
        if ran.code != 0:
            if "No such file" in ran.errors or "does not exist" in ran.errors:
                return {}, {}
            raise EnforcerUnreachable(f"{self.name}: {_said(ran.errors)}")
        try:
            objects = json.loads(ran.output)["nftables"]
            found = {each["set"]["name"]: each["set"] for each in objects if "set" in each}
        except (ValueError, KeyError, TypeError):
            raise EnforcerUnreachable(f"{self.name}: nft answers {clean(ran.output, 60)!r}") from None
        held, counted = {}, {}
        for radio in self.radios():
            for mode in (ListMode.ALLOW, ListMode.DENY):
                listed = found.get(_set(mode, radio))
                if listed is not None:
                    counts = dict(map(self._element, listed.get("elem", ())))
                    macs = frozenset(counts)
                    allowed = mode is ListMode.ALLOW
                    held[radio] = Held(macs if allowed else frozenset(), frozenset() if allowed else macs, mode)
                    counted[radio] = {} if allowed else {mac: count for mac, count in counts.items() if count}
            others = found.get(_others(radio))
            if others is not None:
                counted[radio] = {mac: count for mac, count in map(self._element, others.get("elem", ())) if count}
        return held, counted

    def _element(self, element: Any) -> tuple[MacAddress, int]:
        """An address of a set, with how many frames were counted."""
        value, packets = element, 0
        if isinstance(element, dict):
            inner = element.get("elem", {})
            value, packets = inner.get("val"), int(inner.get("counter", {}).get("packets", 0))
        try:
            return MacAddress.parse(str(value)), packets
        except InvalidMacAddress:
            raise EnforcerUnreachable(f"{self.name}: {clean(str(value), 40)!r} is no address on its list") from None

    def _ruleset(self, wanted: Mapping[str, Held]) -> list[dict[str, Any]]:
        """The whole table, in the JSON of libnftables-json(5)."""
        table = {"family": "bridge", "name": self.table}
        # Added first, so that its removal never fails; all of it is one transaction.
        commands: list[dict[str, Any]] = [{"add": {"table": table}}, {"delete": {"table": table}}]
        commands.append({"add": {"table": table}})
        for hook in ("input", "forward"):
            chain = {"family": "bridge", "table": self.table, "name": hook}
            hooked = {**chain, "type": "filter", "hook": hook, "prio": _PRIORITY, "policy": "accept"}
            commands.append({"add": {"chain": hooked}})
        for radio, held in wanted.items():
            if held.mode in (ListMode.ALLOW, ListMode.DENY):
                commands += self._rules(radio, held)
        return commands

    def _rules(self, radio: str, held: Held) -> list[dict[str, Any]]:
        own = {"family": "bridge", "table": self.table}
        allowed = held.mode is ListMode.ALLOW
        macs = sorted(held.allow if allowed else held.deny)
        name = _set(ListMode.ALLOW if allowed else ListMode.DENY, radio)
        listed: dict[str, Any] = {**own, "name": name, "type": "ether_addr", "stmt": [{"counter": None}]}
        if macs:
            listed["elem"] = [str(mac) for mac in macs]
        commands = [{"add": {"set": listed}}]
        matches = [
            _match({"meta": {"key": "iifname"}}, "==", self._radio[radio].interface),
            _match({"payload": {"protocol": "ether", "field": "saddr"}}, "!=" if allowed else "==", f"@{name}"),
        ]
        refusal: list[dict[str, Any]] = [{"drop": None}]
        if allowed:
            # Who tries all the same is counted; at most so many, or a flood of made-up addresses would fill the memory.
            commands.append(
                {
                    "add": {
                        "set": {
                            **own,
                            "name": _others(radio),
                            "type": "ether_addr",
                            "size": 1024,
                            "flags": ["timeout"],
                            "timeout": 86_400,
                            "stmt": [{"counter": None}],
                        }
                    }
                }
            )
            update = {
                "set": {
                    "op": "add",
                    "elem": {"payload": {"protocol": "ether", "field": "saddr"}},
                    "set": f"@{_others(radio)}",
                    "stmt": [{"counter": None}],
                }
            }
            for hook in ("input", "forward"):
                commands.append({"add": {"rule": {**own, "chain": hook, "expr": [*matches, update]}}})
        for hook in ("input", "forward"):
            commands.append({"add": {"rule": {**own, "chain": hook, "expr": [*matches, *refusal]}}})
        return commands

    def _apply(self, commands: list[dict[str, Any]]) -> None:
        ran = self._run(["nft", "-j", "-f", "-"], json.dumps({"nftables": commands}))
        if ran.code != 0:
            raise EnforcerUnreachable(f"{self.name}: nft refuses the list, which stays as it was: {_said(ran.errors)}")

    def _run(self, command: Sequence[str], stdin: str = "") -> Any:
        if self._shell is None:
            self._shell = self._open_shell()
        ran = self._shell.run(command, stdin)
        if ran.code != 0 and "Operation not permitted" in ran.errors:
            raise EnforcerUnreachable(f"{self.name}: this account may not change the firewall: run as root")
        return ran


def _set(mode: ListMode, radio: str) -> str:
    return f"{mode}_{radio.replace('.', '_')}"


def _others(radio: str) -> str:
    return f"tried_{radio.replace('.', '_')}"


def _match(left: dict[str, Any], op: str, right: str) -> dict[str, Any]:
    return {"match": {"op": op, "left": left, "right": right}}


def _said(errors: str) -> str:
    lines = [line for line in errors.splitlines() if line.strip()]
    return clean(lines[0].replace("Error: ", ""), 120) if lines else "no reason was given"
