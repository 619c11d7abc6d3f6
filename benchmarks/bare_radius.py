"""The floor: an echo server of the same codec, used as its manual says. It reads each request and accepts it."""

from __future__ import annotations

import io
import socket
import sys

from pyrad.dictionary import Dictionary
from pyrad.packet import AuthPacket

SECRET = "made-up secret of the counter"
_DICTIONARY = """\
ATTRIBUTE User-Name 1 string
ATTRIBUTE User-Password 2 octets
ATTRIBUTE Session-Timeout 27 integer
ATTRIBUTE Termination-Action 29 integer
ATTRIBUTE Called-Station-Id 30 string
ATTRIBUTE Calling-Station-Id 31 string
ATTRIBUTE NAS-Identifier 32 string
ATTRIBUTE Acct-Interim-Interval 85 integer
"""


def main(port: int) -> None:
    """Answer for ever."""
    used = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    used.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4 << 20)
    used.bind(("127.0.0.1", port))
    dictionary, secret = Dictionary(io.StringIO(_DICTIONARY)), SECRET.encode()
    while True:
        data, sender = used.recvfrom(4_097)
        packet = AuthPacket(packet=data, secret=secret, dict=dictionary)
        if packet.verify_message_authenticator() and packet.PwDecrypt(packet["User-Password"][0]):
            reply = packet.CreateReply()
            reply["Session-Timeout"] = 86_400
            reply["Termination-Action"] = 1
            reply["Acct-Interim-Interval"] = 300
            used.sendto(reply.ReplyPacket(), sender)


if __name__ == "__main__":
    main(int(sys.argv[1]))
