"""Routers that count octets by MAC address in their firewall: set up when asked to, read, and taken down."""

from __future__ import annotations

from scopion.attachment.ports import Shell
from scopion.discovery import flow_table
from scopion.discovery.flow_table import FlowCount
from scopion.model.errors import EnforcerUnreachable, NotFound
from scopion.model.mac import MacAddress
from scopion.model.usage import Count, UsageSource
from scopion.operations.site.open_site import Site
from scopion.operations.site.reach_machine import ssh_access
from scopion.operations.site.usage_settings import MeterSettings
from scopion.roster.usage.counters import CountRead

_NO_ONE = MacAddress(bytes(6))


def set_up_meter(site: Site, name: str) -> MeterSettings:
    """Put the table of counters into a router's firewall; it begins with 0. Raises NotFound, EnforcerUnreachable."""
    meter = meter_called(site, name)
    ran = _shell(site, meter).carry_out(flow_table.set_up_jobs(meter.interface))
    flow_table.require_done(meter.name, ran[0])
    flow_table.counts_in(meter.name, ran[-1])  # it is there
    return meter


def take_down_meter(site: Site, name: str) -> MeterSettings:
    """Remove the table. Raises NotFound, EnforcerUnreachable."""
    meter = meter_called(site, name)
    flow_table.require_done(meter.name, _shell(site, meter).carry_out(flow_table.take_down_jobs())[0])
    return meter


def meter_called(site: Site, name: str) -> MeterSettings:
    """Return a meter of site.toml by its name. Raises NotFound."""
    found = next((each for each in site.settings.meter if each.name.casefold() == name.casefold()), None)
    if found is None:
        known = ", ".join(each.name for each in site.settings.meter)
        advice = f"there are {known}" if known else "write a [[meter]] with its name and interface"
        raise NotFound(f"site.toml has no meter {name!r}: {advice}")
    return found


def read_meter(site: Site, meter: MeterSettings) -> list[CountRead]:
    """Return what a router has counted. Raises Refused if it was not set up, EnforcerUnreachable."""
    (ran,) = _shell(site, meter).carry_out(flow_table.questions())
    return as_counts(site, meter, flow_table.counts_in(meter.name, ran))


def as_counts(site: Site, meter: MeterSettings, counts: list[FlowCount]) -> list[CountRead]:
    """Return counts of a router. It has no time of its own: this machine's does, which no one sets."""
    boot = site.boot()
    own, mark = (boot.seconds, boot.identity) if boot is not None else (None, "")
    return [
        CountRead(
            UsageSource.FLOW,
            str(each.mac),
            meter.name,
            Count(each.up, each.down, own, mark=mark),
            key=f"{each.mac} {meter.name}",
            new_is_zero=True,
        )
        for each in [*counts, FlowCount(_NO_ONE, 0, 0)]  # a table without any counter was read, too
    ]


def _shell(site: Site, meter: MeterSettings) -> Shell:
    if site.story is not None:
        raise EnforcerUnreachable(f"{meter.name} is made up: it counts nothing")
    return site.shells.open(ssh_access(site.folder, meter.ssh) if meter.ssh is not None else None)
