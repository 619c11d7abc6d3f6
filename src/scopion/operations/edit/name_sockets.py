"""Names sockets: by what hangs there now, or by the port of the switch. It can be undone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from scopion.model.errors import NotFound, Refused, UsageError
from scopion.model.text import entered
from scopion.model.wires import Port
from scopion.operations.devices.list_devices import find_device
from scopion.operations.devices.place_devices import places_now
from scopion.operations.site.change_roster import change
from scopion.operations.site.open_site import Site
from scopion.roster.wires.sockets import name_socket, sockets
from scopion.roster.wires.switches import KnownPort, known_ports

MAX_SOCKET = 60


@dataclass(frozen=True, slots=True)
class NamedSocket:
    """A socket as it is called now."""

    port: Port
    name: str  # empty: it has none any more
    before: str


def name_socket_of(site: Site, which: str, name: str) -> NamedSocket:
    """Name the socket at which a device hangs. Raises Refused if it does not hang at a port that is known."""
    device = find_device(site, which)
    now = places_now(site.roster_for_reading(), site.clock.now())
    spot = now.of(device)
    if spot is None:
        raise Refused(
            f"no switch has told where {device.called} hangs: scopion where {which!r} --now asks; a port is named with "
            "--port SWITCH/PORT"
        )
    if spot.port is None:
        raise Refused(f"{device.called} is on the air ({spot.where}): it hangs at no socket")
    if not spot.at_edge:
        raise Refused(f"{device.called} is somewhere {spot.where}: which port that is, no switch has told")
    return _name(site, spot.port.port, name)


def name_socket_at(site: Site, text: str, name: str) -> NamedSocket:
    """Name the socket at a port, written ``SWITCH/PORT``. Raises UsageError, NotFound."""
    return _name(site, find_port(list(known_ports(site.roster_for_reading()).values()), text).port, name)


def find_port(ports: Sequence[KnownPort], text: str) -> KnownPort:
    """Return a port by ``SWITCH/PORT``, or by the name of its socket. Raises UsageError, NotFound."""
    wanted = text.strip().casefold()
    by_socket = [each for each in ports if each.socket and each.socket.casefold() == wanted]
    if by_socket:
        return by_socket[0]
    switch, slash, port = wanted.partition("/")
    if not slash or not port.strip():
        raise UsageError(f"{text!r} is no port: write it as SWITCH/PORT, for example 'workshop switch/7'")
    there = [each for each in ports if each.port.switch.casefold() == switch.strip()]
    if not there:
        known = sorted({each.port.switch for each in ports})
        raise NotFound(
            f"no switch {switch.strip()!r} was read: {', '.join(known)}"
            if known
            else "no switch was read yet: scopion map --wires --now reads those of site.toml"
        )
    said = port.strip()
    found = next((each for each in there if each.port.name.casefold() == said), None)
    found = found or next((each for each in there if str(each.number) == said), None)
    if found is None:
        raise NotFound(f"{there[0].port.switch} has no port {port.strip()!r}: {', '.join(p.port.name for p in there)}")
    return found


def _name(site: Site, port: Port, name: str) -> NamedSocket:
    called = entered(name, "a socket", MAX_SOCKET)
    site.require_roster()
    before = sockets(site.roster_for_reading()).get(port, "")
    said = f"the socket at {port} is {called!r}" if called else f"the socket at {port} has no name"
    with change(site, "label") as (roster, described):
        name_socket(roster, port, called)
        described.says = said
    return NamedSocket(port, called, before)
