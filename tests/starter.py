"""Starts the program for the tests without starting Python each time: a process that has it loaded forks for each run.

That the installed program starts by itself is tested where it is the point (test_house, test_packaging, the lab). Here
it is the same code from the same entry, in a process of its own, with its own environment, folder and streams.
"""

from __future__ import annotations

import atexit
import contextlib
import importlib
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence

_LONGEST = 1024 * 1024  # of an order: arguments and an environment


class Starter:
    """One such process; it ends with this one."""

    def __init__(self) -> None:
        self._line, other = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._line.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, _LONGEST)
        with other:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "tests.starter", str(other.fileno())], pass_fds=[other.fileno()]
            )
        atexit.register(self.close)

    def close(self) -> None:
        """End it."""
        self._line.close()
        self._process.wait()

    def run(
        self, program: str, arguments: Sequence[str], stdin: str, environment: Mapping[str, str], within: float
    ) -> subprocess.CompletedProcess[str]:
        """Run the program to its end. Raises TimeoutExpired."""
        with contextlib.ExitStack() as stack:
            given, out, err = (stack.enter_context(tempfile.TemporaryFile()) for _ in range(3))
            given.write(stdin.encode())
            given.seek(0)
            order = [program, list(arguments), dict(environment), os.getcwd(), _umask()]  # noqa: PTH109
            socket.send_fds(self._line, [json.dumps(order).encode()], [each.fileno() for each in (given, out, err)])
            pid = int(self._line.recv(20))
            self._line.settimeout(within)
            try:
                code = int(self._line.recv(20))
            except TimeoutError:
                os.kill(pid, signal.SIGKILL)
                self._line.settimeout(None)
                self._line.recv(20)
                raise subprocess.TimeoutExpired([program, *arguments], within) from None
            finally:
                self._line.settimeout(None)
            out.seek(0)
            err.seek(0)
            said = [each.read().decode("utf-8").replace("\r\n", "\n").replace("\r", "\n") for each in (out, err)]
        return subprocess.CompletedProcess([program, *arguments], code, *said)


def _umask() -> int:
    current = os.umask(0o077)
    os.umask(current)
    return current


def _load() -> None:
    """What most commands need, so that a run finds it there."""
    from scopion.cli.main import FAMILIES
    from scopion.operations.site.load_settings import adapter

    for commands in FAMILIES.values():
        for entry in commands.values():
            importlib.import_module(f"scopion.cli.{entry.module}")
    for name in (
        "operations.scan.run_scan",
        "operations.wifi.push_lists",
        "operations.report.make_report",
        "alerts.wording",
        "watching.run_watch",
    ):
        importlib.import_module(f"scopion.{name}")
    adapter()


def _serve(line: socket.socket) -> None:
    while True:
        order, handles, *_ = socket.recv_fds(line, _LONGEST, 3)
        if not order:
            return
        pid = os.fork()
        if not pid:
            line.close()
            _become(json.loads(order), handles)
        for each in handles:
            os.close(each)
        line.send(str(pid).encode())
        line.send(str(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])).encode())


def _become(order: list[object], handles: Sequence[int]) -> None:
    """In the child: be the program, and never return."""
    code = 1
    try:
        program, arguments, environment, folder, umask = order
        for number, each in enumerate(handles):
            os.dup2(each, number)
            os.close(each)
        os.environ.clear()
        os.environ.update(environment)  # type: ignore[call-overload]
        time.tzset()
        os.chdir(str(folder))
        os.umask(int(str(umask)))
        sys.argv = [str(program), *map(str, arguments)]  # type: ignore[call-overload]
        # As Python itself opens them where there is no terminal.
        sys.stdin = os.fdopen(0, encoding="utf-8", closefd=False)
        sys.stdout = os.fdopen(1, "w", encoding="utf-8", closefd=False)
        sys.stderr = os.fdopen(2, "w", encoding="utf-8", errors="backslashreplace", buffering=1, closefd=False)
        from scopion.cli.main import main

        try:
            main(sys.argv[1:])
        except SystemExit as ended:
            code = ended.code if isinstance(ended.code, int) else int(ended.code is not None)
        sys.stdout.flush()
        sys.stderr.flush()
    except BaseException:
        import traceback

        traceback.print_exc()
    finally:
        with contextlib.suppress(Exception):
            sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    _load()
    _serve(socket.socket(fileno=int(sys.argv[1])))
