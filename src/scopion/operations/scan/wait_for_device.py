"""Waits until a device appears, or until one is gone, and gives its address. It changes and remembers nothing.

A question must not use up the news that the next scan would tell.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from contextlib import ExitStack, closing
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from scopion.discovery.listening import Gathered
from scopion.discovery.lookout import Roll, open_lookout
from scopion.discovery.name_task import NameTask
from scopion.model.address import Address
from scopion.model.errors import CheckNotMet, NotFound, ScopionError, UsageError
from scopion.model.mac import MacAddress, hex_digits
from scopion.model.observation import Observation
from scopion.model.text import joined
from scopion.operations.scan.ask_network import name_servers, who_answers
from scopion.operations.scan.describe_hosts import Describer, Host
from scopion.operations.scan.prepare_scan import ScanRequest, prepare_scan
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.roster.resolve import resolve
from scopion.roster.scans import known_subnets

# A device that boots has an IPv6 address at once. The IPv4 address that people mean comes seconds later, after DHCP and
# a check that no other host uses it.
_IPV4_FIRST_S = 10.0
# A device that has given no sign of life by then gives none to this way of asking.
_MUTE_AFTER_S = 3.0
# Beginnings of a MAC address: shorter ones would fit half of all devices.
_LEAST_DIGITS = 2


@dataclass(frozen=True, slots=True)
class WaitGoal:
    """Which device is meant; empty texts mean any. Beginnings of words suffice."""

    vendor: str = ""
    name: str = ""
    mac: str = ""  # hexadecimal digits
    new: bool = False  # even if one that fits is here already, wait for another

    @classmethod
    def parse(cls, vendor: str, name: str, mac: str, *, new: bool) -> WaitGoal:
        """Return a goal from what a person wrote. Raises InvalidMacAddress, UsageError."""
        digits = hex_digits(mac) if mac else ""
        if mac and len(digits) < _LEAST_DIGITS:
            raise UsageError(f"{mac!r} is too short for the beginning of a MAC address: write two digits at least")
        return cls(vendor.casefold().strip(), name.casefold().strip(), digits, new)

    @property
    def anybody(self) -> bool:
        """Tell whether any device that comes will do."""
        return not (self.vendor or self.name or self.mac)

    def fits(self, host: Host) -> bool:
        """Tell whether a host is meant."""
        maker = host.vendor.name.casefold() if host.vendor else ""
        names = [host.name.casefold(), *(name.value.casefold() for name in host.names)]
        return (
            (not self.vendor or any(word.startswith(self.vendor) for word in _beginnings(maker)))
            and (not self.name or any(name.startswith(self.name) for name in names if name))
            and (not self.mac or (host.mac is not None and host.mac.octets.hex().startswith(self.mac)))
        )


OnWaiting = Callable[[str], None]


class Waiting:
    """One wait on one interface, within a time."""

    def __init__(self, site: Site, interface: str | None, timeout_s: float | None, on_waiting: OnWaiting) -> None:
        self._site = site
        self._prepared = prepare_scan(site, ScanRequest(interface=interface))
        self._interface = self._prepared.choice.interface
        self._clock = site.attachment.clock
        self._ends = self._clock.monotonic() + timeout_s if timeout_s is not None else None
        self._timeout_s = timeout_s
        self._on_waiting = on_waiting
        roster = site.roster_for_reading()
        self._devices, self._home = all_devices(roster), roster.home
        self._describer = Describer(site.vendors, site.kinds, self._devices, [self._interface.gateway])

    def until_here(self, wanted: WaitGoal) -> list[Host]:
        """Return the device that fits, once it is here; all that fit if they are here already.

        Where any device will do, one that is here and that no scan of the site has seen was plugged in a moment ago:
        it is what is waited for. Raises CheckNotMet when time is up.
        """
        here = self._look(names=bool(wanted.name))
        hosts = [] if wanted.new else self._hosts(here)
        if not wanted.anybody:
            fitting = [host for host in hosts if wanted.fits(host)]
        else:
            fitting = [host for host in hosts if host.device is None and not host.own] if self._knows_the_site else []
            if fitting:
                self._on_waiting("here already, and in no scan before: --new waits for another one")
        if fitting:
            self._warn_contested(fitting, here)
            return fitting
        self._on_waiting(f"{len({seen.mac for seen in here})} are here; waiting for another on {self._interface.name}")
        found = self._until_another(wanted, {seen.mac for seen in here})
        self._warn_contested([found], here)
        return [found]

    @property
    def _knows_the_site(self) -> bool:
        """Tell whether this subnet was scanned completely: only then is a device that is not known a new one."""
        known = known_subnets(self._site.roster_for_reading())
        return any(each.range == self._prepared.subnet and each.has_baseline for each in known)

    def _warn_contested(self, found: Sequence[Host], here: Sequence[Observation]) -> None:
        """Tell if an address that is about to be printed is another device's as well: it may lead to that one."""
        holders: dict[Address, set[MacAddress]] = {}
        for seen in here:
            if seen.address is not None and seen.mac is not None:
                holders.setdefault(seen.address, set()).add(seen.mac)
        for device in self._devices:
            for stay in device.stays_in(self._home):
                if stay.present and stay.mac is not None:
                    holders.setdefault(stay.address, set()).add(stay.mac)
        for host in found:
            others = sorted(holders.get(host.address, set()) - {host.mac})
            if others and host.mac is not None:
                whose = joined([self._called(mac) for mac in others])
                self._on_waiting(f"caution: {host.address} is used by {whose}, too: it may lead to the other one")

    def _called(self, mac: MacAddress) -> str:
        device = next((each for each in self._devices if mac in each.macs), None)
        return f"{device.called} ({mac})" if device is not None and device.called != str(mac) else str(mac)

    def until_gone(self, text: str) -> Host:
        """Return the device that has stopped answering: the named one, or any. Raises NotFound, CheckNotMet."""
        here = [seen for seen in self._look(names=False) if isinstance(seen.address, IPv4Address)]
        watched = self._meant(text, here) if text else here
        if not watched:
            raise NotFound("no such device is here that could leave: is this the right interface?")
        who = text or f"one of {len(watched)}"
        self._on_waiting(f"waiting until {who} stops answering on {self._interface.name}")
        prepared = self._prepared
        assert prepared.own_address is not None
        own, method = prepared.own_address, prepared.method
        roll = Roll(self._site.attachment, self._interface, own, method, prepared.pace, watched)
        with closing(roll):
            told = False
            began = self._clock.monotonic()
            while self._goes_on():
                gone = roll.turn()
                if gone is not None:
                    return self._describer.host([gone])
                if not told and self._clock.monotonic() > began + _MUTE_AFTER_S and roll.mute:
                    told = True
                    self._explain_mute(roll.mute, len(watched))
        raise CheckNotMet(f"{who} still answered after {self._timeout_s:g} s")

    def _explain_mute(self, mute: list[Address], watched: int) -> None:
        if len(mute) == watched:
            more = self._site.attachment.rights().how_to_get_more
            raise ScopionError(
                f"{mute[0]} answers neither echo nor a TCP port: without raw frames its leaving cannot be seen; {more}"
            )
        self._on_waiting(f"{len(mute)} of them answer neither echo nor TCP and cannot be watched without raw frames")

    def _look(self, *, names: bool) -> list[Observation]:
        """Return the hosts that are here at the beginning."""
        prepared = self._prepared
        with ExitStack() as stack:
            return who_answers(self._site, prepared, self._name_company(stack) if names else None)

    def _name_company(self, stack: ExitStack) -> NameTask:
        """Return a task that asks for names; it is closed with the stack."""
        servers = name_servers(self._site, self._interface)
        company = NameTask(self._site.attachment, self._interface, servers, group_pace=self._prepared.pace)
        stack.callback(company.close)
        return company

    def _hosts(self, seen: Iterable[Observation]) -> list[Host]:
        return self._describer.hosts(list(seen), ())

    def _meant(self, text: str, here: list[Observation]) -> list[Observation]:
        """Return the sightings of the named device: of the roster, or by its address or MAC alone."""
        macs: set[MacAddress] = set()
        try:
            macs = set(resolve(self._devices, text).macs)
        except NotFound:
            digits = text.casefold()
            macs = {seen.mac for seen in here if seen.mac and digits in (str(seen.address), str(seen.mac))}
            if not macs:
                raise
        found = [seen for seen in here if seen.mac in macs]
        if not found:
            raise NotFound(f"{text} does not answer now, so that its leaving cannot be waited for")
        return found

    def _until_another(self, wanted: WaitGoal, here: set[MacAddress | None]) -> Host:
        prepared = self._prepared
        assert prepared.own_address is not None
        own, method = prepared.own_address, prepared.method
        with ExitStack() as stack:
            lookout = open_lookout(self._site.attachment, self._interface, own, method, prepared.pace)
            stack.callback(lookout.close)
            names = self._name_company(stack) if wanted.name else None
            coming = _Coming(here)
            while self._goes_on():
                for seen in [*lookout.turn(prepared.addresses or ()), *self._named(names)]:
                    if coming.add(seen, self._clock.monotonic()) and names is not None and seen.address is not None:
                        names.met(seen)
                for mac, since in list(coming.undecided.items()):
                    host = self._ready(coming.of(mac), since)
                    if host is not None and (wanted.anybody or wanted.fits(host)):
                        return host
                    if host is not None:
                        del coming.undecided[mac]  # until something else is heard of it
        who = "no device came" if wanted.anybody else "no device that fits came"
        raise CheckNotMet(f"{who} within {self._timeout_s:g} s")

    def _named(self, names: NameTask | None) -> list[Observation]:
        return list(names.turn(self._clock.monotonic())) if names is not None else []

    def _ready(self, group: list[Observation], since: float) -> Host | None:
        """Return the host as a row once it has the address that people mean."""
        located = [seen for seen in group if seen.address is not None]
        with_ipv4 = [seen for seen in located if isinstance(seen.address, IPv4Address)]
        if not located or (not with_ipv4 and self._clock.monotonic() < since + _IPV4_FIRST_S):
            return None
        first = (with_ipv4 or located)[-1]
        traits = tuple(trait for seen in group for trait in seen.traits)
        return self._describer.host([replace(first, traits=traits)])

    def _goes_on(self) -> bool:
        return self._ends is None or self._clock.monotonic() < self._ends


class _Coming:
    """Devices that were not here at the beginning, and what is known of each; limited, because a
    wait may take months.
    """

    def __init__(self, here: Collection[MacAddress | None]) -> None:
        self._here = here
        self._gathered = Gathered()
        self._groups: dict[MacAddress, list[Observation]] = {}
        self.undecided: dict[MacAddress, float] = {}  # devices of which something new was heard, and since when

    def add(self, seen: Observation, now: float) -> bool:
        """Take one in. Returns whether it tells anything new of a device that has come."""
        if seen.mac is None or seen.mac in self._here or not self._gathered.add(seen):
            return False
        self._groups.setdefault(seen.mac, []).append(seen)
        self.undecided.setdefault(seen.mac, now)
        return True

    def of(self, mac: MacAddress) -> list[Observation]:
        """Return all that was new of one device."""
        return self._groups[mac]


def _beginnings(text: str) -> list[str]:
    """Return a text from each of its words on."""
    words = text.split()
    return [" ".join(words[at:]) for at in range(len(words))]
