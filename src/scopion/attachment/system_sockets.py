"""What every system has for everybody: UDP, ICMP echo where it is permitted, TCP, SNMP; programs, files, and SSH.

What the live attachments share; each call asks the lock first.
"""

from __future__ import annotations

from scopion.attachment.live_lock import require_unlocked
from scopion.attachment.ports import (
    Connector,
    ControlLine,
    EchoLine,
    Interface,
    Mailbox,
    Neighbour,
    RouterAccess,
    Shell,
    SshAccess,
)


class SystemSockets:
    """Part of an ``Attachment``."""

    def open_mailbox(self, interface: Interface | None) -> Mailbox:
        """UDP sockets."""
        from scopion.attachment.udp_mailbox import UdpMailbox

        require_unlocked()
        return UdpMailbox(interface)

    def open_echo(self) -> EchoLine:
        """ICMP sockets, by datagrams where the system allows it."""
        from scopion.attachment.icmp_echo import IcmpEcho

        require_unlocked()
        return IcmpEcho()

    def open_connector(self) -> Connector:
        """TCP sockets."""
        from scopion.attachment.tcp_connect import TcpConnector

        require_unlocked()
        return TcpConnector()

    def router_table(self, access: RouterAccess) -> tuple[Neighbour, ...]:
        """Over SNMP."""
        from scopion.attachment.connect.snmp_table import read_router_table

        require_unlocked()
        return read_router_table(access)

    def open_control(self, path: str, ssh: SshAccess | None = None) -> ControlLine:
        """A Unix socket, or the daemon's own client over SSH."""
        from scopion.attachment.connect.control_socket import control_line

        require_unlocked()
        return control_line(path, self.open_shell(ssh) if ssh is not None else None)

    def open_shell(self, ssh: SshAccess | None = None) -> Shell:
        """Of this machine, or over SSH."""
        require_unlocked()
        if ssh is None:
            from scopion.attachment.connect.local_programs import LocalShell

            return LocalShell()
        from scopion.attachment.connect.ssh import SshShell

        return SshShell(ssh)
