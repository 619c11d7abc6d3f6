"""What people say of their devices: labels and standings. Batch in, one transaction, out."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

from scopion.model.device import Device, Standing
from scopion.model.errors import NotFound, UsageError
from scopion.model.text import entered
from scopion.operations.site import Site
from scopion.roster.devices import all_devices, set_description, set_standing
from scopion.roster.resolve import is_reserved, resolve
from scopion.roster.store import Roster

MAX_LABEL = 60


def devices(site: Site) -> list[Device]:
    """Every device that the roster remembers. Changes nothing, makes nothing."""
    roster = site.roster_for_reading()
    return all_devices(roster) if roster is not None else []


def label_device(
    site: Site, which: str, label: str | None, *, owner: str | None, place: str | None, note: str | None
) -> tuple[Device, Device]:
    """Give a device a label, owner, place or note; None leaves one as it is. Returns it as it was and as it is."""
    given = {"owner": owner, "place": place, "note": note}
    texts = {column: entered(text, f"a text for {column}") for column, text in given.items() if text is not None}
    if label is not None:
        texts["label"] = entered(label, "a label", MAX_LABEL)
    if not texts:
        raise UsageError("nothing to change: give a label, --owner, --place or --note")
    name = texts.get("label", "")
    reason = is_reserved(name)
    if reason:
        raise UsageError(f"{name!r} cannot be a label: {reason}")
    roster = writable(site)
    with roster.transaction():
        before = resolve(all_devices(roster), which)
        set_description(roster, before, **texts)
        return before, _again(roster, before)


def mark_devices(
    site: Site, which: Sequence[str], standing: Standing, guest_until: date | None
) -> list[tuple[Device, Device]]:
    """Change the standing of devices: all of them or, if one is not understood, none. Returns before and after."""
    if guest_until is not None and standing is not Standing.GUEST:
        raise UsageError(f"--until goes with guest, not with {standing}")
    roster = writable(site)
    with roster.transaction():
        known = all_devices(roster)
        chosen = list(dict.fromkeys(resolve(known, text) for text in which))
        for device in chosen:
            set_standing(roster, device, standing, guest_until)
        return [(device, _again(roster, device)) for device in chosen]


def writable(site: Site) -> Roster:
    """The roster for a change; a site that has none yet has nothing to change. Raises NotFound."""
    if not site.has_roster:
        raise NotFound("nothing is remembered yet: scopion scan looks for devices first")
    return site.roster


def _again(roster: Roster, device: Device) -> Device:
    return next(each for each in all_devices(roster) if each.id == device.id)
