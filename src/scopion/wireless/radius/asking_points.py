"""The access points that may ask, by the address that a packet comes from, with their secrets.

A packet from this machine itself is a test: it is put to the access point whose secret it was made with.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from scopion.model.address import parse_address
from scopion.model.text import clean
from scopion.wire.radius import RadiusMessage, Signature, decode_radius
from scopion.wireless.radius.radius_settings import AskingSettings, RadiusSettings


@dataclass(frozen=True, slots=True)
class Secrets:
    """What an access point and this machine share; never shown."""

    secret: str = field(repr=False)
    password: str = field(default="", repr=False)


@dataclass(frozen=True, slots=True)
class AskingPoint:
    """One access point, and all networks of which it may ask at a port."""

    settings: AskingSettings
    secrets: Secrets
    networks: Mapping[str, str]  # the SSID by the text that a packet has, cleaned

    @property
    def name(self) -> str:
        """Return its name in ``site.toml``."""
        return self.settings.name

    @property
    def secret(self) -> bytes:
        """Return its secret as octets."""
        return self.secrets.secret.encode()


class AskingPoints:
    """All of them, by the port at which they ask."""

    def __init__(self, lists: Sequence[RadiusSettings], secrets: Mapping[tuple[str, str], Secrets]) -> None:
        """``secrets``: by the names of the list and of the access point."""
        self._by_port: dict[int, list[AskingPoint]] = {}
        self._found: dict[tuple[int, str], AskingPoint | None] = {}
        for settings in lists:
            for each in settings.access_point:
                for port in (settings.port, settings.accounting_port):
                    self._add(port, each, secrets[settings.name, each.name], settings.network)

    def _add(self, port: int, settings: AskingSettings, secrets: Secrets, network: str) -> None:
        there = self._by_port.setdefault(port, [])
        for number, each in enumerate(there):
            if (each.settings.range, each.name) == (settings.range, settings.name):
                there[number] = AskingPoint(each.settings, secrets, {**each.networks, clean(network): network})
                return
        there.append(AskingPoint(settings, secrets, {clean(network): network}))

    def at(self, port: int, source: str) -> AskingPoint | None:
        """Return the access point that asks from an address; None if none does."""
        key = (port, source)
        if key not in self._found:
            if len(self._found) > 1_000:  # a subnet of them, or strangers with made-up addresses
                self._found.clear()
            address = parse_address(source)
            self._found[key] = next((each for each in self.of(port) if each.settings.asks_from(address)), None)
        return self._found[key]

    def of(self, port: int) -> Iterable[AskingPoint]:
        """Return those that ask at a port."""
        return self._by_port.get(port, ())

    def of_test(self, port: int, data: bytes) -> tuple[AskingPoint, RadiusMessage] | None:
        """Return the access point whose secret a packet was signed with. Raises MalformedFrame."""
        for each in self.of(port):
            message = decode_radius(data, each.secret)
            if message.signature() is Signature.GOOD or message.has_genuine_authenticator():
                return each, message
        return None


@lru_cache(1_024)
def is_this_machine(source: str) -> bool:
    """Tell whether a packet has not left this machine."""
    return parse_address(source).is_loopback
