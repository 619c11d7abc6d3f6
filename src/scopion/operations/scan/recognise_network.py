"""Decides whether a network is one of the site's, by subnet and gateway MAC: half of all networks share two subnets.

Pure: what is known and what was seen go in, a verdict with its reason comes out.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import StrEnum
from ipaddress import IPv4Network

from scopion.model.mac import MacAddress
from scopion.model.text import counted
from scopion.roster.scans import KnownSubnet

# A traveller brings a phone, a laptop and a watch to another network with the same addresses; more is the site.
MANY_FAMILIAR = 4


class Belonging(StrEnum):
    """Whether a network is the site's."""

    OURS = "ours"
    FOUNDING = "founding"  # the site has no subnet yet: this becomes its first
    ELSEWHERE = "elsewhere"


@dataclass(frozen=True, slots=True)
class Recognition:
    """The verdict and a clause that says why."""

    verdict: Belonging
    reason: str
    gateway_changed: bool = False  # it is the site all the same: most of its present devices are here

    @property
    def is_site(self) -> bool:
        """Tell whether what is seen here belongs to the site."""
        return self.verdict is not Belonging.ELSEWHERE


def recognise(
    subnet: IPv4Network,
    gateway_mac: MacAddress | None,
    known: Sequence[KnownSubnet],
    *,
    familiar: int = 0,
    expected: int = 0,
    named: Collection[IPv4Network] = (),
) -> Recognition:
    """Decide for one subnet.

    ``gateway_mac`` is None without a gateway or if it does not answer; ``familiar`` counts the other known adapters
    that were seen here, ``expected`` those that were here at the last scan; ``named`` are the subnets of site.toml.
    """
    if not known and not named:
        return Recognition(Belonging.FOUNDING, "the site has no subnet yet, this becomes its first")
    remembered = next((each for each in known if each.range == subnet), None)
    if remembered is None:
        if subnet in named:
            return Recognition(Belonging.OURS, "site.toml names this subnet")
        return Recognition(Belonging.ELSEWHERE, f"{subnet} is not one of its subnets")
    return _same_range(remembered, gateway_mac, familiar, expected)


def _same_range(
    remembered: KnownSubnet, gateway_mac: MacAddress | None, familiar: int, expected_here: int
) -> Recognition:
    expected = remembered.gateway_mac
    others = f"{counted(familiar, 'known device')} {'is' if familiar == 1 else 'are'} here"
    if gateway_mac is not None and gateway_mac == expected:
        return Recognition(Belonging.OURS, "subnet and gateway MAC are the known ones")
    if gateway_mac is not None and expected is not None:
        if familiar >= MANY_FAMILIAR and familiar * 2 >= expected_here > 0:
            reason = f"the gateway is {gateway_mac}, not {expected}, but {others}"
            return Recognition(Belonging.OURS, reason, gateway_changed=True)
        hint = f", though {others}: was the router replaced?" if familiar else ", so it is another network"
        return Recognition(
            Belonging.ELSEWHERE, f"the subnet is a known one, but its gateway is {gateway_mac}, not {expected}{hint}"
        )
    if familiar:
        return Recognition(Belonging.OURS, f"the subnet is a known one and {others}")
    if expected is None and gateway_mac is None:
        return Recognition(Belonging.OURS, "the subnet is a known one; it has no gateway to tell it by")
    if expected is None:
        reason = f"the subnet is a known one, but no known device is here, and its gateway {gateway_mac} is new"
    else:
        reason = f"the subnet is a known one, but its gateway {expected} does not answer, and no known device is here"
    return Recognition(Belonging.ELSEWHERE, reason)
