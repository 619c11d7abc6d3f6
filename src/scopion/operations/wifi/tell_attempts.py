"""Tells who was turned away by an access point, by all that tells it, or that nothing does."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from scopion.model.mac import MacAddress
from scopion.model.text import counted
from scopion.operations.wifi.network_context import NetworkContext
from scopion.roster.watch_record import HeardAttempts, last_watch
from scopion.wireless.enforcers.enforcer import Effect
from scopion.wireless.plan_radio import RadioPlan

Called = Callable[[MacAddress], str]
# Who takes another address each time fills no screen.
_MOST = 8


def tell_attempts(context: NetworkContext, plans: Sequence[RadioPlan], called: Called) -> list[str]:
    """Return a sentence for each device and radio of one access point; what its last watch has heard is told as well.

    One sentence says why there are none, if nothing would tell them.
    """
    record = last_watch(context.roster)
    heard = record.attempts if record is not None else {}
    said: list[str] = []
    for plan in plans:
        of_radio = heard.get((plan.enforcer, plan.radio))
        said += _shortened(_told(plan, called))
        said += _shortened(_heard(context, plan, of_radio, called)) if of_radio is not None else []
    listened = any((plan.enforcer, plan.radio) in heard for plan in plans)
    if not said and not listened and plans and plans[0].traits.effect is not Effect.DROPS:
        why = plans[0].traits.attempts_need
        said.append(f"{plans[0].enforcer} does not tell who was turned away{f': {why}' if why else ''}")
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
        yield (
            f"{_where(plan)}: {called(mac)} was turned away {counted(attempt.times, 'time')} since "
            f"{local(heard.since):%A, %H:%M}, last at {local(attempt.last):%A, %H:%M}"
        )


def _where(plan: RadioPlan) -> str:
    return f"{plan.enforcer}, {plan.radio} GHz"
