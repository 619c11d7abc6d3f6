"""The first steps: what this machine shows of its network becomes a proposal, and what was agreed becomes a site.

Nothing is written before all of it has been checked as the program reads it.
"""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Network
from pathlib import Path

from scopion.attachment.choose import choose_interface
from scopion.attachment.ports import Interface
from scopion.model.errors import InvalidSettings, NoInterface
from scopion.model.mac import Notation
from scopion.model.observation import Medium
from scopion.operations.notify.set_channels import NewChannel, write_secrets
from scopion.operations.site.edit_settings import assigned, blocks_of, quoted, with_settings
from scopion.operations.site.load_settings import FILE, TEMPLATE, load_settings, read_settings
from scopion.operations.site.open_site import Site
from scopion.operations.site.site_settings import Settings
from scopion.operations.wifi.edit_networks import NetworkSettings, new_network
from scopion.operations.wifi.edit_networks import with_settings as with_network_settings
from scopion.roster.store.write_files import free_name, make_folder, write_atomically
from scopion.roster.wifi import lists
from scopion.roster.wifi.lists import Network

# As large as a scan without a question.
_LARGEST_PREFIX = 16
# On the air a sweep takes time from other stations; a subnet of thousands takes long.
_INTERVAL_S, _INTERVAL_AIR_S, _INTERVAL_LARGE_S = 60.0, 300.0, 900.0
_LARGE = 1024
# Where DHCP servers on Linux keep their leases.
_LEASES = (
    "/var/lib/misc/dnsmasq.leases",
    "/tmp/dhcp.leases",
    "/var/lib/dhcp/dhcpd.leases",
    "/var/lib/kea/kea-leases4.csv",
)


@dataclass(frozen=True, slots=True)
class ProposedSubnet:
    """A subnet that this machine is attached to."""

    range: IPv4Network
    interface: str
    medium: Medium
    likely: bool  # the one that a scan would take
    interval_s: float


@dataclass(frozen=True, slots=True)
class Proposal:
    """What could be written, by what is seen."""

    folder: Path
    subnets: tuple[ProposedSubnet, ...]  # the likely one first
    because: str  # why that one
    router: str  # the gateway's address; empty: none
    leases: tuple[str, ...]  # files of a DHCP server on this machine


@dataclass(frozen=True, slots=True)
class AgreedSubnet:
    """A subnet to be watched."""

    range: IPv4Network
    name: str = ""
    interval_s: float | None = None


@dataclass(frozen=True, slots=True)
class AgreedNetwork:
    """A wireless network, and what its router's page wants."""

    ssid: str
    notation: Notation = Notation.COLON
    capacity: int | None = None


@dataclass(frozen=True, slots=True)
class Agreed:
    """What a person has agreed to."""

    name: str
    subnets: tuple[AgreedSubnet, ...]
    channel: NewChannel | None = None
    networks: tuple[AgreedNetwork, ...] = ()
    leases: tuple[str, ...] = ()
    kept: tuple[EarlierSettings, ...] = ()


@dataclass(frozen=True, slots=True)
class EarlierSettings:
    """A table of the earlier settings that ``setup`` does not ask about again."""

    what: str  # in words: enforcer 'workshop access point'
    text: str  # as it was written
    name: str = ""  # of a channel or an enforcer

    @property
    def is_asked_about(self) -> bool:
        """Tell whether a person may want to drop it: an enforcer or a channel."""
        return bool(self.name)


# Tables that setup asks about.
_ASKED_ANEW = ("subnet", "watch")


def earlier_settings(folder: Path) -> tuple[EarlierSettings, ...]:
    """Return the earlier settings that ``setup`` does not ask about: enforcers, channels, rules, routers and more.

    Raises InvalidSettings if they cannot be read.
    """
    path = folder / FILE
    if not path.exists():
        return ()
    load_settings(folder)
    text = path.read_text(encoding="utf-8")
    zone = tomllib.loads(text).get("timezone", "")
    found = [EarlierSettings("timezone", f"timezone = {quoted(zone)}")] if zone else []
    for block in blocks_of(text):
        if block.name in _ASKED_ANEW:
            continue
        table = tomllib.loads(block.text)[block.name]
        one = table[0] if isinstance(table, list) else table
        name = str(one.get("name", "")) if block.name in ("enforcer", "channel") else ""
        found.append(EarlierSettings(f"{block.name} {name!r}" if name else block.name, block.text, name))
    return tuple(found)


def propose(site: Site) -> Proposal:
    """Look at the machine without changing anything. Raises NoInterface."""
    interfaces = site.attachment.interfaces()
    try:
        choice = choose_interface(interfaces)
    except NoInterface as none:
        raise NoInterface(f"{none}; once it is connected, scopion setup proposes a site") from None
    found = []
    for interface in sorted(interfaces, key=lambda each: each is not choice.interface):
        if not interface.can_resolve or interface.virtual == "tunnel":
            continue
        for subnet in interface.subnets:
            if subnet.prefixlen >= _LARGEST_PREFIX:
                likely = interface is choice.interface and subnet == interface.subnets[0]
                found.append(
                    ProposedSubnet(subnet, interface.name, interface.medium, likely, _interval(interface, subnet))
                )
    if not found:
        raise NoInterface(
            f"{choice.interface.subnets[0]} is too large to be looked after as a whole: name parts of it, a "
            f"/{_LARGEST_PREFIX} at most, under [[subnet]] in {site.folder / FILE}"
        )
    gateway = choice.interface.gateway
    # The files of a made-up site are not those of this machine.
    leases = () if site.story is not None else tuple(path for path in _LEASES if Path(path).is_file())
    return Proposal(site.folder, tuple(found), choice.reason, str(gateway) if gateway else "", leases)


def _interval(interface: Interface, subnet: IPv4Network) -> float:
    if subnet.num_addresses > _LARGE:
        return _INTERVAL_LARGE_S
    return _INTERVAL_AIR_S if interface.medium is Medium.WIRELESS else _INTERVAL_S


def has_settings(folder: Path) -> bool:
    """Tell whether ``site.toml`` sets anything. Raises InvalidSettings."""
    return load_settings(folder) != Settings()


def settings_text(agreed: Agreed) -> str:
    """Return the commented ``site.toml`` with what was agreed."""
    blocks = [assigned(name=agreed.name)]
    if agreed.leases:
        blocks.append(f"[watch]\n{assigned(leases=list(agreed.leases))}")
    for subnet in agreed.subnets:
        values = assigned(range=str(subnet.range), name=subnet.name, interval_s=subnet.interval_s)
        blocks.append(f"[[subnet]]\n{values}")
    blocks += [each.text for each in agreed.kept]
    if agreed.channel is not None:
        blocks.append(agreed.channel.block)
    return with_settings(TEMPLATE.read_text(encoding="utf-8"), "\n\n".join(filter(None, blocks)))


def set_up(folder: Path, agreed: Agreed) -> Path | None:
    """Write the site's settings and secrets. Returns where an earlier ``site.toml`` was moved to, if there was one.

    Raises InvalidSettings before anything is changed, StorageFailed.
    """
    text = settings_text(agreed)
    _require_valid(text)
    make_folder(folder)
    path, moved = folder / FILE, None
    if path.exists() and path.read_bytes() != TEMPLATE.read_bytes():
        moved = free_name(path.with_name(f"{FILE}.before"))
        write_atomically(moved, path.read_bytes())
    if agreed.channel is not None:
        write_secrets(folder, agreed.channel)
    write_atomically(path, text.encode())
    return moved


def _require_valid(text: str) -> None:
    """Raise InvalidSettings with what is wrong, named by its key."""
    try:
        read_settings(Path("what was entered"), text)
    except InvalidSettings as error:
        raise InvalidSettings(f"{error}; nothing was written") from None


def note_networks(site: Site, networks: Sequence[AgreedNetwork], router: str) -> tuple[list[Network], list[str]]:
    """Make the wireless networks with their lists switched off. Returns them, and the names of
    those that were known.
    """
    known = {each.ssid for each in lists.all_networks(site.roster)}
    made = []
    for each in networks:
        if each.ssid not in known:
            settings = NetworkSettings(each.notation, each.capacity, router=router or None)
            made.append(with_network_settings(new_network(site, each.ssid), settings))
    with site.roster.transaction():
        for network in made:
            lists.save_network(site.roster, network)
    return made, [each.ssid for each in networks if each.ssid in known]
