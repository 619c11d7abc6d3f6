"""The daemon of a real radio passes the script of the made-up one: on 6 GHz, where no other station is."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from scopion.attachment.connect.far_script import results_of, script_of, understood
from scopion.attachment.ports import Job, Ran, Shell
from tests import dialect
from tests.air.machine import Machine
from tests.air.real_air import booted


class RadioLine:
    """A control line of the emulated machine."""

    def __init__(self, machine: Machine, socket: str) -> None:
        self._machine, self._socket, self.remark = machine, socket, ""

    def ask(self, command: str) -> str:
        return self._machine.control(self._socket, command)

    def close(self) -> None:
        pass


class ThereShell:
    """Does jobs by the script that goes over SSH, in the emulated machine itself."""

    def __init__(self, machine: Machine) -> None:
        self._machine, self.remarks = machine, list[str]()

    def carry_out(self, jobs: Sequence[Job], begins: Callable[[int], None] = lambda _: None) -> list[Ran]:
        ended = self._machine.run(["sh", "-s"], stdin=script_of(jobs, "mark"))
        return list(map(understood, jobs, results_of(ended.output, "mark")))

    def mode_of(self, path: str) -> tuple[int, str] | None:
        return None

    def close(self) -> None:
        pass


class RadioDialect(dialect.Dialect):
    socket = "/run/ap1/wlan2"

    def setUp(self) -> None:
        _, _, air = booted()
        self.machine, self.tablet = air.machine, air.stations["tablet"]
        self.line = RadioLine(self.machine, self.socket)
        for command in ("DENY_ACL CLEAR", "ACCEPT_ACL CLEAR", "SET macaddr_acl 0"):
            self.line.ask(command)
        self.addCleanup(self.back, self.tablet.mac)

    def shell(self) -> Shell:
        return ThereShell(self.machine)

    def associate(self) -> None:
        self.tablet.be(str(dialect.STATION), (5975,))

    def back(self, mac: str) -> None:
        if self.tablet.mac != mac:
            self.tablet.be(mac, (2412, 5180))
