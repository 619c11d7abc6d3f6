"""How long a device may be silent before it counts as gone: by device, by subnet, or in general."""

from __future__ import annotations

from datetime import timedelta
from ipaddress import IPv4Network

from scopion.alerts.missing import expectation
from scopion.model.device import Device
from scopion.model.errors import InvalidMacAddress
from scopion.model.mac import MacAddress
from scopion.operations.site.open_site import Site

# While a site is watched and its settings say nothing, a silent device gets this long: a phone that sleeps shows itself
# every few minutes.
_PATIENCE_S = 300.0
# In intervals between sweeps: one sweep that missed a device proves nothing.
_SWEEPS_MISSED = 1.5


class Patience:
    """How long each device of a subnet may be silent before it counts as gone."""

    def __init__(self, site: Site, subnet: IPv4Network, place: str | None = None) -> None:
        absence = site.settings.absence
        self._expect = site.settings.expect
        self._named = [
            ({name.casefold(), _as_mac(name)} - {""}, timedelta(seconds=each)) for name, each in absence.devices.items()
        ]
        chosen, usual = site.settings.absence_in(subnet, place).patience_s, absence.patience_s
        if usual is None and site.watch_state is not None:
            usual = max(_PATIENCE_S, _SWEEPS_MISSED * site.settings.interval_of(subnet, place))
        self._others = timedelta(seconds=(usual or 0.0) if chosen is None else chosen)

    def __call__(self, device: Device) -> timedelta:
        """Return how long a device may be silent."""
        expected = expectation(device, self._expect) if self._expect else None
        if expected is not None and expected.patience_s is not None:
            return timedelta(seconds=expected.patience_s)
        names = {device.label.casefold(), *map(str, device.macs)} if self._named else set()
        return next((seconds for called, seconds in self._named if called & names), self._others)

    @property
    def least(self) -> timedelta:
        """Return the shortest silence that can make any device count as gone."""
        expected = (timedelta(seconds=each.patience_s) for each in self._expect if each.patience_s is not None)
        return min((*(seconds for _, seconds in self._named), *expected, self._others))


def _as_mac(text: str) -> str:
    try:
        return str(MacAddress.parse(text))
    except InvalidMacAddress:
        return ""
