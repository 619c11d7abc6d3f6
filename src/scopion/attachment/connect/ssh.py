"""Programs and files of an access point over SSH: by a maintained library, and only to hosts whose key is known.

A library instead of the SSH program, because then we check host keys ourselves and a password need not be typed.
"""

from __future__ import annotations

import contextlib
import secrets
import shlex
import socket
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from scopion.attachment.connect.bounded_connection import (
    Bounds,
    TooMuch,
    addresses_of,
    cut_off,
    first_connected,
    plainly_connected,
)
from scopion.attachment.live_lock import require_unlocked
from scopion.attachment.ports import Control, Job, Ran, SshAccess
from scopion.model.errors import EnforcerUnreachable
from scopion.model.text import clean

_CONNECT_S, _RUN_S = 20.0, 30.0  # for the whole command, even if octets keep coming
_TOO_LATE = f"it did not let us in within {_CONNECT_S:g} seconds"
_PART = 32_768
_MOST_OCTETS = 4_000_000  # octets; a configuration has a few thousand, and no access point sends more than this
# A job of a script costs the other side this at most; a small machine starts some programs a second.
_JOB_S = 0.5
# After an interrupt, what the other side had begun has come to its end by then.
_IN_FLIGHT_S = 1.0
# A machine that was switched off is noticed after so many seconds: a connection may be kept for days.
_IDLE_S, _PROBE_S, _PROBES = 15, 5, 3


class SshShell:
    """Implements ``Shell`` over one connection. Raises LiveNetworkLocked, EnforcerUnreachable."""

    def __init__(self, access: SshAccess) -> None:
        require_unlocked()
        self._access = access
        self._was_interrupted = False
        self.remarks: list[str] = []
        self._open()

    def _open(self) -> None:
        """Log in."""
        import logging

        import paramiko  # it takes a fifth of a second, so only where an access point is reached by it

        logging.getLogger("paramiko").setLevel(logging.CRITICAL)  # we report its errors ourselves
        access = self._access
        self._client = paramiko.SSHClient()
        known = Path(access.known_hosts).expanduser() if access.known_hosts else Path.home() / ".ssh/known_hosts"
        bounds = Bounds(_CONNECT_S)
        try:
            revoked = read_known_hosts(known, self._client.get_host_keys())
            policy: Any = _Unknown(access.host, known, revoked)  # a policy of the library by its behaviour
            self._client.set_missing_host_key_policy(policy)
            self._connect(bounds)
        except HostKeyRefused as error:
            raise EnforcerUnreachable(f"{access}: {error}") from None
        except paramiko.BadHostKeyException as error:
            raise EnforcerUnreachable(
                f"the host key of {access.host} has changed (it is {_print_of(error.key)} now): another machine may "
                f"answer there; if you know why, remove its line from {known} and accept the new one"
            ) from None
        except paramiko.PasswordRequiredException:
            raise EnforcerUnreachable(f"{access}: the key {access.key} has a passphrase: use an agent") from None
        except paramiko.AuthenticationException:
            if bounds.are_over:  # cut off at the deadline, it looks like one that was refused
                raise EnforcerUnreachable(f"{access} cannot be reached: {_TOO_LATE}") from None
            raise EnforcerUnreachable(f"{access}: permission denied; check user, key and password") from None
        except (paramiko.SSHException, OSError, EOFError, ValueError) as error:
            late = isinstance(error, TimeoutError) or bounds.are_over
            why = getattr(error, "strerror", None) or clean(str(error), 160) or "no answer"
            why = _TOO_LATE if late else why
            raise EnforcerUnreachable(f"{access} cannot be reached: {why}") from None

    def _connect(self, bounds: Bounds) -> None:
        """Connect within one deadline for name, connection, keys and log-in. Raises what these raise."""
        access = self._access
        addresses = addresses_of(access.host, access.port, socket.SOCK_STREAM, bounds)
        line, _ = first_connected(addresses, plainly_connected, bounds)
        line.setsockopt(socket.SOL_SOCKET, socket.SO_KEEPALIVE, 1)
        for option, value in (("TCP_KEEPIDLE", _IDLE_S), ("TCP_KEEPINTVL", _PROBE_S), ("TCP_KEEPCNT", _PROBES)):
            if hasattr(socket, option):  # not on every system
                line.setsockopt(socket.IPPROTO_TCP, getattr(socket, option), value)
        try:
            with cut_off(line, bounds):
                self._client.connect(
                    access.host,
                    port=access.port,
                    username=access.user,
                    password=access.password or None,
                    key_filename=access.key or None,
                    allow_agent=not access.key and not access.password,
                    look_for_keys=not access.key and not access.password,
                    timeout=_CONNECT_S,
                    banner_timeout=_CONNECT_S,
                    auth_timeout=_CONNECT_S,
                    sock=line,
                )
        except BaseException:
            self._client.close()  # its thread would go on listening
            raise

    @property
    def _is_open(self) -> bool:
        """Tell whether the connection stands, as far as this side knows."""
        transport = self._client.get_transport()
        return transport is not None and transport.is_active()

    def run(self, command: Sequence[str], stdin: str = "", *, within_s: float = 0.0) -> Ran:
        """Run a program; each argument is quoted, so that it stays one word. The whole command has one deadline."""
        import paramiko

        bounds = Bounds(max(_RUN_S, within_s), _MOST_OCTETS)
        try:
            transport = self._client.get_transport()
            if transport is None or not transport.is_active():
                raise EnforcerUnreachable(f"{self._access}: the connection was cut")
            channel = transport.open_session(timeout=bounds.left_s())
            with contextlib.closing(channel):
                channel.settimeout(bounds.left_s())
                channel.exec_command(shlex.join(command))
                if stdin:
                    _send(channel, stdin.encode("utf-8", "surrogateescape"), bounds)
                channel.shutdown_write()
                output, errors = _read(channel, bounds)
                if not channel.status_event.wait(bounds.left_s()):
                    raise TimeoutError
                code = channel.recv_exit_status()
        except TooMuch:
            raise EnforcerUnreachable(f"{self._access}: {command[0]} says more than any configuration has") from None
        except TimeoutError:
            raise EnforcerUnreachable(f"{self._access}: {command[0]} does not end") from None
        except (paramiko.SSHException, OSError, EOFError, ValueError) as error:
            raise EnforcerUnreachable(
                f"{self._access}: the connection was cut ({clean(str(error), 160) or 'no answer'})"
            ) from None
        if code == -1:
            raise EnforcerUnreachable(f"{self._access}: the connection was cut while {command[0]} was running")
        return Ran(code, output, errors)

    def carry_out(self, jobs: Sequence[Job], begins: Callable[[int], None] = lambda _: None) -> list[Ran]:
        """Do all jobs by one script. If it is cut or interrupted, each of them may have been done."""
        from scopion.attachment.connect.far_script import results_of, script_of, understood

        if self._was_interrupted:
            time.sleep(_IN_FLIGHT_S)
        if not self._is_open:  # a connection that is kept for long may have been cut; nothing of this was sent yet
            self.close()
            self._open()
        mark = f"scopion-{secrets.token_hex(12)}"
        script = script_of(jobs, mark)
        try:
            self._was_interrupted = True
            ran = self.run(["sh", "-s"], script, within_s=_RUN_S + _JOB_S * len(jobs))
            self._was_interrupted = False
            found = list(map(understood, jobs, results_of(ran.output, mark)))
            told = len(found)
            for number in range(told):
                begins(number)
        except BaseException:
            for number in range(len(jobs)):  # also of those that were begun for certain: it may not have been told yet
                begins(number)
            raise
        stopped = told and isinstance(last := jobs[told - 1], Control) and found[-1].output.strip() != last.must
        if told < len(jobs) and not stopped:
            said = clean(ran.errors, 120) or "no answer"
            raise EnforcerUnreachable(f"{self._access}: what it was to do did not arrive whole ({said})")
        return found

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """Return mode and group by stat, if the system has it."""
        ran = self.run(["stat", "-c", "%a %G", path])
        words = ran.output.split()
        if ran.code != 0 or len(words) != 2 or not words[0].isdecimal():
            return None
        return int(words[0], 8), words[1]

    def close(self) -> None:
        """Close the connection."""
        with contextlib.suppress(OSError, socket.error):
            self._client.close()


def _send(channel: Any, octets: bytes, bounds: Bounds) -> None:
    view = memoryview(octets)
    while view:
        channel.settimeout(bounds.left_s())
        view = view[channel.send(view[:_PART]) :]


def _read(channel: Any, bounds: Bounds) -> tuple[str, str]:
    """Return standard output and standard error, read to their ends in any order."""
    import select

    kept: tuple[bytearray, bytearray] = (bytearray(), bytearray())
    while not (channel.eof_received or channel.closed) or channel.recv_ready() or channel.recv_stderr_ready():
        select.select([channel], [], [], bounds.left_s())
        for to, is_ready, receive in (
            (kept[0], channel.recv_ready, channel.recv),
            (kept[1], channel.recv_stderr_ready, channel.recv_stderr),
        ):
            while is_ready():
                part = receive(_PART)
                bounds.took(len(part))
                to += part
    output, errors = (each.decode("utf-8", "surrogateescape") for each in kept)
    return output, errors


class HostKeyRefused(Exception):
    """The key of a host is not known, or was revoked."""


class _Unknown:
    """Refuses the key of a host that no line of the file names. See paramiko's policies."""

    def __init__(self, host: str, known: Path, revoked: frozenset[str]) -> None:
        self._host, self._known, self._revoked = host, known, revoked

    def missing_host_key(self, client: Any, hostname: str, key: Any) -> None:
        """Raise HostKeyRefused."""
        if key.get_base64() in self._revoked:
            raise HostKeyRefused(f"its host key is revoked in {self._known}: another machine may answer there")
        raise HostKeyRefused(
            f"its host key is not in {self._known}: ssh-keyscan {self._host} shows it, compare and add it"
        )


def read_known_hosts(path: Path, into: Any) -> frozenset[str]:
    """Read the lines of a known_hosts file (sshd(8)) that name keys of hosts. Returns the revoked keys, in base64.

    A revoked key is refused for every host, whatever other lines say. Lines about authorities, and lines that cannot be
    read, are ignored. Raises OSError.
    """
    from binascii import Error

    from paramiko.hostkeys import HostKeyEntry, InvalidHostKey
    from paramiko.ssh_exception import SSHException

    try:
        lines = path.read_bytes().decode("utf-8", "replace").split("\n")
    except FileNotFoundError:
        return frozenset()
    revoked = {words[3] for line in lines if (words := line.split())[:1] == ["@revoked"] and len(words) > 3}
    for number, line in enumerate(lines, 1):
        words = line.split()
        if len(words) < 3 or words[0].startswith(("#", "@")) or words[2] in revoked:
            continue
        try:
            entry = HostKeyEntry.from_line(" ".join(words[:3]), number)
        except (InvalidHostKey, SSHException, Error, ValueError, IndexError):
            continue
        if entry is not None:
            for host in entry.hostnames:
                into.add(host, entry.key.get_name(), entry.key)
    return frozenset(revoked)


def _print_of(key: Any) -> str:
    """Return a host key's fingerprint, as people compare it."""
    import base64
    import hashlib

    return "SHA256:" + base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")
