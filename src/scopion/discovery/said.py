"""Reads names and services from what hosts say, as clean traits."""

from __future__ import annotations

import re
from collections.abc import Iterable

from scopion.model.observation import Source, Trait, TraitKind
from scopion.model.text import clean
from scopion.wire.netbios import FILE_SERVER, WORKSTATION, NetbiosName

# Of a host that announces more services only these are kept.
MAX_SERVICES = 24
# 192-0-2-20.pool.example, host192.0.2.20.example: a provider made the name from the address.
_MADE_OF_ADDRESS = re.compile(r"(?<!\d)\d{1,3}[-.]\d{1,3}[-.]\d{1,3}[-.]\d{1,3}(?!\d)")
# A type and its protocol (RFC 6763, 7); the text before is an instance's name.
_SERVICE = re.compile(r"(?:^|\.)(_[a-z0-9-]{1,15}\._(?:tcp|udp))\.local$")


def host_name(text: str, source: Source) -> Trait | None:
    """Return a name as a trait; None if it is none: without a letter, or made from an address."""
    name = clean(text).strip(". ")
    if not re.search(r"[^\W\d_]", name) or name.casefold().endswith(".arpa") or _MADE_OF_ADDRESS.search(name):
        return None
    return Trait(TraitKind.NAME, name, source)


def services(names: Iterable[str]) -> list[Trait]:
    """Return the service types in names of types or instances: ``_ipp._tcp``; each once, within a limit."""
    matches = [_SERVICE.search(clean(name).casefold()) for name in names]
    kinds = dict.fromkeys(match[1] for match in matches if match)
    return [Trait(TraitKind.SERVICE, kind, Source.MDNS) for kind in list(kinds)[:MAX_SERVICES]]


def netbios_traits(names: Iterable[NetbiosName]) -> tuple[Trait, ...]:
    """Return a computer's own name, and whether it shares files."""
    found: list[Trait | None] = []
    for name in names:
        if name.suffix == WORKSTATION and not name.group:
            found.append(host_name(name.text, Source.NETBIOS))
        elif name.suffix == FILE_SERVER:
            found.append(Trait(TraitKind.SERVICE, "netbios-file-server", Source.NETBIOS))
    return tuple(trait for trait in found if trait is not None)
