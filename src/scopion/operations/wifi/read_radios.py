"""Reads the radios of a network's enforcers, and compares each with the list that is wanted.

Preview, push, verify and revert all read an access point here, so that they cannot disagree on what it holds.
"""

from __future__ import annotations

from dataclasses import dataclass

from scopion.model.band import spoken_bands
from scopion.model.errors import Refused
from scopion.model.text import joined
from scopion.operations.wifi.network_context import NetworkContext
from scopion.roster.store.open_roster import Roster
from scopion.roster.wifi.pushes import PushState, pushes
from scopion.wireless.enforcers.enforcer import Enforcer, Held, RadioReading, read_held, whole
from scopion.wireless.plan_radio import RadioPlan, plan_radio


@dataclass(frozen=True, slots=True)
class RadioChoice:
    """Which radios of which enforcer a command is about; None and empty: all."""

    enforcer: str | None = None
    radios: tuple[str, ...] = ()  # bands in GHz


def read_chosen(
    enforcer: Enforcer, choice: RadioChoice, *, files: bool = False, log: bool = False
) -> dict[str, RadioReading]:
    """Read the chosen radios of an enforcer. Raises EnforcerUnreachable; Refused for a radio that it does not have."""
    has = enforcer.read(files=files, log=log)
    if not has:
        raise Refused(f"{enforcer.name} carries {enforcer.ssid!r} on no radio")
    missing = [radio for radio in choice.radios if radio not in has]
    if missing:
        raise Refused(f"{enforcer.name} has no {joined(missing)} GHz radio for {enforcer.ssid!r}: {spoken_bands(has)}")
    return whole({radio: each for radio, each in has.items() if not choice.radios or radio in choice.radios})


def plan_radios(
    context: NetworkContext,
    enforcer: Enforcer,
    choice: RadioChoice,
    *,
    drop_foreign: bool = False,
    files: bool = False,
    log: bool = False,
) -> list[RadioPlan]:
    """Read the chosen radios of an enforcer; return what each would need. Raises EnforcerUnreachable, Refused.

    With ``files`` what a push may write is read as well, with ``log`` who was turned away.
    """
    first, wanted = context.protected(), context.wanted_by(enforcer.traits)
    return [
        plan_radio(
            reading,
            left_there(context.roster, enforcer, radio),
            wanted,
            first=first,
            drop_foreign=drop_foreign,
        )
        for radio, reading in read_chosen(enforcer, choice, files=files, log=log).items()
    ]


def left_there(roster: Roster, enforcer: Enforcer, radio: str, *, before: int | None = None) -> Held:
    """Return the entries of ours that pushes, or those before push number ``before``, have left on a radio.

    A push that was interrupted may have left some, too.
    """
    ours = Held()
    for push in pushes(roster, enforcer.ssid):
        if before is not None and push.id >= before:
            continue
        if push.enforcer == enforcer.name and radio in push.radios and push.state is not PushState.ROLLED_BACK:
            told = read_held(push.radios[radio]["ours"])
            ours = Held(ours.allow | told.allow, ours.deny | told.deny, ours.mode or told.mode)
            if push.state is PushState.DONE:
                break
    return ours
