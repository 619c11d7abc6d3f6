"""What every system offers: UDP, ICMP echo if permitted, TCP, SNMP, programs, files, and SSH.

The live attachments share it. Each call asks the live lock first.
"""

from __future__ import annotations

from scopion.attachment.live_lock import require_unlocked
from scopion.attachment.ports import (
    Connector,
    EchoLine,
    HearingLine,
    Interface,
    Mailbox,
    Neighbour,
    Shell,
    SnmpAccess,
    SshAccess,
    SwitchAccess,
)
from scopion.model.wires import SwitchReading


class SystemSockets:
    """Part of an ``Attachment``."""

    def open_mailbox(self, interface: Interface | None) -> Mailbox:
        """Open UDP sockets."""
        from scopion.attachment.udp_mailbox import UdpMailbox

        require_unlocked()
        return UdpMailbox(interface)

    def open_echo(self) -> EchoLine:
        """Open ICMP sockets, by datagrams if the system allows it."""
        from scopion.attachment.icmp_echo import IcmpEcho

        require_unlocked()
        return IcmpEcho()

    def open_connector(self) -> Connector:
        """Open TCP sockets."""
        from scopion.attachment.tcp_connect import TcpConnector

        require_unlocked()
        return TcpConnector()

    def router_table(self, access: SnmpAccess) -> tuple[Neighbour, ...]:
        """Read a router's table over SNMP."""
        from scopion.attachment.connect.snmp_table import read_router_table

        require_unlocked()
        return read_router_table(access)

    def switch(self, access: SwitchAccess) -> SwitchReading:
        """Read a switch over SNMP."""
        from scopion.attachment.connect.snmp_switch import read_switch

        require_unlocked()
        return read_switch(access)

    def open_control(self, path: str) -> HearingLine:
        """Open a Unix socket."""
        from scopion.attachment.connect.control_socket import LocalControlLine

        require_unlocked()
        return LocalControlLine(path)

    def open_shell(self, ssh: SshAccess | None = None) -> Shell:
        """Open programs and files of this machine, or over SSH."""
        require_unlocked()
        if ssh is None:
            from scopion.attachment.connect.local_programs import LocalShell

            return LocalShell()
        from scopion.attachment.connect.ssh import SshShell

        return SshShell(ssh)
