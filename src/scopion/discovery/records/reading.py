"""The result of reading a record: observations, and what could not be read, with its place."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from ipaddress import IPv4Network
from typing import TYPE_CHECKING

from scopion.model.address import Address, is_of_a_host
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Observation, Source, Trait
from scopion.model.text import clean

if TYPE_CHECKING:
    from scopion.discovery.client_lists.clients import Client

# Of a thousand broken lines the first few tell what is wrong.
_TOLD = 200
# The largest office has fewer; a longer file was made to fill our memory.
MAX_RECORDS = 65_536


class RecordKind(StrEnum):
    """The kinds that come with the program."""

    CLIENT_LIST = "client-list"
    DNSMASQ = "dnsmasq"
    ISC_DHCPD = "isc-dhcpd"
    KEA = "kea"
    NEIGHBOURS = "neighbours"
    CAPTURE = "capture"


@dataclass(frozen=True, slots=True)
class RecordContext:
    """What a reader needs beside the text."""

    as_of: datetime  # the time of a record that has none itself; times without a zone are in its zone
    subnets: tuple[IPv4Network, ...] = ()  # those of the site, where they are known


@dataclass(frozen=True, slots=True)
class UnreadPart:
    """Something that could not be read."""

    where: str  # line 7, offset 1024
    why: str
    text: str = ""  # the beginning of it

    def __str__(self) -> str:
        return f"{self.where}: {self.why}" + (f": {self.text!r}" if self.text else "")


@dataclass(slots=True)
class Reading:
    """The result. ``about`` names in a clause what the record was taken for."""

    kind: str  # a name of the registry
    observations: list[Observation] = field(default_factory=list)
    about: str = ""
    problems: list[UnreadPart] = field(default_factory=list)  # the first few
    unread: int = 0  # how many could not be read in all
    full: bool = False
    absent: set[MacAddress] = field(default_factory=set)  # the adapters that the record calls away
    clients: dict[MacAddress, Client] = field(default_factory=dict)  # what a client list says of each adapter

    def trouble(self, where: str, why: str, text: str = "") -> None:
        """Note something that could not be read."""
        self.unread += 1
        if len(self.problems) < _TOLD:
            self.problems.append(UnreadPart(where, why, clean(text, 60)))

    def add(
        self,
        at: datetime,
        source: Source,
        mac: MacAddress | None,
        address: Address | None,
        traits: tuple[Trait | None, ...] = (),
        medium: Medium = Medium.UNKNOWN,
        undated: bool = False,
    ) -> bool:
        """Take in one record. Returns False if it has neither a host's MAC address nor an address.

        ``undated``: it knows of an adapter, and does not say when it was there.
        """
        if mac is not None and (mac.is_multicast or not any(mac.octets)):
            mac = None
        if address is not None and not is_of_a_host(address):
            address = None
        if mac is None:
            return False
        if len(self.observations) >= MAX_RECORDS:
            if not self.full:
                self.full = True
                self.trouble(
                    "the rest", f"more than {MAX_RECORDS:,} records: that is not a list of one network's devices"
                )
            return True
        said = tuple(trait for trait in traits if trait is not None)
        self.observations.append(
            Observation(mac, address, at, source, medium, traits=said, recorded=True, undated=undated)
        )
        return True
