"""The methods of a scan: the prober of each, and the plan that suits it."""

from __future__ import annotations

from enum import StrEnum
from ipaddress import IPv4Address

from scopion.attachment.ports import Attachment, Interface
from scopion.discovery.echo_prober import EchoProber
from scopion.discovery.frame_prober import FrameProber
from scopion.discovery.prober import Prober
from scopion.discovery.sweep import USUAL_PATIENCE, Patience, SweepPlan
from scopion.discovery.touch_prober import Doubtful, TouchProber
from scopion.model.errors import NoInterface

# The kernel asks three times, a second apart (mcast_solicit, retrans_time_ms of neigh/default), then gives up.
KERNEL_REQUESTS = 3
_KERNEL_SPAN_S = 3.3
# A little more than required, so that a coarse clock does not spoil it.
_GRAIN_S = 0.1
# A stale entry is first trusted for 5 s (delay_first_probe_time), then asked three times.
CHECKING_LIMIT_S = 10.0
# The kernel's table holds 1,024 entries and begins to drop them at 512 (gc_thresh): never ask for more at once than
# this.
TOUCH_PORTION = 256
# A sweep keeps some hundred bytes an address: 20 MB for a portion of any range. A /16 is one portion.
ARP_PORTION = 65_536


class Method(StrEnum):
    """How a scan finds hosts."""

    ARP = "arp"
    TOUCH = "touch"
    ECHO = "echo"
    LISTEN = "listen"


def open_prober(
    method: Method,
    attachment: Attachment,
    interface: Interface,
    own_address: IPv4Address | None,
    doubtful: Doubtful = frozenset(),
) -> Prober:
    """Return the prober of a method; without an address of ours in the subnet, the subnet lies beyond a router."""
    if method is Method.ECHO:
        return EchoProber(attachment, interface if own_address is not None else None)
    if own_address is None:
        raise NoInterface(f"{method} works on an attached subnet only: take the method echo")
    if method is Method.ARP:
        return FrameProber(attachment, interface, own_address)
    return TouchProber(attachment, interface, doubtful)


def plan_for(
    method: Method, pace: float, max_rounds: int | None = None, patience: Patience = USUAL_PATIENCE
) -> SweepPlan:
    """Return the plan that suits a method, and asks often and long enough for silence to count.

    The kernel repeats touches by itself, so that repeating them says nothing about loss.
    """
    if method is Method.TOUCH:
        rounds = max_rounds or -(-patience.requests // KERNEL_REQUESTS)
        return SweepPlan(
            pace,
            max_rounds=rounds,
            min_rounds=rounds,
            min_span_s=patience.span_s + _GRAIN_S,
            min_round_s=_KERNEL_SPAN_S,
            checks=False,
            patience=patience,
        )
    usual = SweepPlan(pace)
    rounds = max_rounds or max(usual.max_rounds, patience.requests)
    return SweepPlan(
        pace,
        max_rounds=rounds,
        min_rounds=min(rounds, max(usual.min_rounds, patience.requests)),
        min_span_s=max(usual.min_span_s, patience.span_s + _GRAIN_S),
        patience=patience,
    )
