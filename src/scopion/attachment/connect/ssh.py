"""Programs and files of an access point over SSH: by a maintained library, and only to hosts whose key is known.

A library instead of the SSH program, because then we check host keys ourselves and a password need not be typed.
"""

from __future__ import annotations

import contextlib
import shlex
import socket
from collections.abc import Sequence
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
from scopion.attachment.ports import Ran, SshAccess
from scopion.model.errors import EnforcerUnreachable
from scopion.model.text import clean

_CONNECT_S, _RUN_S = 20.0, 30.0  # for the whole command, even if octets keep coming
_PART = 32_768
_MOST_OCTETS = 4_000_000  # octets; a configuration has a few thousand, and no access point sends more than this
# What the other side does with a file ($1) of $2 octets, in the language of any shell. The draft gets the mode of the
# file that it replaces before it has any content. The old file stays as .scopion-old.
_NOT_WHOLE = 74  # EX_IOERR of sysexits(3)
WRITE_SCRIPT = f"""\
umask 077
file=$(readlink -f "$1" 2>/dev/null) || file=$1
draft=$file.scopion
rm -f "$draft"
if [ -e "$file" ]; then cp -p "$file" "$draft" || exit 1; fi
cat > "$draft"
if [ "$(wc -c < "$draft")" -ne "$2" ]; then rm -f "$draft"; exit {_NOT_WHOLE}; fi
sync
if [ -e "$file" ]; then cp -p "$file" "$file.scopion-old" || exit 1; fi
mv "$draft" "$file"
"""


class SshShell:
    """Implements ``Shell`` over one connection. Raises LiveNetworkLocked, EnforcerUnreachable."""

    def __init__(self, access: SshAccess) -> None:
        require_unlocked()
        import logging

        import paramiko  # it takes a fifth of a second, so only where an access point is reached by it

        logging.getLogger("paramiko").setLevel(logging.CRITICAL)  # we report its errors ourselves
        self._access = access
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
            raise EnforcerUnreachable(f"{access}: permission denied; check user, key and password") from None
        except (paramiko.SSHException, OSError, EOFError, ValueError) as error:
            late = isinstance(error, TimeoutError) or bounds.are_over
            why = getattr(error, "strerror", None) or clean(str(error), 160) or "no answer"
            why = f"it did not let us in within {_CONNECT_S:g} seconds" if late else why
            raise EnforcerUnreachable(f"{access} cannot be reached: {why}") from None

    def _connect(self, bounds: Bounds) -> None:
        """Connect within one deadline for name, connection, keys and log-in. Raises what these raise."""
        access = self._access
        addresses = addresses_of(access.host, access.port, socket.SOCK_STREAM, bounds)
        line, _ = first_connected(addresses, plainly_connected, bounds)
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

    def run(self, command: Sequence[str], stdin: str = "") -> Ran:
        """Run a program; each argument is quoted, so that it stays one word. The whole command has one deadline."""
        import paramiko

        bounds = Bounds(_RUN_S, _MOST_OCTETS)
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

    def read(self, path: str) -> str | None:
        """Return a file's text, by cat: small systems have no other file transfer."""
        ran = self.run(["cat", path])
        if ran.code == 0:
            return ran.output
        if "No such file" in ran.errors:
            return None
        raise EnforcerUnreachable(f"{self._access}: {clean(ran.errors) or path}")

    def write(self, path: str, text: str) -> None:
        """Write a file beside it that takes its place if it is whole; owner and mode stay.

        To the other side a broken connection looks like the end of the file. So it counts the octets, and keeps the old
        file under another name.
        """
        octets = text.encode("utf-8", "surrogateescape")
        ran = self.run(["sh", "-c", WRITE_SCRIPT, "sh", path, str(len(octets))], text)
        if ran.code == _NOT_WHOLE:
            raise EnforcerUnreachable(f"{self._access}: {path} did not arrive whole, and stays as it was")
        if ran.code != 0:
            raise EnforcerUnreachable(f"{self._access}: {path} cannot be written: {clean(ran.errors)}")

    def settle(self, path: str) -> None:
        """Remove the old file that was kept."""
        script = 'file=$(readlink -f "$1" 2>/dev/null) || file=$1; rm -f "$file.scopion-old"'
        self.run(["sh", "-c", script, "sh", path])

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
