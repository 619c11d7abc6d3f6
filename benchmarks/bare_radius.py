"""The floor: an echo server of the same codec. It reads each request, checks its signature, and accepts it."""

from __future__ import annotations

import socket
import sys

from scopion.wire.radius import Code, decode_radius

SECRET = "made-up secret of the counter"


def main(port: int) -> None:
    """Answer for ever."""
    used = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    used.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 << 20)
    used.bind(("127.0.0.1", port))
    answer = {"Session-Timeout": 86_400, "Termination-Action": 1, "Acct-Interim-Interval": 300}
    secret = SECRET.encode()
    while True:
        data, sender = used.recvfrom(4_097)
        message = decode_radius(data, secret)
        message.signature()
        used.sendto(message.reply(Code.ACCESS_ACCEPT, answer), sender)


if __name__ == "__main__":
    main(int(sys.argv[1]))
