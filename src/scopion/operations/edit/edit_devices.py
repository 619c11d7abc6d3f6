"""What people say of their devices: labels, standings, that two are one, that one is forgotten. All can be undone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from scopion.model.device import Device, Standing, short_name
from scopion.model.errors import NotFound, Refused, ScopionError, UsageError
from scopion.model.text import counted, entered, joined
from scopion.operations.devices.list_devices import devices, find_device
from scopion.operations.edit.undo_change import undo
from scopion.operations.site.change_roster import change
from scopion.operations.site.open_site import Site
from scopion.roster.read_devices import all_devices
from scopion.roster.resolve import is_reserved, resolve
from scopion.roster.store.open_roster import Roster
from scopion.roster.undo.record_changes import Change, latest_in_force
from scopion.roster.write_descriptions import (
    forget_device,
    join_devices,
    require_unchanged,
    set_description,
    set_essential,
    set_kind,
    set_standing,
)

MAX_LABEL = 60
MAX_KIND = 40


@dataclass(frozen=True, slots=True)
class Mark:
    """The standing that a person gives a device, until when if it is a guest, and why."""

    standing: Standing
    until: date | None = None  # the guest's last day
    because: str = ""
    kind: str | None = None  # what it is, in place of a guess; empty: a guess again; None: as it is


def label_device(
    site: Site,
    which: str | Device,
    label: str | None = None,
    *,
    essential: bool | None = None,
    kind: str | None = None,
    **texts: str | None,
) -> tuple[Device, Device]:
    """Give a device a label, owner, place, note or kind; None leaves one as it is. Returns it as it was and as it is.

    A Device instead of words is one that a person looked at: if it was changed since, ChangedMeanwhile is raised.
    """
    wanted = checked_texts(label=label, **texts)
    if not wanted and essential is None and kind is None:
        raise UsageError("nothing to change: give a label, --kind, --owner, --place, --note or --essential")
    said_kind = entered(kind, "a kind", MAX_KIND) if kind is not None else None
    site.require_roster()
    with change(site, "label") as (roster, described):
        before = _meant(which, all_devices(roster))
        set_description(roster, before, **wanted)
        if essential is not None:
            set_essential(roster, before, essential)
        if said_kind is not None:
            set_kind(roster, before, said_kind, site.clock.now())
        after = again(roster, before)
        said = [_said(wanted), "" if essential is None else "essential" if essential else "not essential"]
        said += [f"kind {said_kind!r}" if said_kind else "kind by guess"] if said_kind is not None else []
        described.says = f"{before.called}: {', '.join(filter(None, said))}"
        return before, after


def called_alike(site: Site, which: str, label: str) -> Device | None:
    """Return another device whose own host name equals a label; None if there is none, or it cannot be looked up."""
    try:
        meant, everybody = find_device(site, which), devices(site)
    except ScopionError:  # the person who gives the label is told
        return None
    wanted = label.strip().casefold()
    for device in everybody:
        names = {
            part for name in device.host_names for part in (name.value.casefold(), short_name(name.value).casefold())
        }
        if device.id != meant.id and wanted in names:
            return device
    return None


def mark_devices(site: Site, which: Sequence[str | Device], mark: Mark) -> list[tuple[Device, Device]]:
    """Change the standing of devices, of all or, if one is not understood, of none. Returns before and after."""
    require_possible(site, mark)
    site.require_roster()
    with change(site, "mark") as (roster, described):
        known = all_devices(roster)
        chosen = list(dict.fromkeys(_meant(each, known) for each in which))
        for device in chosen:
            set_mark(site, roster, device, mark)
        described.says = f"{_named(chosen)} marked {mark.standing}"
        after = {device.id: device for device in all_devices(roster)}
        return [(device, after[device.id]) for device in chosen]


def mark_present(site: Site, mark: Mark) -> list[tuple[Device, Device]]:
    """Mark all present devices that are still new; the others keep their standing."""
    return mark_devices(site, [each for each in devices(site) if each.present and each.standing is Standing.NEW], mark)


def set_mark(site: Site, roster: Roster, device: Device, mark: Mark) -> None:
    """Mark one device, inside a change. An unchanged standing keeps its reason unless there is another."""
    because = entered(mark.because, "a reason") or (device.because if device.standing is mark.standing else "")
    set_standing(roster, device, mark.standing, site.clock.now(), until=mark.until, because=because)
    if mark.kind is not None:
        set_kind(roster, device, entered(mark.kind, "a kind", MAX_KIND), site.clock.now())


def same_devices(site: Site, which: Sequence[str | Device]) -> tuple[list[Device], Device]:
    """Join several devices into the first. Returns them as they were, and the joined one."""
    site.require_roster()
    with change(site, "same") as (roster, described):
        known = all_devices(roster)
        chosen = list(dict.fromkeys(_meant(each, known) for each in which))
        if len(chosen) < 2:
            raise UsageError(f"{chosen[0].called} is one device already" if chosen else "two devices are needed")
        kept, *others = chosen
        for other in others:
            if kept.own != other.own and not (kept.own and other.standing is Standing.NEW):
                own = other if other.own else kept
                raise Refused(f"{own.called}: this machine's adapters are joined by themselves")
            join_devices(roster, again(roster, kept), other)
        described.says = f"{_named(others)} the same as {kept.called}"
        return chosen, again(roster, kept)


def split_device(site: Site, which: str) -> tuple[Change, list[Device]]:
    """Take the latest joining of a device back; what was said since stays with the one that kept its number."""
    site.require_roster()
    device = find_device(site, which)
    joining = latest_in_force(site.roster, kind="same", device=device.id)
    if joining is None:
        raise NotFound(f"{device.called} was not joined with another by scopion same")
    before = {each.id for each in devices(site)}
    undo(site, joining.id, keep_later=True)
    after = [each for each in devices(site) if each.id == device.id or each.id not in before]
    return joining, after


def forget_devices(site: Site, which: Sequence[str]) -> list[Device]:
    """Remove devices with all that is known of them; all of them or none. Returns them as they were."""
    site.require_roster()
    with change(site, "forget") as (roster, described):
        known = all_devices(roster)
        chosen = list(dict.fromkeys(_meant(each, known) for each in which))
        own = next((device for device in chosen if device.own), None)
        if own is not None:
            raise Refused(f"{own.called} is the machine in front of you: the next scan would remember it again")
        for device in chosen:
            forget_device(roster, device)
        described.says = f"{_named(chosen)} forgotten"
        return chosen


def checked_texts(**texts: str | None) -> dict[str, str]:
    """Return texts of people as the roster keeps them; None is left out. Raises UsageError."""
    found = {}
    for column, text in texts.items():
        if text is not None:
            what, most = ("a label", {"limit": MAX_LABEL}) if column == "label" else (f"a text for {column}", {})
            found[column] = entered(text, what, **most)
    reason = is_reserved(found.get("label", ""))
    if reason:
        raise UsageError(f"{found['label']!r} cannot be a label: {reason}")
    return found


def again(roster: Roster, device: Device) -> Device:
    """Return a device as it is now."""
    return next(each for each in all_devices(roster) if each.id == device.id)


def _meant(which: str | Device, known: Sequence[Device]) -> Device:
    if isinstance(which, str):
        return resolve(known, which)
    now = next((each for each in known if each.id == which.id), None)
    require_unchanged(which, now)
    assert now is not None
    return now


def require_possible(site: Site, mark: Mark) -> None:
    """Raise UsageError for a mark that contradicts itself, or is over already."""
    if mark.until is None:
        return
    if mark.standing is not Standing.GUEST:
        raise UsageError(f"--until goes with guest, not with {mark.standing}")
    today = site.clock.local(site.clock.now()).date()
    if mark.until < today:
        raise UsageError(f"{mark.until.isoformat()} is over (today is {today.isoformat()}): a guest ends later")


def _said(texts: dict[str, str]) -> str:
    return ", ".join(f"{name} {text!r}" if text else f"no {name}" for name, text in texts.items())


def _named(chosen: Sequence[Device]) -> str:
    return joined([each.called for each in chosen]) if len(chosen) <= 3 else counted(len(chosen), "device")
