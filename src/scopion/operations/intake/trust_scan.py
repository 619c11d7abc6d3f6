"""How far the silence in a scan can be trusted: not if hardly any device answered, nor beyond what its method finds.

Pure. The scans of this machine and those of sensors are judged by the same rules.
"""

from __future__ import annotations

from datetime import timedelta

from scopion.discovery.probing import Method
from scopion.model.observation import Source

# Scans that ended so lately tell how many answers are usual: traffic may have confirmed neighbours once more meanwhile.
LATELY = timedelta(minutes=3)
# An answer of a tenth of the usual number is too few; of fewer hosts than this each may have gone by chance.
_HARDLY_ANYBODY, _MANY = 10, 10


def doubt_about(answered: int, usual: int, *, gateway_answers: bool) -> str:
    """Return why a scan makes no device absent: no host answered, or far fewer than usual; else empty.

    When a plug is pulled, the system's neighbour table may trust some neighbours for a while.
    """
    if not answered and not gateway_answers:
        return "no device answered"
    if usual >= _MANY and answered * _HARDLY_ANYBODY <= usual:
        return f"only {answered} answered, where {usual} did before"
    return ""


def judging_sources(method: str, *, router_read: bool = False) -> frozenset[Source] | None:
    """Return by which sources an adapter must have been found last, so that this method would find it; None: by any."""
    if method != Method.ECHO:
        return None
    # A host that drops IP was found by its frames, and is not looked for here.
    return frozenset({Source.ECHO, Source.CONNECT, *([Source.ROUTER] if router_read else [])})


def finds_one_claimant(method: str) -> bool:
    """Tell whether a method finds only one of several adapters at an address: the system keeps one."""
    return method == Method.TOUCH
