"""Gathers what the sheet of a list by RADIUS has: this machine's address, essential devices, and secrets if wanted."""

from __future__ import annotations

from scopion.operations.answers.make_responder import secrets_of
from scopion.operations.radius.ask_server import radius_settings_of
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.load_policy import essential_on, own_interfaces
from scopion.roster.read_devices import all_devices
from scopion.wireless.radius.radius_settings import RadiusSettings
from scopion.wireless.radius.radius_sheet import RadiusSheetFacts, radius_sheet
from scopion.wireless.refusals import on_the_air
from scopion.wireless.router_sheet import Sheet


def sheet_for(site: Site, ssid: str, *, show_secrets: bool = False) -> Sheet:
    """Return what to enter in the pages of a network's access points. Raises NotFound, InvalidSettings."""
    settings = radius_settings_of(site, ssid)
    roster = site.roster_for_reading()
    essential = [
        (mac, device.called) for device in essential_on(roster, ssid, all_devices(roster)) for mac in on_the_air(device)
    ]
    shown = {each.name: secrets_of(settings, each, site.folder).secret for each in settings.access_point}
    return radius_sheet(
        RadiusSheetFacts(
            settings,
            f"{site.clock.local(site.clock.now()):%A %Y-%m-%d, %H:%M}",
            str(settings.listen) if settings.listen is not None else _address_towards(site, settings),
            second=str(settings.standby.address) if settings.standby is not None else "",
            secrets=shown if show_secrets else {},
            essential=essential,
        )
    )


def _address_towards(site: Site, settings: RadiusSettings) -> str:
    """Return this machine's address in the subnet of an access point; empty if it is in none."""
    for each in settings.access_point:
        for interface in own_interfaces(site) or ():
            first = each.range.network_address
            if first.version == 4 and (found := interface.address_in(first)) is not None:
                return str(found)
            if first.version == 6 and (its := interface.ipv6_towards(first)) is not None:
                return str(its)
    return ""
