"""The default pace of requests, by the medium of the interface."""

from __future__ import annotations

from scopion.attachment.ports import Interface
from scopion.model.errors import UsageError
from scopion.model.observation import Medium

# On cable 2,000 requests of 84 bytes on the wire take 1.3 Mbit/s: 1.3 % of the slowest cable still in use. On the air
# an access point repeats each broadcast at the lowest rate, 1 Mbit/s at worst: preamble, 80 bytes and the gap take 1.1
# ms, so 90 a second take just under a tenth of all air time. A bridge may have either behind it: 500 a second, which an
# air at 6 Mbit/s still carries in a tenth of its time.
DEFAULT_PACE: dict[Medium, float] = {Medium.CABLE: 2_000.0, Medium.WIRELESS: 90.0, Medium.UNKNOWN: 500.0}
# A pair of virtual interfaces ends at a bridge of the same machine, which takes more than any cable.
_VIRTUAL_PAIR = "veth"
# Beyond a router each request makes it look for a neighbour first: small routers drop what they cannot look for at
# once.
ROUTED_PACE = 300.0
FASTEST = 50_000.0  # more than one core can send


def default_pace(interface: Interface) -> float:
    """Return the default pace of an interface, in requests a second."""
    return DEFAULT_PACE[Medium.CABLE if interface.virtual == _VIRTUAL_PAIR else interface.medium]


def checked_pace(pace: float) -> float:
    """Return a pace in requests a second that can be kept. Raises UsageError."""
    if not 1 <= pace <= FASTEST:
        raise UsageError(f"a pace of {pace:g} requests a second is not possible: give 1 to {FASTEST:,.0f}")
    return pace
