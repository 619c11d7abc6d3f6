"""Programs and files of an access point over SSH: by a maintained library, and to hosts only whose key is known."""

from __future__ import annotations

import contextlib
import shlex
import socket
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from scopion.attachment.lock import require_unlocked
from scopion.attachment.ports import Ran, SshAccess
from scopion.model.errors import EnforcerUnreachable
from scopion.model.text import clean

_CONNECT_S, _RUN_S = 10.0, 30.0
_MOST_OCTETS = 4_000_000  # a configuration is a few thousand; what sends more is no access point


class SshShell:
    """Implements ``Shell`` over one connection. Raises LiveNetworkLocked, EnforcerUnreachable."""

    def __init__(self, access: SshAccess) -> None:
        require_unlocked()
        import logging

        import paramiko  # a fifth of a second: only where an access point is reached by it

        logging.getLogger("paramiko").setLevel(logging.CRITICAL)  # what it says of errors is said by us
        self._access = access
        self._client = paramiko.SSHClient()
        self._client.set_missing_host_key_policy(paramiko.RejectPolicy())
        known = Path(access.known_hosts).expanduser() if access.known_hosts else Path.home() / ".ssh/known_hosts"
        try:
            if known.exists():
                self._client.load_host_keys(str(known))
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
            )
        except paramiko.BadHostKeyException as error:
            raise EnforcerUnreachable(
                f"the host key of {access.host} has changed (it is {_print_of(error.key)} now): somebody else may "
                f"answer there; if you know why, remove its line from {known} and accept the new one"
            ) from None
        except paramiko.PasswordRequiredException:
            raise EnforcerUnreachable(f"{access}: the key {access.key} has a passphrase: use an agent") from None
        except paramiko.AuthenticationException:
            raise EnforcerUnreachable(f"{access}: permission denied; check user, key and password") from None
        except paramiko.SSHException as error:
            said = clean(str(error))
            if "known_hosts" in said:
                said = f"its host key is not in {known}: ssh-keyscan {access.host} shows it, compare and add it"
            raise EnforcerUnreachable(f"{access}: {said}") from None
        except (OSError, EOFError, ValueError) as error:
            why = getattr(error, "strerror", None) or clean(str(error)) or "no answer"
            raise EnforcerUnreachable(f"{access} cannot be reached: {why}") from None

    def run(self, command: Sequence[str], stdin: str = "") -> Ran:
        """Each argument quoted, so that none is taken for more than a word."""
        import paramiko

        try:
            transport = self._client.get_transport()
            if transport is None or not transport.is_active():
                raise EnforcerUnreachable(f"{self._access}: the connection was cut")
            channel = transport.open_session(timeout=_RUN_S)
            channel.settimeout(_RUN_S)
            with contextlib.closing(channel):
                channel.exec_command(shlex.join(command))
                if stdin:
                    channel.sendall(stdin.encode("utf-8", "surrogateescape"))
                channel.shutdown_write()
                output, errors = _read(channel.makefile("rb")), _read(channel.makefile_stderr("rb"))
                code = channel.recv_exit_status()
        except TimeoutError:
            raise EnforcerUnreachable(f"{self._access}: {command[0]} does not end") from None
        except (paramiko.SSHException, OSError, EOFError) as error:
            raise EnforcerUnreachable(
                f"{self._access}: the connection was cut ({clean(str(error)) or 'no answer'})"
            ) from None
        if code == -1:
            raise EnforcerUnreachable(f"{self._access}: the connection was cut while {command[0]} was running")
        return Ran(code, output, errors)

    def read(self, path: str) -> str | None:
        """By cat: small systems have no other file transfer."""
        ran = self.run(["cat", path])
        if ran.code == 0:
            return ran.output
        if "No such file" in ran.errors:
            return None
        raise EnforcerUnreachable(f"{self._access}: {clean(ran.errors) or path}")

    def write(self, path: str, text: str) -> None:
        """Through a file beside it that takes its place; owner and mode stay."""
        script = 'cp -p "$1" "$1.scopion" 2>/dev/null; cat > "$1.scopion" && sync && mv "$1.scopion" "$1"'
        ran = self.run(["sh", "-c", script, "sh", path], text)
        if ran.code != 0:
            raise EnforcerUnreachable(f"{self._access}: {path} cannot be written: {clean(ran.errors)}")

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """By stat, where the system has it."""
        ran = self.run(["stat", "-c", "%a %G", path])
        words = ran.output.split()
        if ran.code != 0 or len(words) != 2 or not words[0].isdecimal():
            return None
        return int(words[0], 8), words[1]

    def close(self) -> None:
        """The connection ends."""
        with contextlib.suppress(OSError, socket.error):
            self._client.close()


def _read(stream: Any) -> str:
    found: bytes = stream.read(_MOST_OCTETS)
    return found.decode("utf-8", "surrogateescape")


def _print_of(key: Any) -> str:
    """A host key's fingerprint, as people compare it."""
    import base64
    import hashlib

    return "SHA256:" + base64.b64encode(hashlib.sha256(key.asbytes()).digest()).decode().rstrip("=")
