"""Reads what an access point asks: about which device, and for which network, in all the ways that makers write it."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from functools import lru_cache

from scopion.model.errors import InvalidMacAddress
from scopion.model.mac import MacAddress, Notation
from scopion.wire.radius import RadiusMessage
from scopion.wireless.radius.answer import Reason
from scopion.wireless.radius.radius_settings import MAC, AskingSettings

# Called-Station-Id: the access point's MAC address with hyphens, a colon, the SSID (RFC 3580, 3.20). Makers write the
# address in other notations, too.
_CALLED = re.compile(r"(?:[0-9A-Fa-f]{2}[-:. ]?){5}[0-9A-Fa-f]{2}(?::(?P<ssid>.*))?")
# Some write the device in capitals, with hyphens; some ask with the password in the notation of User-Name.
_NOTATIONS = tuple(Notation)


class Unanswerable(Exception):
    """A question that cannot be answered by a list."""

    def __init__(self, reason: Reason, said: str = "") -> None:
        """``said``: what it named, cleaned."""
        super().__init__(reason)
        self.reason, self.said = reason, said


@dataclass(frozen=True, slots=True)
class Station:
    """The device and the network that a packet is about."""

    mac: MacAddress
    network: str
    written: str  # the device, as this access point writes it


def station_of(message: RadiusMessage, asking: AskingSettings, networks: Collection[str]) -> Station:
    """Return what a packet is about; ``networks``: those that this access point may ask for. Raises Unanswerable."""
    mac, written = _device(message.text("User-Name"), message.text("Calling-Station-Id"), asking.user_name)
    return Station(mac, _network(message, asking, networks), written)


def require_password(message: RadiusMessage, mac: MacAddress, secret: str, password: str, *, signed: bool) -> None:
    """See that a question has a password that makers use, by PAP or CHAP. Raises Unanswerable.

    It proves nothing but the secret, and that only where the packet is not ``signed``: then there has to be one.
    """
    if message.has("EAP-Message"):
        raise Unanswerable(Reason.ENTERPRISE)
    name = message.text("User-Name")
    if message.has("CHAP-Password"):
        written = [mac.written(each) for each in _NOTATIONS]
        if not message.chap_is_one_of([password] if password else [name, *written, secret, ""]):
            raise Unanswerable(Reason.PASSWORD)
        return
    given = message.password()
    if given is None and not message.has("User-Password"):
        if not signed:
            raise Unanswerable(Reason.UNSIGNED)
        if password:
            raise Unanswerable(Reason.PASSWORD)
        return
    if given is None or not _is_usual(given, name, mac, secret, password):
        # With another secret the password is garbage; a signed packet has the right one.
        raise Unanswerable(Reason.PASSWORD if signed else Reason.SECRET)


def _is_usual(given: str, name: str, mac: MacAddress, secret: str, password: str) -> bool:
    if password:
        return given == password
    return given in ("", name, secret) or _mac(given) == mac


@lru_cache(4_096)  # the same devices ask again and again, in the same notation
def _device(name: str, calling: str, user_name: str) -> tuple[MacAddress, str]:
    by_calling = _mac(calling)
    if not user_name:
        if by_calling is None:
            raise Unanswerable(Reason.NO_MAC, calling or name)
        return by_calling, calling
    before, _, after = user_name.partition(MAC)
    fits = name.startswith(before) and name.endswith(after) and len(name) >= len(before) + len(after)
    by_name = _mac(name[len(before) : len(name) - len(after)]) if fits else None
    if by_name is None:
        # Accounting of a network that has both names the person or nothing; the device is in the other attribute.
        if by_calling is None or name:
            raise Unanswerable(Reason.NO_MAC, name or calling)
        return by_calling, calling
    if by_calling is not None and by_calling != by_name:
        raise Unanswerable(Reason.TWO_MACS, f"{name}, {calling}")
    return by_name, calling if by_calling is not None else name


def _network(message: RadiusMessage, asking: AskingSettings, networks: Collection[str]) -> str:
    if not asking.says_network:
        return next(iter(networks), "")
    said = _ssid(message.text("Called-Station-Id"))
    if said in networks:
        return said
    identifier = message.text("NAS-Identifier")
    if identifier in networks:
        return identifier
    raise Unanswerable(Reason.OTHER_NETWORK, said) if said else Unanswerable(Reason.NO_NETWORK, identifier)


@lru_cache(4_096)
def _ssid(called: str) -> str:
    found = _CALLED.fullmatch(called)
    return (found["ssid"] or "") if found is not None else called


@lru_cache(4_096)
def _mac(text: str) -> MacAddress | None:
    try:
        found = MacAddress.parse(text) if text else None
    except InvalidMacAddress:
        return None
    return None if found is None or found.is_multicast else found
