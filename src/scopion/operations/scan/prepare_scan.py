"""Decides what a scan will ask, from where, how and how fast. Nothing is sent here, so a person can still say no."""

from __future__ import annotations

from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Network

from scopion.attachment.choose import Choice, choose_interface, choose_route
from scopion.attachment.ports import Interface
from scopion.discovery.probing import GREETING_PACE, ROUTED_PACE, Method, checked_pace, default_pace
from scopion.model.errors import InvalidTarget, UsageError
from scopion.model.targets import Targets
from scopion.operations.site.open_site import Site
from scopion.operations.site.snmp_settings import RouterSettings

USUAL_LISTEN_S = 60.0


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
    no_names: bool = False
    ports: tuple[int, ...] = ()  # TCP ports to try on hosts that are found
    listen_s: float | None = None


@dataclass(frozen=True, slots=True)
class PreparedScan:
    """A scan that is ready to run: nothing has been sent yet."""

    choice: Choice
    subnet: IPv4Network
    own_address: IPv4Address | None  # this machine's in the subnet; None if the subnet is beyond a router
    targets: Targets
    addresses: Targets | None  # the targets without this machine's own; None if none is left to ask
    method: Method
    method_reason: str
    pace: float
    greeting_pace: float  # of the questions to known adapters alone, before the others
    spares_air: bool  # the pace is less than usual, because the range is large and may have access points behind it
    rounds: int | None
    remember: bool
    names: bool
    ports: tuple[int, ...]
    listen_s: float
    router: RouterSettings | None  # the router whose table pairs the hosts of a subnet beyond it

    @property
    def attached(self) -> bool:
        """Tell whether the subnet is on the interface's own link."""
        return self.own_address is not None

    @property
    def whole(self) -> bool:
        """Tell whether the whole subnet is asked."""
        return self.targets.covers(self.subnet)

    @property
    def from_address(self) -> IPv4Address:
        """Return the address that this machine asks from."""
        return self.own_address or self.choice.interface.addresses[0].ip


def prepare_scan(site: Site, request: ScanRequest) -> PreparedScan:
    """Decide what to ask, from where and how. Raises InvalidTarget, NoInterface, InvalidSettings, UsageError."""
    by_name = {each: called for each in request.targets if (called := site.settings.called(each)) is not None}
    targets = tuple(str(by_name[each].range) if each in by_name else each for each in request.targets)
    request = replace(request, targets=targets)
    wanted = Targets.parse(request.targets) if request.targets else None
    first = next(iter(wanted)) if wanted else None
    choice, subnet = _place(site, request, first)
    interface = choice.interface
    own = next((each.ip for each in interface.addresses if each.network == subnet), None)
    asked = Targets.parse(request.targets or (str(subnet),), request.exclude, [subnet])
    edges = [IPv4Address(edge) for first_and_last in asked.ranges for edge in first_and_last]
    outside = next((edge for edge in edges if edge not in subnet), None)
    if outside is not None:
        raise InvalidTarget(f"{outside} is outside {subnet}, the subnet of {interface.name}: scan one subnet at a time")
    method, reason = _method(site, request.method or site.settings.scan.method, attached=own is not None)
    if request.listen_s is not None and method is not Method.LISTEN:
        raise UsageError("--for says how long to listen: it goes with --method listen")
    settings = site.settings
    addresses = asked.without(each.ip for each in interface.addresses)
    usual = default_pace(interface, len(addresses or ())) if own else ROUTED_PACE
    paces = (request.pace, settings.of_subnet(subnet).pace, settings.scan.pace if own else None)
    given = next((each for each in paces if each is not None), None)
    return PreparedScan(
        choice=choice,
        subnet=subnet,
        own_address=own,
        targets=asked,
        addresses=addresses,
        method=method,
        method_reason=reason,
        pace=checked_pace(usual if given is None else given),
        greeting_pace=max(usual, GREETING_PACE) if given is None else given,
        spares_air=own is not None and given is None and usual < default_pace(interface),
        rounds=request.rounds or settings.scan.rounds,
        remember=request.remember,
        names=settings.names.ask and not request.no_names and method is not Method.LISTEN,
        ports=request.ports,
        listen_s=request.listen_s or USUAL_LISTEN_S,
        router=None if own else settings.router_of(subnet),
    )


def _place(site: Site, request: ScanRequest, first: IPv4Address | None) -> tuple[Choice, IPv4Network]:
    """Return the interface, and the subnet: an attached one, or one beyond a router that is known or meant."""
    interfaces = site.attachment.interfaces()
    named = site.settings.containing(first) if first is not None else None
    if first is not None and not _is_attached(interfaces, first) and (named or request.method == Method.ECHO):
        subnet = named.range if named else _meant(request.targets, first)
        return choose_route(interfaces, request.interface, first), subnet
    choice = choose_interface(interfaces, request.interface, first)
    found = next((each for each in choice.interface.subnets if first is None or first in each), None)
    if found is None:
        attached = ", ".join(map(str, choice.interface.subnets))
        raise InvalidTarget(
            f"{first} is not in the subnet of {choice.interface.name} ({attached}): leave --interface out"
        )
    return choice, found


def _is_attached(interfaces: tuple[Interface, ...], address: IPv4Address) -> bool:
    return any(each.address_in(address) for each in interfaces if each.can_resolve)


def _meant(texts: tuple[str, ...], first: IPv4Address) -> IPv4Network:
    """Return the subnet that these targets mean: a single one as it stands, else the /24 around."""
    if len(texts) == 1 and "/" in texts[0] and "," not in texts[0]:
        return IPv4Network(texts[0].strip(), strict=False)
    return IPv4Network(f"{first}/24", strict=False)


def _method(site: Site, asked: str, *, attached: bool) -> tuple[Method, str]:
    if not attached:
        if asked not in ("auto", Method.ECHO):
            raise InvalidTarget(f"the method {asked} works on an attached subnet only: beyond a router it is echo")
        return Method.ECHO, "the subnet lies beyond a router"
    if asked != "auto":
        return Method(asked), "it was asked for"
    rights = site.attachment.rights()
    if rights.raw_frames:
        return Method.ARP, "raw frames are permitted"
    return Method.TOUCH, f"raw frames are not permitted; {rights.how_to_get_more}"
