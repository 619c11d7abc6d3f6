"""Decides what a scan will ask, from where, how and how fast. Nothing is sent here: one can still say no."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Network

from scopion.attachment.choose import Choice, choose_interface
from scopion.discovery.asking import Method
from scopion.discovery.pace import DEFAULT_PACE, checked_pace
from scopion.model.errors import InvalidTarget
from scopion.model.targets import Targets
from scopion.operations.site import Site


@dataclass(frozen=True, slots=True)
class ScanRequest:
    """What the user asked for; None and empty mean the default."""

    targets: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    interface: str | None = None
    method: str | None = None
    pace: float | None = None
    rounds: int | None = None
    remember: bool = False  # fold even on a network that is not the site's


@dataclass(frozen=True, slots=True)
class PreparedScan:
    """A scan that is ready to run: nothing has been sent yet."""

    choice: Choice
    subnet: IPv4Network
    own_address: IPv4Address
    targets: Targets
    addresses: Targets | None  # the targets without this machine's own; None if nobody is left to ask
    method: Method
    method_reason: str
    pace: float
    rounds: int | None
    remember: bool


def prepare_scan(site: Site, request: ScanRequest) -> PreparedScan:
    """Decide what to ask, from where and how. Raises InvalidTarget, NoInterface, InvalidSettings."""
    interfaces = site.attachment.interfaces()
    wanted = Targets.parse(request.targets) if request.targets else None
    first = next(iter(wanted)) if wanted else None
    choice = choose_interface(interfaces, request.interface, first)
    interface = choice.interface
    subnet = next((each for each in interface.subnets if first is None or first in each), None)
    if subnet is None:
        attached = ", ".join(map(str, interface.subnets))
        raise InvalidTarget(f"{first} is not in the subnet of {interface.name} ({attached}): leave --interface out")
    texts = request.targets or (str(subnet),)
    targets = Targets.parse(texts, request.exclude, [subnet])
    edges = [IPv4Address(edge) for first_and_last in targets.ranges for edge in first_and_last]
    outside = next((edge for edge in edges if edge not in subnet), None)
    if outside is not None:
        raise InvalidTarget(f"{outside} is outside {subnet}, the subnet of {interface.name}: scan one subnet at a time")
    method, reason = _method(site, request.method or site.settings.scan.method)
    settings = site.settings
    paces = (request.pace, settings.of_subnet(subnet).pace, settings.scan.pace)
    pace = next((each for each in paces if each is not None), DEFAULT_PACE[interface.medium])
    return PreparedScan(
        choice=choice,
        subnet=subnet,
        own_address=next(each.ip for each in interface.addresses if each.network == subnet),
        targets=targets,
        addresses=targets.without(each.ip for each in interface.addresses),
        method=method,
        method_reason=reason,
        pace=checked_pace(pace),
        rounds=request.rounds or settings.scan.rounds,
        remember=request.remember,
    )


def _method(site: Site, asked: str) -> tuple[Method, str]:
    if asked != "auto":
        return Method(asked), "it was asked for"
    rights = site.attachment.rights()
    if rights.raw_frames:
        return Method.ARP, "raw frames are permitted"
    return Method.TOUCH, f"raw frames are not permitted; {rights.how_to_get_more}"
