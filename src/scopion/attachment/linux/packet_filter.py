"""The frames that a packet socket lets through, as classic BPF (Linux: Documentation/networking/filter.rst).

A frame that the filter drops never wakes the process. The jumps have names, so that the filters can be read and
changed.
"""

from __future__ import annotations

from scopion.attachment.ports import Traffic

Instruction = tuple[int, int, int, int]  # code, jump if true, jump if false, value

_LOAD_HALF, _LOAD_BYTE, _LOAD_WORD = 0x28, 0x30, 0x20
_LOAD_HALF_AFTER, _HEADER_LENGTH = 0x48, 0xB1  # at x + k; x = 4 * (byte k & 0xf), an IPv4 header's length
_JUMP_IF_EQUAL, _JUMP_IF_ANY_BIT, _JUMP_IF_AT_LEAST, _RETURN = 0x15, 0x45, 0x35, 0x06
_WHOLE_FRAME = 0xFFFF
# DHCP, NetBIOS names, discovery, multicast DNS, LLMNR
_TALKING_PORTS = (67, 68, 137, 1900, 5353, 5355)

# A step is (code, value, label if true, label if false); a text alone marks a place. Without a label the next step
# follows.
_Step = tuple[int, int, str, str] | str


def _test(code: int, value: int, yes: str = "", no: str = "") -> _Step:
    return (code, value, yes, no)


_ARP: list[_Step] = [
    "arp",
    _test(_LOAD_WORD, 14),  # hardware type and protocol type: Ethernet and IPv4
    _test(_JUMP_IF_EQUAL, 0x00010800, no="drop"),
]
_ICMPV6: list[_Step] = [
    "ipv6",
    _test(_LOAD_BYTE, 20),  # next header
    _test(_JUMP_IF_EQUAL, 17, "udp6"),
    _test(_JUMP_IF_EQUAL, 58, no="drop"),
    _test(_LOAD_BYTE, 54),  # type: an echo reply, or router and neighbour messages from 133 to 136
    _test(_JUMP_IF_EQUAL, 129, "keep"),
    _test(_JUMP_IF_AT_LEAST, 133, no="drop"),
    _test(_JUMP_IF_AT_LEAST, 137, "drop", "keep"),
]


# All jumps go forward: the kernel accepts no others.
def _ports(place: str, load: int, at: int) -> list[_Step]:
    """Return steps that keep a UDP datagram from or to a port at which devices announce themselves."""
    steps: list[_Step] = [place]
    for offset in (at, at + 2):
        steps.append(_test(load, offset))
        steps += [_test(_JUMP_IF_EQUAL, port, "keep") for port in _TALKING_PORTS]
    return [*steps, _test(_RETURN, 0)]


_TYPES: list[_Step] = [
    _test(_LOAD_HALF, 12),
    _test(_JUMP_IF_EQUAL, 0x0806, "arp"),
    _test(_JUMP_IF_EQUAL, 0x86DD, "ipv6"),
]
_ENDS: list[_Step] = ["keep", _test(_RETURN, _WHOLE_FRAME), "drop", _test(_RETURN, 0)]

_PROGRAMS: dict[Traffic, list[_Step]] = {
    Traffic.ANSWERS: [
        *_TYPES,
        _test(_RETURN, 0),
        *_ARP,
        _test(_LOAD_WORD, 28),  # the sender's IPv4 address: 0.0.0.0 is a probe, which claims nothing
        _test(_JUMP_IF_EQUAL, 0, "drop", "keep"),
        *_ICMPV6,
        "udp6",
        *_ENDS[2:],
        *_ENDS[:2],
    ],
    Traffic.TALK: [
        *_TYPES,
        _test(_JUMP_IF_EQUAL, 0x0800, no="drop"),
        _test(_LOAD_BYTE, 23),
        _test(_JUMP_IF_EQUAL, 17, no="drop"),
        _test(_LOAD_HALF, 20),
        _test(_JUMP_IF_ANY_BIT, 0x1FFF, "drop"),  # a later fragment has no ports
        _test(_HEADER_LENGTH, 14),
        *_ports("udp4", _LOAD_HALF_AFTER, 14),
        *_ARP,
        _test(_RETURN, _WHOLE_FRAME),
        *_ICMPV6,
        *_ports("udp6", _LOAD_HALF, 54),
        *_ENDS,
    ],
}


def filter_for(traffic: Traffic) -> tuple[Instruction, ...]:
    """Return the program that lets one kind of traffic through."""
    places: dict[str, int] = {}
    steps: list[tuple[int, int, str, str]] = []
    for step in _PROGRAMS[traffic]:
        if isinstance(step, str):
            places[step] = len(steps)
        else:
            steps.append(step)

    def jump(at: int, label: str) -> int:
        return places[label] - at - 1 if label else 0

    return tuple((code, jump(at, yes), jump(at, no), value) for at, (code, value, yes, no) in enumerate(steps))
