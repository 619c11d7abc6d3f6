"""Tells what access points have asked and were told, with the names of devices and what to mend."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from scopion.model.mac import MacAddress
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.radius.meant_macs import meant_macs, names_on_lists
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.wireless.radius.answer import ADVICE, FAULTS, Answer
from scopion.wireless.radius.radius_settings import radius_lists


@dataclass(frozen=True, slots=True)
class ToldAnswer:
    """One answer, for showing."""

    answer: Answer
    name: str  # of the device; empty: it has none
    until: datetime | None  # when the session ends that it began
    ends: bool  # it ends then, because the device is not admitted any longer
    advice: str  # what to do about a fault; empty: it is none


def tell_answers(
    site: Site,
    ssid: str | None = None,
    which: Sequence[str] = (),
    *,
    since: datetime | None = None,
    faults: bool = False,
    most: int | None = None,
) -> tuple[list[ToldAnswer], int]:
    """Return the latest answers of the server's log, the latest at the end, and how many fit in all.

    Raises NotFound for a device that is not known, DamagedRoster, StorageFailed.
    """
    site.settle_answers()
    devices = all_devices(site.roster_for_reading())
    macs = {mac for text in which for mac, _ in meant_macs(devices, text, lambda device: device.macs)}
    files = RadiusFiles(site.folder)
    names = dict(names_on_lists(files, radius_lists(site.settings.enforcer)))
    for device in devices:
        if device.called not in map(str, device.macs):
            names |= dict.fromkeys(device.macs, device.called)
    found = [
        each
        for each in files.answers()
        if (ssid is None or each.network in (ssid, ""))
        and (not which or each.mac in macs)
        and (since is None or each.at >= since)
        and (not faults or each.reason in FAULTS)
    ]
    kept = found if most is None else found[-most:]
    return [_told(each, names) for each in kept], len(found)


def _told(answer: Answer, names: Mapping[MacAddress, str]) -> ToldAnswer:
    name = names.get(answer.mac, "") if answer.mac is not None else ""
    until = answer.at + timedelta(seconds=answer.session_s) if answer.session_s is not None else None
    advice = ADVICE.get(answer.reason, "") if answer.reason in FAULTS else ""
    return ToldAnswer(answer, name, until, answer.ends, advice)
