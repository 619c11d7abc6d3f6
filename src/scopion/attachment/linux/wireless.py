"""Asks the Linux kernel on which frequency a wireless interface is, over generic netlink (nl80211, linux/nl80211.h)."""

from __future__ import annotations

import socket
import struct
import sys
from contextlib import suppress

from scopion.attachment.linux.netlink import NLM_F_REQUEST, NLMSG_ERROR, attributes, message, messages

_NETLINK_GENERIC = 16  # linux/netlink.h
_CONTROL = 0x10  # the family that knows the numbers of the others (linux/genetlink.h)
_GET_FAMILY, _FAMILY_ID, _FAMILY_NAME = 3, 1, 2
_GET_INTERFACE, _IFINDEX, _WIPHY_FREQ = 5, 3, 38
_GENERIC = struct.Struct("=BBH")  # command, version, reserved
_ANSWER_S = 1.0
_MOST_OCTETS = 65_536


def frequency_of(index: int) -> int | None:
    """Return the frequency of an interface in MHz; None if it is on none, or the kernel does not tell."""
    with suppress(OSError), socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, _NETLINK_GENERIC) as channel:
        channel.settimeout(_ANSWER_S)
        channel.bind((0, 0))
        family = _asked(channel, _CONTROL, _GET_FAMILY, (_FAMILY_NAME, b"nl80211\0")).get(_FAMILY_ID, b"")
        if len(family) == 2:
            number = int.from_bytes(family, sys.byteorder)
            told = _asked(channel, number, _GET_INTERFACE, (_IFINDEX, struct.pack("=I", index)))
            return int.from_bytes(told.get(_WIPHY_FREQ, b""), sys.byteorder) or None
    return None


def _asked(channel: socket.socket, family: int, command: int, about: tuple[int, bytes]) -> dict[int, bytes]:
    """Return the attributes of the answer; none if the kernel refuses."""
    kind, value = about
    attribute = struct.pack("=HH", 4 + len(value), kind) + value + b"\0" * (-len(value) % 4)
    channel.send(message(family, NLM_F_REQUEST, _GENERIC.pack(command, 1, 0) + attribute))
    for answered, _, payload in messages(channel.recv(_MOST_OCTETS)):
        if answered != NLMSG_ERROR:
            return attributes(payload[_GENERIC.size :])
    return {}
