"""What needs attention at a site, the most important first: each a sentence and the command that goes on from there."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

from scopion.model.alert import AlertState
from scopion.model.clock import spoken_span
from scopion.model.device import EventKind, Standing
from scopion.model.text import counted, joined
from scopion.model.week import on_the_wall
from scopion.operations.report.find_line_concerns import line_concerns
from scopion.operations.report.report_devices import Past
from scopion.operations.report.report_wireless import refused_stations
from scopion.operations.site.open_site import Site
from scopion.operations.site.site_settings import Settings
from scopion.reports.address_use import Use
from scopion.reports.content import Concern, DeviceLine, Report, Weight
from scopion.roster.folding.note_outages import down_since
from scopion.roster.outbox import count_alerts
from scopion.roster.read_devices import all_devices
from scopion.roster.read_events import EventFilter, count_events, find_events
from scopion.roster.store.open_roster import Roster

# This many are named; the others are counted.
_NAMED = 4
# A device without regular hours is never out of the ordinary.
_WITHOUT_A_RULE = ("", "seldom")
_STALE = timedelta(days=60)
_ON_AIR_LATELY = timedelta(days=1)
_LOOKED_LATELY = timedelta(days=2)
_ORDER = (Weight.HIGH, Weight.MEDIUM, Weight.LOW)


def concerns(site: Site, roster: Roster, report: Report, past: Past) -> tuple[Concern, ...]:
    """Return what there is to look at, from the report and the roster."""
    found = [
        *_standings(report),
        *_network(roster, report, past),
        *_habits(report, past),
        *_wireless(report),
        *_on_the_air(site, roster, past),
        *line_concerns(site, roster),
        *_refused(roster, report, past),
        *_service(site, roster, report, past),
    ]
    return tuple(sorted(found, key=lambda each: _ORDER.index(each.weight)))


def _standings(report: Report) -> Iterator[Concern]:
    """Yield devices that are here and should not be, or the other way round, and devices that are still new."""
    for each in _of(report, Standing.UNWANTED):
        if each.present:
            says = f"{each.name} is unwanted and here{_at(each)}."
            yield Concern(Weight.HIGH, says, f"scopion block {_word(report, each)}")
    for each in report.devices:
        if each.essential and not each.present:
            says = f"{each.name} is essential and not here: seen last {_when(each.last_seen)}."
            yield Concern(Weight.HIGH, says, f"scopion show {_word(report, each)}")
    new = _of(report, Standing.NEW)
    joined_now = [each for each in new if each.joined]
    if joined_now:
        verb = "is" if len(joined_now) == 1 else "are"
        says = f"{_names(joined_now)} {verb} new, and {_has(len(joined_now))} not been reviewed yet."
        yield Concern(Weight.MEDIUM, says, "scopion review")
    others = len(new) - len(joined_now)
    if others:
        says = f"{counted(others, 'device')} that came earlier {_has(others)} not been reviewed yet."
        yield Concern(Weight.LOW, says, "scopion review")


def _network(roster: Roster, report: Report, past: Past) -> Iterator[Concern]:
    """Yield concerns about addresses and gateways, and whether the network is there."""
    names = {each.number: each.name for each in report.devices}
    for subnet in report.subnets:
        there = f" in {subnet.place}" if subnet.place else ""
        elsewhere = subnet.place != roster.home
        for place in subnet.use.addresses:
            if place.use is Use.CONTESTED:
                who = joined([names.get(number, "a device") for number in place.devices])
                says = f"{place.address}{there} is used by {who}: only one of them can work."
                where = f" --place {shlex.quote(subnet.place)}" if elsewhere else ""
                yield Concern(Weight.HIGH, says, f"scopion spare {subnet.use.subnet}{where}")
        down = down_since(roster, subnet.use.subnet, subnet.place)
        if down is not None:
            wall = on_the_wall(down, past.local)
            since = _when(wall).removeprefix("on ")
            says = f"The network {subnet.name or subnet.use.subnet}{there} has been down since {since}."
            yield Concern(Weight.HIGH, says, "scopion sensors" if elsewhere else "scopion here")
    period = EventFilter(past.since_moment, past.until_moment, (EventKind.GATEWAY_CHANGED,), place=past.place)
    changed = count_events(roster, period)
    if changed:
        says = "Another machine answered as the gateway. If you have not replaced the router, this may be an attack."
        yield Concern(Weight.HIGH, says, "scopion events --kind gateway-changed")


def _habits(report: Report, past: Past) -> Iterator[Concern]:
    """Yield devices that are away though always here at this hour, and those that were here when they never are."""
    now = past.span.end
    hour = 6 * 24 + now.hour
    for each in report.devices:
        if each.missed and not each.present and not each.essential and hour in each.week.missed:
            says = f"{each.name} is nearly always here at this hour and is not: seen last {_when(each.last_seen)}."
            yield Concern(Weight.MEDIUM, says, f"scopion show {_word(report, each)}")
    odd = [each for each in report.devices if each.unusual and each.usually not in _WITHOUT_A_RULE]
    for each in odd[:_NAMED]:
        says = f"{each.name} was here at hours at which it never is: {each.unusual}."
        yield Concern(Weight.LOW, says, f"scopion show {_word(report, each)}")
    if len(odd) > _NAMED:
        says = f"{counted(len(odd) - _NAMED, 'more device')} had unusual hours, too."
        yield Concern(Weight.LOW, says, "scopion report --part hours")
    stale = [
        each
        for each in report.devices
        if each.standing == Standing.KNOWN and each.last_seen is not None and now - each.last_seen > _STALE
    ]
    if stale:
        was = "was" if len(stale) == 1 else "were"
        says = f"{_names(stale)} {was} not seen for {spoken_span(_STALE)} and more."
        yield Concern(Weight.LOW, says, f"scopion devices --not-seen-since '{_STALE.days} days'")


def _wireless(report: Report) -> Iterator[Concern]:
    """Yield lists that do not work or were never put in force, and the audit's worst findings."""
    for each in report.networks:
        name = shlex.quote(each.ssid)
        if each.works is False:
            says = f"The list of {each.ssid} did not do what it should when it was last verified: {each.verified}."
            yield Concern(Weight.HIGH, says, f"scopion wifi verify {name}")
        if each.due_since is not None:
            since = _when(each.due_since)
            says = f"The list of {each.ssid} changed {since}, and is not said to be typed into its router."
            yield Concern(Weight.HIGH, says, f"scopion wifi sheet {name}")
        elif each.to_type:
            says = f"A sheet of {each.ssid} waits ({each.to_type}): it is not said to be typed in."
            yield Concern(Weight.MEDIUM, says, f"scopion wifi done {name}")
        elif each.pending:
            how = "since it was last put in force" if each.pushed else "and was never put in force"
            go = f"scopion wifi {'push' if each.enforcers else 'sheet'} {name}"
            yield Concern(Weight.MEDIUM, f"The list of {each.ssid} was changed {how}.", go)
    grave = [each for each in report.audit if each.grade == "high"]
    for ssid in dict.fromkeys(each.ssid for each in grave):
        of_network = [each for each in grave if each.ssid == ssid]
        more = f" (and {len(of_network) - 1} more)" if len(of_network) > 1 else ""
        says = f"{ssid}, {of_network[0].about}: {of_network[0].says}{more}."
        yield Concern(Weight.HIGH, says, f"scopion wifi audit {shlex.quote(ssid)}")


def _on_the_air(site: Site, roster: Roster, past: Past) -> Iterator[Concern]:
    """Yield devices that were associated lately although a list in force refuses them."""
    until = past.until_moment
    found = refused_stations(site, roster, all_devices(roster), until - _ON_AIR_LATELY, until)
    for ssid in dict.fromkeys(each.ssid for each in found):
        of_network = [each for each in found if each.ssid == ssid]
        names = [each.called for each in of_network[:_NAMED]]
        more = len(of_network) - len(names)
        said = joined([*names, *([f"{more} more"] if more else [])])
        when = _when(on_the_wall(max(each.at for each in of_network), past.local))
        was = "was" if len(of_network) == 1 else "were"
        says = (
            f"{said} {was} associated with {ssid} {when}, although its list refuses {'it' if was == 'was' else 'them'}."
        )
        yield Concern(Weight.HIGH, says, f"scopion wifi verify {shlex.quote(ssid)}")


def _refused(roster: Roster, report: Report, past: Past) -> Iterator[Concern]:
    """Yield devices that no person has looked at, and that asked to join and were refused."""
    period = EventFilter(past.since_moment, past.until_moment, (EventKind.REFUSED_ATTEMPT,))
    tried = {event.device_id for event in find_events(roster, period)}
    new = [each for each in report.devices if each.number in tried and each.standing == Standing.NEW]
    if new:
        says = f"{_names(new)} asked to join the Wi-Fi and {'was' if len(new) == 1 else 'were'} refused."
        yield Concern(Weight.LOW, says, "scopion wifi stations --refused")


def _service(site: Site, roster: Roster, report: Report, past: Past) -> Iterator[Concern]:
    """Yield whether the site is scanned, and whether alerts reach a person."""
    failed = count_alerts(roster).get(AlertState.FAILED, 0)
    if failed:
        yield Concern(Weight.MEDIUM, f"{counted(failed, 'alert')} could not be delivered.", "scopion alerts list")
    blind = [each for each in report.days if not each.looked]
    if blind:
        says = f"On {counted(len(blind), 'day')} of the period there was no scan: what came then is not known."
        yield Concern(Weight.LOW, says, "scopion service install")
    last = max(past.looked_on, default=None)
    if last is not None and past.span.end.date() - last > _LOOKED_LATELY:
        says = f"There has been no scan since {last:%A}, {last.day} {last:%B}."
        yield Concern(Weight.MEDIUM, says, "scopion scan")
    if not site.settings.channel:
        says = "No alerts are sent when a device joins: no channel is set."
        yield Concern(Weight.LOW, says, "scopion setup" if site.settings == Settings() else "scopion alerts add")


def _of(report: Report, standing: Standing) -> list[DeviceLine]:
    return [each for each in report.devices if each.standing == standing]


def _names(lines: Sequence[DeviceLine]) -> str:
    names = [_named(each) for each in lines[:_NAMED]]
    more = len(lines) - _NAMED
    return joined([*names, *([f"{more} more"] if more > 0 else [])])


def _named(line: DeviceLine) -> str:
    """Return a name for readers: a MAC address says nothing to most, its vendor a little."""
    made_by = line.vendor if line.name in line.macs and not line.vendor.startswith("(") else ""
    return f"{line.name} ({made_by})" if made_by else line.name


def _word(report: Report, line: DeviceLine) -> str:
    """Return how a command names it: by its name if no other device has that, else by its MAC address."""
    alone = sum(each.name == line.name for each in report.devices) == 1
    return shlex.quote(line.name if (alone and not line.role) or not line.macs else line.macs[0])


def _has(count: int) -> str:
    return "has" if count == 1 else "have"


def _at(line: DeviceLine) -> str:
    return f", at {line.addresses[0]}" if line.addresses else ""


def _when(wall: datetime | None) -> str:
    if wall is None:
        return "never"
    return f"on {wall:%A}, {wall.day} {wall:%B}, at {wall:%H:%M}"
