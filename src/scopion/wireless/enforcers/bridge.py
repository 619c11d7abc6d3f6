"""nftables in the bridge family: the firewall of a Linux router or access point whose radios are ports of a bridge.

It has a table of its own for each network, and changes no other table. A whole list is replaced in one transaction, so
that there is no moment without a list. A refused device stays associated, and its frames are dropped.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

from scopion.attachment.ports import Job, Program, Ran, Shell
from scopion.model.errors import EnforcerUnreachable, InvalidMacAddress, Refused, ScopionError
from scopion.model.mac import MacAddress
from scopion.model.text import clean
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcer_settings import BridgePort, NftablesSettings
from scopion.wireless.enforcers.enforcer import (
    Act,
    Effect,
    Held,
    RadioReading,
    RadioStep,
    Readings,
    ShellEnforcer,
    Traits,
)

# The parts of a chain, set or rule that decide what is refused. All else differs between versions of nft, counts, or is
# a set's contents.
_DECIDES = {"chain": ("type", "hook", "prio", "policy"), "set": ("type",), "rule": ("expr",)}
_PRIORITY = -200  # before other filters (nft(8): filter is -200 in the bridge family, and equals take turns)


class _Table(NamedTuple):
    """What its own table has: lists and counts by radio, and whether the rest is as it was put there."""

    held: dict[str, Held]
    counted: dict[str, dict[MacAddress, int]]
    whole: bool


class BridgeFirewall(ShellEnforcer):
    """Implements ``Enforcer``."""

    def __init__(self, settings: NftablesSettings, open_shell: Callable[[], Shell]) -> None:
        super().__init__(open_shell)
        self.name = settings.name
        self.ssid = settings.network
        self.capacity = settings.holds
        self.traits = Traits(
            Effect.DROPS,
            reads_stations=False,
            atomic=True,
            survives="the rules are gone when the machine restarts: the watch pushes them again",
        )
        self.table = table_name(settings.name)
        self._radio: dict[str, BridgePort] = dict(settings.radio.items())
        self._held: dict[str, Held] | None = None  # as it was read last

    def read(self, *, files: bool = False, log: bool = False) -> Readings:
        """Return the lists in its own table, empty if there is none yet, and the frames dropped since, by sender."""
        return self._readings(self._shell.carry_out(self._questions()))

    def take(self, steps: Sequence[RadioStep], begins: Callable[[RadioStep], None]) -> Readings:
        """Replace the lists of radios in one transaction; the lists of other radios stay.

        A firewall cannot disconnect: it drops what a refused device sends.
        """
        replaced = [each for each in steps if each.step.act is Act.REPLACE]
        jobs = list(self._questions())
        if replaced:
            if self._held is None:
                self.read()
            wanted = dict(self._held or {})  # this also mends a table that is not whole
            wanted |= {each.radio: each.step.held for each in replaced if each.step.held is not None}
            commands = self._ruleset({each: wanted[each] for each in self._radio if each in wanted})
            jobs.insert(0, Program(("nft", "-j", "-f", "-"), json.dumps({"nftables": commands})))

        def begun(number: int) -> None:
            for each in replaced if number == 0 else ():
                begins(each)

        ran = self._shell.carry_out(jobs, begun)
        if replaced and ran[0].code != 0:
            raise EnforcerUnreachable(
                f"{self.name}: nft refuses the list, which stays as it was: {_said(self._permitted(ran[0]).errors)}"
            )
        return self._readings(ran[1:] if replaced else ran)

    def keep(self, held: Mapping[str, Held]) -> None:
        """Do nothing: there is no file. The watch puts the list back after a restart."""

    def files(self) -> Mapping[str, str | None]:
        """Return no files."""
        return {}

    def put_back(self, files: Mapping[str, str | None]) -> None:
        """Do nothing: there are no files."""

    def _questions(self) -> list[Job]:
        links = [Program(("ip", "-j", "-d", "link", "show", "dev", each.interface)) for each in self._radio.values()]
        return [*links, Program(("nft", "-j", "list", "table", "bridge", self.table))]

    def _readings(self, ran: Sequence[Ran]) -> Readings:
        table = self._table(ran[-1])
        self._held = table.held
        found: dict[str, RadioReading | ScopionError] = {}
        for radio, link in zip(self._radio, ran, strict=False):
            try:
                self._check(radio, link)
                held = table.held.get(radio, Held(mode=ListMode.OFF))
                # A list that no rule refers to is not in force, whatever it says.
                if not table.whole and radio in table.held:
                    remark = "its list is there, but the rules for it are not as they were put there"
                    held = Held(mode=ListMode.OFF, remark=remark)
                tried = table.counted.get(radio, {})
                found[radio] = RadioReading(self.name, radio, self.traits, self.capacity, held, (), tried)
            except (EnforcerUnreachable, Refused) as error:
                found[radio] = error
        return found

    def _check(self, radio: str, ran: Ran) -> None:
        """See that the interface exists and is a port of a bridge, else rules would do nothing. Raises Refused."""
        interface = self._radio[radio].interface
        if ran.code != 0:
            raise Refused(f"{self.name} has no interface {interface!r}: mend [[enforcer]] in site.toml")
        try:
            (link,) = json.loads(ran.output)
            is_port = "master" in link
        except (ValueError, TypeError, RecursionError):
            raise EnforcerUnreachable(f"{self.name}: ip answers {clean(ran.output, 60)!r}") from None
        if not is_port:
            raise Refused(
                f"{interface!r} of {self.name} is not a port of a bridge, so that the bridge's firewall does not see it"
            )

    def _table(self, ran: Ran) -> _Table:
        if self._permitted(ran).code != 0:
            if "No such file" in ran.errors or "does not exist" in ran.errors:
                return _Table({}, {}, whole=True)
            raise EnforcerUnreachable(f"{self.name}: {_said(ran.errors)}")
        try:
            return self._listed(json.loads(ran.output)["nftables"])
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
            raise EnforcerUnreachable(f"{self.name}: nft answers {clean(ran.output, 60)!r}") from None

    def _permitted(self, ran: Ran) -> Ran:
        if ran.code != 0 and "Operation not permitted" in ran.errors:
            raise EnforcerUnreachable(f"{self.name}: this account may not change the firewall: run as root")
        return ran

    def _listed(self, objects: Sequence[Mapping[str, Any]]) -> _Table:
        """Read a listing of the table. Raises the errors of a text that is none."""
        found = {each["set"]["name"]: each["set"] for each in objects if "set" in each}
        there = [_essence(each) for each in objects if not {"metainfo", "table"} & each.keys()]
        held: dict[str, Held] = {}
        counted: dict[str, dict[MacAddress, int]] = {}
        for radio in self._radio:
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
        return _Table(held, counted, self._is_whole(held, there))

    def _is_whole(self, held: Mapping[str, Held], there: Sequence[tuple[str, str, str]]) -> bool:
        """Tell whether chains, hooks, policies, interfaces, sets and rules are those that were put there, in their
        order.
        """
        asked = [_essence(each["add"]) for each in self._ruleset(held) if "add" in each and "table" not in each["add"]]
        return sorted(asked, key=_place) == sorted(there, key=_place)

    def _element(self, element: Any) -> tuple[MacAddress, int]:
        """Return an address of a set, with the number of counted frames."""
        value, packets = element, 0
        if isinstance(element, dict):
            inner = element.get("elem", {})
            value = inner.get("val")
            counter = inner.get("counter")
            counted = counter.get("packets", 0) if isinstance(counter, dict) else 0
            packets = counted if isinstance(counted, int) and 0 <= counted < 2**63 else 0
        try:
            return MacAddress.parse(str(value)), packets
        except InvalidMacAddress:
            raise EnforcerUnreachable(f"{self.name}: {clean(str(value), 40)!r} is not an address on its list") from None

    def _ruleset(self, wanted: Mapping[str, Held]) -> list[dict[str, Any]]:
        """Return the whole table, in the JSON of libnftables-json(5)."""
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
        counted = {"type": "ether_addr", "stmt": [{"counter": None}]}
        sender = {"payload": {"protocol": "ether", "field": "saddr"}}
        listed: dict[str, Any] = {**own, "name": name, **counted}
        if macs:
            listed["elem"] = [str(mac) for mac in macs]
        commands = [{"add": {"set": listed}}]
        matches = [
            _match({"meta": {"key": "iifname"}}, "==", self._radio[radio].interface),
            _match(sender, "!=" if allowed else "==", f"@{name}"),
        ]
        refusal: list[dict[str, Any]] = [{"drop": None}]
        if allowed:
            # The frames of refused devices are counted; only for this many, or a flood of made-up addresses would fill
            # the memory.
            tried = {**own, "name": _others(radio), "size": 1024, "flags": ["timeout"], "timeout": 86_400, **counted}
            commands.append({"add": {"set": tried}})
            update = {"set": {"op": "add", "elem": sender, "set": f"@{_others(radio)}", "stmt": counted["stmt"]}}
            for hook in ("input", "forward"):
                commands.append({"add": {"rule": {**own, "chain": hook, "expr": [*matches, update]}}})
        for hook in ("input", "forward"):
            commands.append({"add": {"rule": {**own, "chain": hook, "expr": [*matches, *refusal]}}})
        return commands


def table_name(name: str) -> str:
    """Return the table of an enforcer: one for each name, of characters that nft(8) takes.

    A name with other characters than small letters, digits and _ gets a checksum after a point, which no plain name
    has.
    """
    if re.fullmatch(r"[a-z0-9_]+", name, flags=re.ASCII):
        return f"scopion_{name}"
    reduced = re.sub(r"\W+", "_", name, flags=re.ASCII).strip("_").lower()
    return f"scopion_{reduced}.{hashlib.sha256(name.encode()).hexdigest()[:12]}"


def _essence(thing: Mapping[str, Any]) -> tuple[str, str, str]:
    """Return what decides in a chain, a set or a rule: its kind, its place, and the rest."""
    ((kind, said),) = thing.items()
    kept = {key: said.get(key) for key in _DECIDES.get(kind, ())}
    if kind == "rule":
        kept["expr"] = [_without_counter(each) for each in said["expr"]]
    return kind, str(said["chain"] if kind == "rule" else said["name"]), json.dumps(kept, sort_keys=True)


def _without_counter(expression: Mapping[str, Any]) -> Mapping[str, Any]:
    """Return an expression of a rule without its counter, which only some versions of nft print, and which refuses
    nothing.
    """
    if "set" not in expression:
        return expression
    return {"set": {key: value for key, value in expression["set"].items() if key != "stmt"}}


def _place(essence: tuple[str, str, str]) -> tuple[str, str]:
    """Return the sort key of an essence: the rules of a chain keep their order."""
    return essence[:2]


def _set(mode: ListMode, radio: str) -> str:
    return f"{mode}_{radio.replace('.', '_')}"


def _others(radio: str) -> str:
    return f"tried_{radio.replace('.', '_')}"


def _match(left: dict[str, Any], op: str, right: str) -> dict[str, Any]:
    return {"match": {"op": op, "left": left, "right": right}}


def _said(errors: str) -> str:
    lines = [line for line in errors.splitlines() if line.strip()]
    return clean(lines[0].replace("Error: ", ""), 120) if lines else "no reason was given"
