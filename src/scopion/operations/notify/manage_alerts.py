"""What people do with alerts: list them, test a channel, try again, mute, and end the learning of a subnet."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import IPv4Network
from typing import TYPE_CHECKING

from scopion.alerts.alert_settings import TERMINAL
from scopion.model.alert import Alert, AlertState
from scopion.model.device import EventKind
from scopion.model.errors import NotFound, ScopionError
from scopion.model.place import PlacedSubnet
from scopion.operations.devices.list_devices import devices, find_device
from scopion.operations.devices.map_addresses import placed_subnets_called
from scopion.operations.folder.read_secret import read_secret
from scopion.operations.intake.queue_alerts import learnt_subnets
from scopion.operations.notify.word_alerts import AlertWriter, called_subnet, phrases_of
from scopion.operations.site.change_roster import change
from scopion.operations.site.open_site import Site
from scopion.roster import mutes as muting
from scopion.roster.follow_alerts import Seen, seen_of
from scopion.roster.mutes import Mute, set_learning
from scopion.roster.outbox import count_alerts, find_alerts, retry

if TYPE_CHECKING:
    from scopion.alerts.channels.channel import Channel, Trace
    from scopion.alerts.message import Message


@dataclass(frozen=True, slots=True)
class ListedAlert:
    """An alert, with its subject as it was sent or would be sent now."""

    alert: Alert
    subject: str
    seen: Seen | None  # who takes care of it


@dataclass(frozen=True, slots=True)
class AlertList:
    """A part of the list, and how many alerts there are in all."""

    listed: tuple[ListedAlert, ...]
    counts: dict[AlertState, int]
    channels: tuple[str, ...]  # that site.toml has


def alert_list(
    site: Site, states: Sequence[AlertState] = (), channel: str | None = None, limit: int | None = None
) -> AlertList:
    """Return the latest alerts, in the order of their making."""
    names = tuple(each.name for each in site.settings.channel)
    roster = site.roster_for_reading()
    found = find_alerts(roster, states=states, channel=channel, limit=limit)
    writer = AlertWriter(site, roster)
    listed = tuple(ListedAlert(alert, writer.message(alert).subject, seen_of(roster, alert.id)) for alert in found)
    return AlertList(listed, count_alerts(roster), names)


def message_of(site: Site, number: int) -> Message:
    """Return the message of an alert, as it was sent or would be sent now. Raises NotFound."""
    roster = site.roster_for_reading()
    found = find_alerts(roster, numbers=[number])
    if not found:
        raise NotFound(f"there is no alert {number}: scopion alerts lists them")
    return AlertWriter(site, roster).message(found[0])


def retry_alerts(site: Site, numbers: Sequence[int]) -> list[Alert]:
    """Let alerts be tried at once: those named, else all that have failed or wait for another try. Raises NotFound."""
    site.require_roster()
    roster = site.roster
    undelivered = (AlertState.FAILED, AlertState.WAITING)
    chosen = [each for each in find_alerts(roster, states=undelivered, numbers=numbers) if numbers or each.attempts]
    missing = set(numbers) - {each.id for each in chosen}
    if missing:
        raise NotFound(f"there is no alert {min(missing)} that has failed or waits: scopion alerts list")
    retry(roster, [each.id for each in chosen])
    return chosen


def channel_called(site: Site, name: str) -> Channel:
    """Return a channel of ``site.toml`` by its name. Raises NotFound."""
    from scopion.alerts.channels.registry import open_channel

    for settings in site.settings.channel or (TERMINAL,):
        if settings.name == name:
            return open_channel(settings, secret_reader(site), site.folder)
    known = [each.name for each in site.settings.channel]
    raise NotFound(
        f"there is no channel {name!r}: site.toml has {', '.join(known)}"
        if known
        else f"there is no channel {name!r}: none is set yet, scopion alerts add makes one"
    )


def secret_reader(site: Site) -> Callable[[str, str], str]:
    """Return a function that reads the secrets of site.toml."""
    return lambda reference, what: read_secret(reference, site.folder, what)


def test_channel(site: Site, name: str, trace: Trace) -> None:
    """Send a marked test now and report each step. Raises NotFound, or ScopionError with what went wrong."""
    import uuid

    from scopion.alerts.channels.channel import DeliveryFailed
    from scopion.alerts.deliver import delivered
    from scopion.alerts.wording import test_message

    channel = channel_called(site, name)
    message = test_message(uuid.uuid4().hex, name, site.clock.now(), phrases_of(site))
    try:
        delivered(message, channel, trace)
    except DeliveryFailed as failure:
        raise ScopionError(str(failure)) from None


@dataclass(frozen=True, slots=True)
class Muted:
    """A mute, as people say it."""

    mute: Mute
    device: str  # empty: any


def muted(site: Site) -> list[Muted]:
    """Return what is muted now."""
    called = {device.id: device.called for device in devices(site)}
    now = site.clock.now()
    return [
        Muted(each, called.get(each.device_id, "") if each.device_id is not None else "")
        for each in muting.mutes(site.roster_for_reading(), now)
    ]


def mute(site: Site, which: str | None, kind: EventKind | None, until: datetime) -> Muted:
    """Tell nothing of a device, of a kind of event, or of such an event of a device until then."""
    site.require_roster()
    device = find_device(site, which) if which else None
    now = site.clock.now()
    number = device.id if device else None
    with change(site, "mute", f"muted {_subject(device.called if device else '', kind)}") as (roster, _):
        muting.mute(roster, number, kind, now, until)
    return Muted(Mute(0, number, kind, now, until), device.called if device else "")


def unmute(site: Site, which: str | None, kind: EventKind | None) -> int:
    """End the mutes of exactly this; all if nothing is named. Returns how many ended. Raises NotFound for none."""
    site.require_roster()
    device = find_device(site, which) if which else None
    with change(site, "mute", f"ended the muting of {_subject(device.called if device else '', kind)}") as (roster, _):
        ended = muting.unmute(roster, device.id if device else None, kind)
    if not ended:
        raise NotFound("nothing of that is muted: scopion alerts mute lists what is")
    return ended


def _subject(device: str, kind: EventKind | None) -> str:
    return " of ".join(filter(None, (str(kind) if kind else "", device))) or "everything"


@dataclass(frozen=True, slots=True)
class LearningSubnet:
    """A subnet that is being learnt."""

    range: IPv4Network
    place: str
    name: str  # as people call it
    until: datetime


def learning_subnets(site: Site) -> list[LearningSubnet]:
    """Return the subnets that are being learnt: devices that join them are told once a day."""
    learnt = learnt_subnets(site, site.roster_for_reading())
    return [
        LearningSubnet(each.range, each.place, called_subnet(site, each.range, each.place), each.until)
        for each in learnt
    ]


def end_learning(
    site: Site, which: str | None, place: str | None = None, until: datetime | None = None
) -> list[PlacedSubnet]:
    """Let the learning of a subnet, or of all of a place or of the site, end now or at a moment. Raises NotFound."""
    site.require_roster()
    at = until or site.clock.now() - timedelta(seconds=1)  # over, even if its fraction is cut
    learnt = [PlacedSubnet(each.place, each.range) for each in learning_subnets(site)]
    all_of_it = [each for each in learnt if place in (None, each.place)]
    chosen = placed_subnets_called(site, which, place) if which else all_of_it
    if not chosen:
        raise NotFound("no subnet is being learnt")
    for each in chosen:
        if not set_learning(site.roster, each.range, each.place, at):
            raise NotFound(f"{each} is not a subnet of the site: scopion here shows them")
    return chosen
