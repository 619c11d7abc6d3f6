"""Tells who was turned away by an access point, by all that tells it, or that nothing does."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from scopion.model.band import at_band, spoken_bands
from scopion.model.mac import MacAddress
from scopion.model.text import counted
from scopion.operations.wifi.network_context import NetworkContext
from scopion.roster.watch_record import HeardAttempts, WatchRecord
from scopion.wireless.enforcers.enforcer import Effect
from scopion.wireless.plan_radio import RadioPlan

Called = Callable[[MacAddress], str]
# Who takes another address each time fills no screen.
_MOST = 8


def tell_attempts(
    context: NetworkContext, plans: Sequence[RadioPlan], called: Called, watch: WatchRecord | None
) -> list[str]:
    """Return a sentence for each device and radio of one access point; what the last ``watch`` heard is told as well.

    One sentence says of which radios nothing tells it, and why.
    """
    heard = watch.attempts if watch is not None else {}
    said: list[str] = []
    for plan in plans:
        of_radio = plan.heard if plan.heard is not None else heard.get((plan.enforcer, plan.radio))
        said += _shortened(_told(plan, called))
        said += _shortened(_heard(context, plan, of_radio, called)) if of_radio is not None else []
    if any(plan.attempts or plan.traits.effect is Effect.DROPS for plan in plans):
        return said
    listened = heard.keys() if watch is not None and watch.ended is None else ()
    silent = [plan for plan in plans if plan.heard is None and (plan.enforcer, plan.radio) not in listened]
    if silent:
        where, why = silent[0].enforcer, silent[0].traits.attempts_need
        if len(silent) < len(plans):
            where += f", {spoken_bands(plan.radio for plan in silent)},"
        said.append(f"{where} does not tell who was turned away{f': {why}' if why else ''}")
    return said


def _shortened(sentences: Iterator[str]) -> list[str]:
    told = list(sentences)
    return [*told[:_MOST], f"and {counted(len(told) - _MOST, 'other device')}"] if len(told) > _MOST else told


def _told(plan: RadioPlan, called: Called) -> Iterator[str]:
    for mac, count in plan.attempts.items():
        if plan.traits.effect is Effect.DROPS:
            yield f"{_where(plan)}: {counted(count, 'frame')} of {called(mac)} dropped"
        else:
            yield f"{_where(plan)}: {called(mac)} was turned away {counted(count, 'time')}, by its log"


def _heard(context: NetworkContext, plan: RadioPlan, heard: HeardAttempts, called: Called) -> Iterator[str]:
    local = context.site.clock.local
    for mac, attempt in heard.by_mac.items():
        by = f", by {attempt.access_point}" if attempt.access_point else ""
        yield (
            f"{_where(plan)}: {called(mac)} was turned away {counted(attempt.times, 'time')} since "
            f"{local(heard.since):%A %Y-%m-%d, %H:%M}, last on {local(attempt.last):%A %Y-%m-%d, %H:%M}{by}"
        )


def _where(plan: RadioPlan) -> str:
    return at_band(plan.enforcer, plan.radio)
