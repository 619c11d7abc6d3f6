"""Lists the associated stations, with what the roster knows of them and whether the lists admit them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from scopion.model.device import Device
from scopion.model.errors import NotFound
from scopion.operations.intake.count_octets import count_stations
from scopion.operations.pages.held_by import reached
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.load_policy import policy_for
from scopion.operations.wifi.open_enforcers import Unread, read_stations, remember_stations
from scopion.roster.read_devices import all_devices
from scopion.roster.wifi import lists
from scopion.wireless.enforcers.enforcer import Located
from scopion.wireless.list_policy import wanted


@dataclass(frozen=True, slots=True)
class StationRow:
    """A station, for showing."""

    located: Located
    device: Device | None
    listed: str  # its list of the network; empty: none
    entry: str  # what its entry there is called
    admitted: bool  # whether the lists admit it now

    @property
    def name(self) -> str:
        """Return what it is called, in the roster or on its list; empty if nothing but its address is known."""
        mac = str(self.located.station.mac)
        called = (self.device.called if self.device else "", self.entry)
        return next((each for each in called if each not in ("", mac)), "")

    @property
    def traffic(self) -> int:
        """Return octets each way together."""
        return (self.located.station.received or 0) + (self.located.station.sent or 0)


def look_at_stations(site: Site) -> list[Unread]:
    """Read the access points and remember the stations. Returns what could not be read."""
    found, unread = read_stations(site)
    whole = {each.name for each in reached(site)} - {each.enforcer for each in unread}
    count_stations(site, found)
    remember_stations(site, found, whole, site.clock.now())
    return unread


def stations(site: Site, ssid: str | None = None) -> tuple[list[StationRow], list[Unread]]:
    """Read the access points, and remember the stations; else those of the latest pasted list.

    Raises NotFound if there is neither.
    """
    found, unread = read_stations(site, ssid, pasted_within=timedelta.max)
    if not found and not unread and not reached(site, ssid):
        what = f"of {ssid!r} " if ssid else ""
        raise NotFound(
            f"no stations {what}are known: copy the router's list of wireless clients into scopion import -; where the "
            "access point can be reached, an [[enforcer]] in site.toml says how"
        )
    roster = site.roster
    if found:
        remember_stations(site, found)
    devices = all_devices(roster)
    of_mac = {mac: device for device in devices for mac in device.macs}
    networks = {each.ssid: each for each in lists.all_networks(roster)}
    policies = {name: policy_for(roster, each, devices) for name, each in networks.items()}
    rows = []
    for each in found:
        policy = policies.get(each.ssid)
        mac = each.station.mac
        entries = [rule for rule in policy.rules if rule.line.mac == mac] if policy else []
        on = [rule.list for rule in entries]
        called = next((rule.line.name for rule in entries if rule.line.name), "")
        listed = str(policy.mode if policy and policy.mode in on else next(iter(on), ""))
        now = wanted(policy, each.at, site.clock.local) if policy else None
        rows.append(StationRow(each, of_mac.get(mac), listed, called, now is None or now.admits(mac)))
    order = {"2.4": 0, "5": 1, "6": 2}
    rows.sort(
        key=lambda row: (
            row.located.ssid,
            row.located.access_point,
            order.get(row.located.radio, 3),
            row.device.called.casefold() if row.device else "~",
            row.located.station.mac,
        )
    )
    return rows, unread
