"""Where this machine is: its interfaces, which one a scan would take, which site this is, and what this user may do."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address

from scopion.attachment.choose import Choice, choose_interface
from scopion.attachment.ports import Attachment, Interface, NeighbourState, Rights
from scopion.discovery.probing import Method, open_prober
from scopion.model.errors import InterfaceLost, NoInterface, NotPermitted
from scopion.model.mac import MacAddress
from scopion.operations.scan.recognise_network import Recognition, recognise
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import known_adapters
from scopion.roster.scans import known_subnets

# A gateway answers within milliseconds; a device that dozes for a second is none.
GATEWAY_WAIT_S = 1.0


@dataclass(frozen=True, slots=True)
class Whereabouts:
    """The answer."""

    interfaces: tuple[Interface, ...]
    choice: Choice | None
    no_choice: str  # why there is none
    gateway_mac: MacAddress | None  # of the chosen interface's gateway
    recognition: Recognition | None  # None: nothing to recognise
    has_site: bool  # whether there is a roster at all
    rights: Rights


def whereabouts(site: Site) -> Whereabouts:
    """Look, without changing anything. At most the gateway is asked for its MAC address."""
    attachment = site.attachment
    interfaces = attachment.interfaces()
    rights = attachment.rights()
    try:
        choice = choose_interface(interfaces)
    except NoInterface as none:
        return Whereabouts(interfaces, None, str(none), None, None, site.has_roster, rights)
    interface = choice.interface
    gateway_mac = find_gateway_mac(attachment, interface, raw_frames=rights.raw_frames)
    roster = site.roster_for_reading()
    adapters = known_adapters(roster)
    own = {each.mac for each in interfaces}
    seen = {entry.mac for entry in attachment.neighbours(interface)} - own - {gateway_mac}
    recognition = recognise(
        interface.subnets[0],
        gateway_mac,
        known_subnets(roster),
        familiar=sum(mac in adapters for mac in seen),
        named=[each.range for each in site.settings.here],
    )
    return Whereabouts(interfaces, choice, "", gateway_mac, recognition, site.has_roster, rights)


def find_gateway_mac(attachment: Attachment, interface: Interface, *, raw_frames: bool) -> MacAddress | None:
    """Return the gateway's MAC address: as the system knows it, else asked for; None if it does not answer."""
    for entry in attachment.neighbours(interface):
        if entry.address == interface.gateway and entry.mac and entry.state is not NeighbourState.FAILED:
            return entry.mac
    return ask_gateway_mac(attachment, interface, raw_frames=raw_frames)


def ask_gateway_mac(attachment: Attachment, interface: Interface, *, raw_frames: bool) -> MacAddress | None:
    """Return the MAC address with which the gateway answers now; None if it does not."""
    gateway = interface.gateway
    own = interface.address_in(gateway) if gateway else None
    if gateway is None or own is None:
        return None
    try:
        return _asked(attachment, interface, gateway, own, Method.ARP if raw_frames else Method.TOUCH)
    except (InterfaceLost, NotPermitted):
        return None


def _asked(
    attachment: Attachment, interface: Interface, gateway: IPv4Address, own: IPv4Address, method: Method
) -> MacAddress | None:
    prober = open_prober(method, attachment, interface, own)
    deadline = attachment.clock.monotonic() + GATEWAY_WAIT_S
    try:
        prober.ask(gateway)
        while attachment.clock.monotonic() < deadline:
            for answer in prober.answers(deadline):
                if answer.address == gateway:
                    return answer.mac
    finally:
        prober.close()
    return None
