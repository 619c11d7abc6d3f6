"""Asks the server of this site as an access point would, to see what it answers."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.model.address import Address
from scopion.model.errors import NotFound
from scopion.model.mac import MacAddress, Notation
from scopion.operations.answers.make_responder import secrets_of
from scopion.operations.site.open_site import Site
from scopion.wire.radius import Attributes, Code, encode_request
from scopion.wireless.radius.answer import Outcome
from scopion.wireless.radius.radius_settings import MAC, AskingSettings, RadiusSettings
from scopion.wireless.radius.responder import TEST

_NOBODY = "00-00-00-00-00-00"  # the BSSID of a question that comes from no radio
_WIRELESS = 19  # NAS-Port-Type (RFC 3580, 3.14)


@dataclass(frozen=True, slots=True)
class TestAnswer:
    """What the server answered about one device, for one access point."""

    access_point: str
    mac: MacAddress
    outcome: Outcome
    took_s: float | None = None  # None: no answer came
    until: datetime | None = None  # when the session ends
    vlan: str = ""


def radius_settings_of(site: Site, ssid: str) -> RadiusSettings:
    """Return how a network's list is asked for by RADIUS. Raises NotFound."""
    found = [each for each in site.settings.enforcer if isinstance(each, RadiusSettings)]
    for each in found:
        if each.network == ssid:
            return each
    known = ", ".join(repr(each.network) for each in found)
    has = f"it has {known}" if known else "docs/settings.md has an example"
    raise NotFound(f"site.toml has no [[enforcer]] of type radius for {ssid!r}: {has}")


def ask_server(
    site: Site,
    settings: RadiusSettings,
    macs: Sequence[MacAddress],
    *,
    access_point: str | None = None,
    source: Address | None = None,
) -> list[TestAnswer]:
    """Ask about each device for each access point, or one. Raises NotFound, InvalidSettings, NoInterface.

    ``source``: the address of this machine to ask from; else the server sees that this machine asks.
    """
    points = [each for each in settings.access_point if access_point in (None, each.name)]
    if not points:
        known = ", ".join(each.name for each in settings.access_point)
        raise NotFound(f"{settings.name} has no access point {access_point!r}: it has {known}")
    return [_ask(site, settings, each, mac, source) for each in points for mac in macs]


def _ask(
    site: Site, settings: RadiusSettings, asking: AskingSettings, mac: MacAddress, source: Address | None
) -> TestAnswer:
    shared = secrets_of(settings, asking, site.folder)
    written = mac.written(Notation.BARE)
    attributes: Attributes = {
        "User-Name": asking.user_name.replace(MAC, written) if asking.user_name else written,
        "Calling-Station-Id": mac.written(Notation.HYPHEN),
        "Called-Station-Id": f"{_NOBODY}:{settings.network}",
        "NAS-Identifier": TEST,
        "NAS-Port-Type": _WIRELESS,
    }
    request = encode_request(
        Code.ACCESS_REQUEST,
        shared.secret.encode(),
        attributes,
        identifier=secrets.randbelow(256),
        password=shared.password or written,
    )
    began = site.clock.monotonic()
    reply = site.answering(settings.network).ask(
        request.octets, settings, lambda data: request.read_reply(data, signed=True), source
    )
    if reply is None:
        return TestAnswer(asking.name, mac, Outcome.NO_ANSWER)
    took = site.clock.monotonic() - began
    if reply.code != Code.ACCESS_ACCEPT:
        return TestAnswer(asking.name, mac, Outcome.REJECTED, took)
    seconds, vlan = reply.number("Session-Timeout"), reply.text("Tunnel-Private-Group-Id")
    until = site.clock.now() + timedelta(seconds=seconds) if seconds is not None else None
    outcome = Outcome.OTHER_VLAN if vlan else Outcome.ACCEPTED
    return TestAnswer(asking.name, mac, outcome, took, until, vlan)
