"""Decides which channels get an alert of an event, how urgently, and when. Pure: the site's clock and history are
arguments.

A rule says which events go to which channels. The plan says whether an alert is sent at once or gathered with others:
while a subnet is being learnt, in night hours, when one device comes and goes, when much happens at a time.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, time, timedelta
from functools import cache
from ipaddress import IPv4Network

from scopion.alerts.alert_settings import AlertSettings, RuleSettings
from scopion.model.alert import Gathering, Severity
from scopion.model.clock import Clock
from scopion.model.device import Device, Event, EventKind, Standing
from scopion.model.errors import InvalidMacAddress
from scopion.model.mac import MacAddress
from scopion.model.week import NEVER, Week, parse_time

# These events are told where no rule names others.
WORTH_TELLING = (
    EventKind.JOINED, EventKind.CONTESTED, EventKind.GATEWAY_CHANGED, EventKind.UNWANTED_PRESENT,
    EventKind.GUEST_OVERSTAYED, EventKind.UNLISTED_PRESENT, EventKind.NETWORK_DOWN, EventKind.NETWORK_BACK,
    EventKind.SHEET_DUE, EventKind.MISSING, EventKind.MISSING_BACK, EventKind.REFUSED_ATTEMPT, EventKind.SENSOR_LOST,
    EventKind.SENSOR_BACK, EventKind.MOVED, EventKind.USES_MUCH,
)  # fmt: skip
USUAL_RULE = RuleSettings()
_SEVERITIES: Mapping[EventKind, Severity] = {
    EventKind.GATEWAY_CHANGED: Severity.HIGH,
    EventKind.UNWANTED_PRESENT: Severity.HIGH,
    EventKind.MISSING: Severity.HIGH,
    EventKind.MISSING_BACK: Severity.HIGH,  # who was called in the night may go back to bed
    EventKind.LEFT: Severity.LOW,
    EventKind.RETURNED: Severity.LOW,
    EventKind.READDRESSED: Severity.LOW,
    EventKind.RENAMED: Severity.LOW,
    EventKind.NETWORK_BACK: Severity.LOW,
    EventKind.SENSOR_BACK: Severity.LOW,
}
# Coming and going is one thing: a person who was told that a device came need not be told at once that it left and came
# again.
_COMING_AND_GOING = frozenset({EventKind.JOINED, EventKind.RETURNED, EventKind.LEFT})
# A person has to know these at once: a burst never holds them back.
# They end what others say, and need no one.
ENDS = frozenset({EventKind.MISSING_BACK, EventKind.NETWORK_BACK, EventKind.SENSOR_BACK})
_MISSED = frozenset({EventKind.MISSING, EventKind.MISSING_BACK})
_GRAVE = _MISSED | {
    EventKind.NETWORK_DOWN, EventKind.NETWORK_BACK, EventKind.CONTESTED, EventKind.GATEWAY_CHANGED,
    EventKind.SENSOR_LOST, EventKind.SENSOR_BACK,
}  # fmt: skip
# This many grave events at a time are told together, just as soon: a forger of addresses causes one mail, not many.
_GRAVE_TOGETHER = 20
# The first message of a burst is sent as soon as the events of the same moment are gathered, the next ones come in
# steps.
_BURST_GATHERS, _BURST_STEP = timedelta(seconds=1), timedelta(minutes=5)
# Devices that lost their access point together come back one after the other once it is there again.
_BACK_GATHERS = timedelta(seconds=90)
# A new device shows its names and its other addresses within moments, and a message that waits for them says more. Most
# devices are first heard with an address that they made up, before a DHCP server gives them another.
_SETTLES, _SETTLES_WITHOUT_ADDRESS = timedelta(seconds=0.6), timedelta(seconds=1.0)
# Where switches are read, they tell within seconds at which socket a new device hangs.
_SETTLES_AT_SWITCH = timedelta(seconds=4)
_NIGHT_PASSES = frozenset({Severity.HIGH})


@dataclass(frozen=True, slots=True)
class Occasion:
    """An event, and what a rule may ask about it."""

    event: Event
    standing: Standing | None = None  # None: the device is not known any more
    kind: str = ""  # the guessed kind of the device
    subnet: IPv4Network | None = None
    subnet_name: str = ""
    place: str = ""
    device_names: frozenset[str] = frozenset()  # its label and MAC addresses, casefolded
    at_gateway: bool = False  # the event is about the gateway's address
    learning: bool = False  # its subnet is being learnt
    severity: Severity | None = None  # of a device that is missed, by its own settings
    at_switch: bool = False  # a switch will tell where it hangs


@dataclass(frozen=True, slots=True)
class Telling:
    """How and when a channel is told."""

    severity: Severity
    due: datetime
    gathers: str = ""  # what it is gathered with; empty: it is sent alone


@dataclass(frozen=True, slots=True)
class AlertHistory:
    """What a channel was told before, as far as the plan needs it."""

    # whether the channel was told of such an event of this device since then
    lately: Callable[[frozenset[EventKind], datetime], bool]
    pressing: Callable[[datetime], int]  # how many single alerts were sent since then, or still wait
    gathered: Callable[[str, datetime], bool]  # whether several were told together since then, under this word


def channels_told(
    occasion: Occasion, rules: Sequence[RuleSettings], channels: Sequence[str], wall: datetime
) -> dict[str, Severity]:
    """Return the channels that are told, and how urgent it is: for each channel the first rule that fits counts.

    ``wall`` is the time on the site's clock. Without rules every channel is told what is worth telling.
    """
    found: dict[str, Severity] = {}
    for channel in channels:
        number = rule_for(occasion, rules, channel, wall)
        if number is not None and not (rules or (USUAL_RULE,))[number].silent:
            found[channel] = (rules or (USUAL_RULE,))[number].severity or severity_of(occasion)
    return found


def rule_for(occasion: Occasion, rules: Sequence[RuleSettings], channel: str, wall: datetime) -> int | None:
    """Return the place of the first rule that fits a channel and an event; None if none does.

    Without rules there is one, the usual, at place 0.
    """
    for number, rule in enumerate(rules or (USUAL_RULE,)):
        if (not rule.channels or channel in rule.channels) and _fits(occasion, rule, wall):
            return number
    return None


def hears_of_newcomers(rules: Sequence[RuleSettings], channel: str) -> bool:
    """Tell whether any rule may send to a channel that a device joined."""
    for rule in rules or (USUAL_RULE,):
        named = not rule.channels or channel in rule.channels
        if named and not rule.silent and EventKind.JOINED in (rule.events or WORTH_TELLING):
            return True
    return False


def severity_of(occasion: Occasion) -> Severity:
    """Return how much an event matters by itself: two adapters that claim the gateway's address may be an attack."""
    if occasion.severity is not None and occasion.event.kind in _MISSED:
        return occasion.severity
    if occasion.event.kind is EventKind.CONTESTED and occasion.at_gateway:
        return Severity.HIGH
    return severity_of_kind(occasion.event.kind)


def severity_of_kind(kind: EventKind) -> Severity:
    """Return how much events of a kind matter."""
    return _SEVERITIES.get(kind, Severity.NORMAL)


def _fits(occasion: Occasion, rule: RuleSettings, wall: datetime) -> bool:
    return (
        occasion.event.kind in (rule.events or WORTH_TELLING)
        and (not rule.standings or occasion.standing in rule.standings)
        and (not rule.kinds or occasion.kind in rule.kinds)
        and (not rule.subnets or bool({str(occasion.subnet), occasion.subnet_name} & {*rule.subnets}))
        and (not rule.places or occasion.place.casefold() in map(str.casefold, rule.places))
        and (not rule.devices or is_named(occasion.device_names, rule.devices))
        and (not rule.hours or _week(rule.hours).holds(wall))
    )


def names_of(device: Device | None) -> frozenset[str]:
    """Return what a setting may call a device: its label, casefolded, and its MAC addresses."""
    return frozenset({device.label.casefold(), *map(str, device.macs)} - {""}) if device is not None else frozenset()


def is_named(names: frozenset[str], listed: Iterable[str]) -> bool:
    """Tell whether a setting that lists devices names one."""
    return any(_name(each) in names for each in listed)


def _name(text: str) -> str:
    """Return a label as it is compared, or a MAC address in any notation."""
    try:
        return str(MacAddress.parse(text))
    except InvalidMacAddress:
        return text.casefold()


def plan(occasion: Occasion, severity: Severity, told: AlertHistory, settings: AlertSettings, clock: Clock) -> Telling:
    """Return when a channel gets an alert of an event, and whether alone."""
    now, event = clock.now(), occasion.event
    if occasion.learning and event.kind is EventKind.JOINED:
        return Telling(severity, _next(_digest_time(settings), clock, now), Gathering.LEARNING)
    night = _week(settings.night)
    held = severity not in _NIGHT_PASSES and night.holds(clock.local(now))
    if event.kind is EventKind.SHEET_DUE:  # a message of its own: it has the steps
        return Telling(severity, (night.next_change(now, clock.local) or now) if held else now)
    alike = _COMING_AND_GOING if event.kind in _COMING_AND_GOING else frozenset({event.kind})
    cool_down = timedelta(seconds=settings.cool_down_s)
    cooling = bool(cool_down) and told.lately(alike, now - cool_down)
    shared = event.name if event.kind in _MISSED else ""  # what it has in common with others: all are told together
    if cooling and not shared:
        return Telling(severity, now + cool_down, f"{Gathering.COOLING}:{event.device_id}")
    if held:
        return Telling(severity, night.next_change(now, clock.local) or now, Gathering.NIGHT)
    if shared:
        after = _BURST_GATHERS if event.kind is EventKind.MISSING else _BACK_GATHERS
        return Telling(severity, now + (cool_down if cooling else after), f"{Gathering.MISSED}:{event.kind}:{shared}")
    window = timedelta(seconds=settings.burst_s)
    if is_grave(event.kind, severity):
        if told.pressing(now - window) >= max(settings.burst, _GRAVE_TOGETHER):
            return Telling(severity, now + _BURST_GATHERS, Gathering.GRAVE)
    elif told.pressing(now - window) >= settings.burst:
        step = min(_BURST_STEP, window) if told.gathered(Gathering.BURST, now - window) else _BURST_GATHERS
        return Telling(severity, now + step, Gathering.BURST)
    if event.kind is not EventKind.JOINED:
        return Telling(severity, now)
    if occasion.at_switch:
        return Telling(severity, now + _SETTLES_AT_SWITCH)
    return Telling(severity, now + (_SETTLES_WITHOUT_ADDRESS if event.address.is_link_local else _SETTLES))


def is_grave(kind: EventKind, severity: Severity) -> bool:
    """Tell whether an event is told at once even in the middle of a burst."""
    return severity is Severity.HIGH or kind in _GRAVE


@cache
def _week(hours: str) -> Week:
    """Return the hours of a rule or of the night; none if nothing is set."""
    return Week.parse(hours) if hours else NEVER


def _digest_time(settings: AlertSettings) -> time:
    at = parse_time(settings.digest_at)
    assert at is not None  # checked when the settings were read
    return at


def _next(wall: time, clock: Clock, now: datetime) -> datetime:
    """Return the next moment at which the site's clock shows a time of day."""
    local = clock.local(now).replace(tzinfo=None)
    at = datetime.combine(local.date(), wall)
    return clock.from_local(at if at > local else at + timedelta(days=1))
