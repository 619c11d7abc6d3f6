"""Chooses the interface of a scan, with the reason in words. Pure: interfaces go in, a choice comes out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address

from scopion.attachment.ports import Interface
from scopion.model.errors import InvalidTarget, NoInterface
from scopion.model.observation import Medium
from scopion.model.text import joined


@dataclass(frozen=True, slots=True)
class Choice:
    """An interface, and the reason in words that follow "because"."""

    interface: Interface
    reason: str


def choose_interface(
    interfaces: Sequence[Interface], name: str | None = None, first_target: IPv4Address | None = None
) -> Choice:
    """Return the interface to scan from: the named one, else the one of a target, else the best attached one.

    Raises NoInterface, which says what is there instead, or InvalidTarget for a target that is not attached.
    """
    if name is not None:
        return Choice(_named(interfaces, name), "it was asked for")
    usable = [each for each in interfaces if each.can_resolve and each.subnets]
    if not usable:
        raise NoInterface(f"no interface can scan: {_why_not(interfaces)}")
    if first_target is not None:
        attached = [each for each in usable if each.address_in(first_target)]
        if not attached:
            here = joined([str(subnet) for each in usable for subnet in each.subnets])
            raise InvalidTarget(
                f"{first_target} is in no attached subnet (attached: {here}): "
                "scan from a machine in that subnet, name it in site.toml as one behind a router, or ask it through "
                "the router with --method echo"
            )
        return Choice(min(attached, key=_preference), "the targets are in its subnet")
    best = min(usable, key=_preference)
    return Choice(best, _reason(best, usable))


def choose_route(interfaces: Sequence[Interface], name: str | None, target: IPv4Address) -> Choice:
    """Return the interface by which a subnet beyond a router is reached. Raises NoInterface."""
    if name is not None:
        return Choice(_named(interfaces, name), "it was asked for")
    usable = [each for each in interfaces if each.up and each.addresses]
    if not usable:
        raise NoInterface(f"no interface leads to {target}: {_why_not(interfaces)}")
    best = min(usable, key=_preference)
    return Choice(best, "the default route leaves by it" if best.gateway else "it is the only way out")


def _preference(interface: Interface) -> tuple[bool, int, bool, int]:
    return (interface.gateway is None, interface.metric, bool(interface.virtual), interface.index)


def _reason(best: Interface, usable: Sequence[Interface]) -> str:
    if len(usable) == 1:
        return "it is the only one that is up, with an address and able to use ARP"
    others = [each for each in usable if each is not best and each.gateway is not None]
    if best.gateway is not None:
        return "the default route leaves by it" + (", with the lowest metric" if others else "")
    if not best.virtual and any(each.virtual for each in usable):
        return "it is the first real one; none has a default route"
    return "it is the first with an address; none has a default route"


def _named(interfaces: Sequence[Interface], name: str) -> Interface:
    found = next((each for each in interfaces if each.name == name), None)
    if found is None:
        there = joined([each.name for each in interfaces]) or "none"
        raise NoInterface(f"there is no interface {name!r} (there: {there}): see scopion here")
    if not found.can_resolve or not found.subnets:
        raise NoInterface(f"{name} cannot scan: it {missing(found)}")
    return found


def _why_not(interfaces: Sequence[Interface]) -> str:
    return "; ".join(f"{each.name} {missing(each)}" for each in interfaces) or "there is none but loopback"


def missing(interface: Interface) -> str:
    """Return what an interface lacks for scanning, in words; empty if nothing."""
    if not interface.up:
        return "is down or has no carrier"
    if interface.mac is None:
        return "is not an Ethernet-like interface, so ARP does not work on it"
    if not interface.addresses:
        return "has no IPv4 address"
    return "" if interface.subnets else "has only single-address subnets"


def what_happened(before: Interface, now: Interface | None, own_address: IPv4Address) -> str:
    """Return what has become of an interface meanwhile, in words; empty if it was there all the time.

    Frames into a pulled cable are lost without an error, so only this tells silence from a dead interface.
    """
    if now is None:
        return f"{before.name} is gone"
    if not now.up:
        return f"{before.name} {missing(now)}"
    if own_address not in {each.ip for each in now.addresses}:
        return f"{before.name} has lost its address {own_address}"
    return f"the link of {before.name} was interrupted" if now.carrier_changes != before.carrier_changes else ""


def medium_words(interface: Interface) -> str:
    """Return the medium as a table shows it: ``cable``, ``wireless``, ``virtual (bridge)``."""
    if interface.virtual and interface.medium is not Medium.WIRELESS:
        return f"virtual ({interface.virtual})"
    return str(interface.medium)
