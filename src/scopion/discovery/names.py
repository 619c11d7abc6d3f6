"""Asks hosts and name servers for names, beside a scan. A state machine: no socket, no clock, times are arguments.

Every host is asked in three ways at the same time - reverse DNS (RFC 1035, 3.5), multicast DNS sent to it alone (RFC
6762, 5.5), NetBIOS node status (RFC 1002, 4.2.17) - and twice, because datagrams get lost. A host that has told no name
by then is asked once by group, in multicast DNS and LLMNR (RFC 4795). An answer counts only if it comes from the host
that was asked and has the number of the question.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from random import Random, SystemRandom

from scopion.attachment.ports import Letter
from scopion.discovery.paced import Paced
from scopion.discovery.said import host_name, netbios_traits, services
from scopion.model.address import Address
from scopion.model.errors import MalformedFrame
from scopion.model.observation import Source, Trait, TraitKind
from scopion.wire import dns, netbios

# When a host is asked again, and when it is given up, in seconds after the first question to it.
REPEAT_S, BY_GROUP_S, GIVE_UP_S = 0.25, 0.5, 1.0
# Questions a second to single hosts: 1,000 of some 90 bytes are 0.7 Mbit/s. On the air a station gets them at its own
# rate, in a tenth of a broadcast's time; those to groups go no faster than the scan's requests.
PACE = 1000.0
_SERVICES = "_services._dns-sd._udp.local"


@dataclass(frozen=True, slots=True)
class Question:
    """One datagram to send."""

    payload: bytes
    to: Address
    port: int
    by_resolver: bool = False  # it goes by the routes, not by the scan's interface


@dataclass(frozen=True, slots=True)
class _Open:
    """A question that may still be answered."""

    about: Address
    source: Source
    answerer: Address
    services: bool = False


@dataclass(frozen=True, slots=True)
class LearntName:
    """What an answer says about a host."""

    about: Address
    traits: tuple[Trait, ...] = field(default=())


class NameSearch:
    """The questions about some hosts, on this link or beyond. ``due`` gives what to send, ``heard`` takes what came."""

    def __init__(
        self,
        resolvers: Sequence[Address],
        *,
        on_link: bool = True,
        group_pace: float = PACE,
        chance: Random | None = None,
    ) -> None:
        self._on_link = on_link
        self._resolvers = tuple(resolvers)
        self._chance = chance or SystemRandom()  # random numbers: otherwise a forger could answer
        self._last_began = 0.0
        self._asked: set[Address] = set()
        self._unnamed: dict[Address, float] = {}  # since when each is asked about, in that order
        self._to_repeat: deque[tuple[float, Address]] = deque()
        self._to_ask_by_group: deque[tuple[float, Address]] = deque()
        self._open: dict[int, _Open] = {}
        self._direct = Paced[Question](PACE)
        self._by_groups = Paced[Question](min(PACE, group_pace))

    def ask_about(self, address: Address, now: float) -> None:
        """Begin to ask about a host."""
        if address in self._asked:
            return
        self._asked.add(address)
        self._last_began = self._unnamed[address] = now
        self._to_repeat.append((now + REPEAT_S, address))
        self._to_ask_by_group.append((now + BY_GROUP_S, address))
        self._direct.queue.extend(self._questions(address))

    def due(self, now: float) -> list[Question]:
        """Return what to send now, at the paces."""
        for waiting, paced, questions in (
            (self._to_repeat, self._direct, self._questions),
            (self._to_ask_by_group, self._by_groups, self._group_questions),
        ):
            while waiting and waiting[0][0] <= now:
                _, address = waiting.popleft()
                paced.queue.extend(questions(address) if address in self._unnamed else [])
        self._direct.queue.extend(self._by_groups.due(now))  # all questions together keep the pace, too
        return self._direct.due(now)

    def heard(self, letter: Letter) -> LearntName | None:
        """Return what an answer tells; None if it answers no question of ours or cannot be read."""
        known = self._open.get(int.from_bytes(letter.payload[:2]))
        if known is None or letter.sender != known.answerer:
            return None
        try:
            status = known.source is Source.NETBIOS
            traits = _read_status(letter.payload) if status else _read_dns(known, letter.payload)
        except MalformedFrame:
            return None
        if any(trait.kind is TraitKind.NAME for trait in traits):
            self._unnamed.pop(known.about, None)
        return LearntName(known.about, traits) if traits else None

    def done(self, now: float) -> bool:
        """Tell whether all hosts have answered or have had enough time."""
        if self._direct.queue or self._by_groups.queue or now < self._last_began + REPEAT_S:
            return False
        last_unnamed = next(reversed(self._unnamed.values()), None)
        return last_unnamed is None or now >= last_unnamed + GIVE_UP_S

    def _questions(self, address: Address) -> list[Question]:
        name = dns.reverse_name(address)
        found = [
            Question(self._dns(address, Source.DNS, server, name, recurse=True), server, dns.DNS_PORT, by_resolver=True)
            for server in ([] if address.is_link_local else self._resolvers)
        ]
        if self._on_link:
            found.append(Question(self._dns(address, Source.MDNS, address, name), address, dns.MDNS_PORT))
            listed = self._dns(address, Source.MDNS, address, _SERVICES, services=True)
            found.append(Question(listed, address, dns.MDNS_PORT))
        if isinstance(address, IPv4Address):
            number = self._number(_Open(address, Source.NETBIOS, address))
            found.append(Question(netbios.encode_status_request(number), address, netbios.PORT))
        return found

    def _group_questions(self, address: Address) -> list[Question]:
        if not self._on_link:
            return []
        name = dns.reverse_name(address)
        groups = (
            ((Source.MDNS, dns.MDNS_GROUP, dns.MDNS_PORT), (Source.LLMNR, dns.LLMNR_GROUP, dns.LLMNR_PORT))
            if address.version == 4
            else ((Source.MDNS, dns.MDNS_GROUP_6, dns.MDNS_PORT), (Source.LLMNR, dns.LLMNR_GROUP_6, dns.LLMNR_PORT))
        )
        return [Question(self._dns(address, source, address, name), group, port) for source, group, port in groups]

    def _dns(
        self,
        about: Address,
        source: Source,
        answerer: Address,
        name: str,
        *,
        recurse: bool = False,
        services: bool = False,
    ) -> bytes:
        number = self._number(_Open(about, source, answerer, services))
        unicast = source is Source.MDNS
        return dns.encode_question(number, name, recurse=recurse, unicast=unicast)

    def _number(self, question: _Open) -> int:
        """Return a free number; if half of them are taken, any one, and its question is given up if it was open."""
        number = self._chance.randrange(1, 1 << 16)
        while number in self._open and len(self._open) < 1 << 15:
            number = self._chance.randrange(1, 1 << 16)
        self._open[number] = question
        return number


def _read_status(payload: bytes) -> tuple[Trait, ...]:
    status = netbios.decode_netbios(payload)
    return netbios_traits(status.names) if isinstance(status, netbios.NodeStatus) else ()


def _read_dns(question: _Open, payload: bytes) -> tuple[Trait, ...]:
    message = dns.decode_dns(payload)
    if not message.response:
        return ()
    values = [record for record in message.values("PTR") if isinstance(record.value, str)]
    if question.services:
        return tuple(services(str(record.value) for record in values if record.name.casefold() == _SERVICES))
    wanted = dns.reverse_name(question.about)
    names = [host_name(str(record.value), question.source) for record in values if record.name.casefold() == wanted]
    return tuple(name for name in names[:1] if name is not None)
