"""The methods: which way of asking goes with each, and the plan that suits it."""

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
# A little more than was asked for, so that no clock's grain spoils it.
_GRAIN_S = 0.1
# An entry that was stale is first believed for 5 s (delay_first_probe_time), then asked three times.
CHECKING_LIMIT_S = 10.0
# The kernel's table holds 1,024 entries and starts to throw out at 512 (gc_thresh): never more at once than this.
TOUCH_PORTION = 256
# A sweep keeps some hundred bytes an address: 20 MB for a portion, whatever the range. A /16 is one.
ARP_PORTION = 65_536


class Method(StrEnum):
    """How a scan finds out who is there."""

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
    """The asker for a method; without an address of ours in the subnet, that lies beyond a router."""
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
    """The plan that suits a method, and asks often and long enough for silence to count.

    The kernel repeats touches by itself, and repeating them tells nothing of loss.
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
