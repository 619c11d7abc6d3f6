"""The methods of a scan: the prober of each, the plan that suits it, and the default pace by the medium."""

from __future__ import annotations

from enum import StrEnum
from ipaddress import IPv4Address

from scopion.attachment.ports import Attachment, Interface
from scopion.discovery.echo_prober import EchoProber
from scopion.discovery.frame_prober import FrameProber
from scopion.discovery.prober import Prober
from scopion.discovery.sweep import USUAL_PATIENCE, Patience, SweepPlan
from scopion.discovery.touch_prober import Doubtful, TouchProber
from scopion.model.errors import NoInterface, UsageError
from scopion.model.observation import Medium

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

# On cable 2,000 requests of 84 bytes on the wire take 1.3 Mbit/s: 1.3 % of the slowest cable still in use. On the air
# an access point repeats each broadcast at the lowest rate, on 2.4 GHz 1 Mbit/s at worst: preamble, 80 bytes and the
# gap take 1.1 ms, so 90 a second take just under a tenth of all air time. On the other bands the lowest rate is
# 6 Mbit/s (IEEE Std 802.11-2020, 17.3): a request takes 0.25 ms there, and a tenth of the air carries 400. A bridge may
# have cable or air behind it: 500 a second.
DEFAULT_PACE: dict[Medium, float] = {Medium.CABLE: 2_000.0, Medium.WIRELESS: 90.0, Medium.UNKNOWN: 500.0}
ABOVE_2_4_GHZ = 400.0
_ABOVE_MHZ = 3_000
# Behind a cable there may be access points, too, which repeat each request on all their bands. A /22 is over in a
# moment; a larger range would take the air from all devices for long.
LARGE = 1_024
# A pair of virtual interfaces ends at a bridge of the same machine, which takes more than any cable.
_VIRTUAL_PAIR = "veth"
# Known devices are asked alone and first. On the air such a question, its answer and what acknowledges them take about
# 0.8 ms in all, twice to the access point and twice from it: 500 a second take less than half of the air, and of 250
# devices it is over in half a second.
GREETING_PACE = 500.0
# Beyond a router each request makes it look for a neighbour first: small routers drop what they cannot look for at
# once.
ROUTED_PACE = 300.0
FASTEST = 50_000.0  # more than one core can send


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


def default_pace(interface: Interface, addresses: int = 0) -> float:
    """Return the default pace of an interface for so many addresses, in requests a second."""
    if addresses > LARGE:
        return DEFAULT_PACE[Medium.WIRELESS]
    if interface.medium is Medium.WIRELESS and (interface.mhz or 0) > _ABOVE_MHZ:
        return ABOVE_2_4_GHZ
    return DEFAULT_PACE[Medium.CABLE if interface.virtual == _VIRTUAL_PAIR else interface.medium]


def checked_pace(pace: float) -> float:
    """Return a pace in requests a second that can be kept. Raises UsageError."""
    if not 1 <= pace <= FASTEST:
        raise UsageError(f"a pace of {pace:g} requests a second is not possible: give 1 to {FASTEST:,.0f}")
    return pace
