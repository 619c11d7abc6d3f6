"""Reads secrets of ``site.toml``: a variable of the environment, a file that no other account may read, or a
credential.

The system's service manager hands credentials to a service in a folder that it protects.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from scopion.model.errors import InvalidSettings
from scopion.roster.store.owner_rights import SETTINGS, bound_to

_MOST_OCTETS = 64 * 1024  # octets; a key in a file has a few thousand


def read_secret(reference: str, folder: Path, what: str) -> str:
    """Return the secret that ``env:NAME``, ``file:PATH`` (in the site's folder) or ``credential:NAME`` means.

    Raises InvalidSettings, which never shows a secret.
    """
    kind, _, name = reference.partition(":")
    if kind == "env":
        value = os.environ.get(name, "")
        if not value:
            raise InvalidSettings(f"{what} is to come from the environment, but {name} is not set")
        return value
    credentials = os.environ.get("CREDENTIALS_DIRECTORY", "")
    if kind == "credential" and not credentials:
        raise InvalidSettings(
            f"{what} is a credential, {name}, and only a service is handed those: see scopion service"
        )
    path = Path(credentials) / Path(name).name if kind == "credential" else folder / name
    try:
        with path.open("rb") as file:
            if kind == "file":
                _require_private(path, os.fstat(file.fileno()), folder, what)
            data = file.read(_MOST_OCTETS + 1)
        value = data.decode("utf-8").strip()
    except PermissionError:
        raise InvalidSettings(
            f"{path} should hold {what}, but this account may not read it: give it to the account that runs the watch "
            "(chown), or use credential:NAME where that is a service"
        ) from None
    except OSError as error:
        raise InvalidSettings(f"{path} should hold {what}: {error.strerror}") from None
    except UnicodeDecodeError:
        raise InvalidSettings(f"{path} should hold {what} as text") from None
    if not value or len(data) > _MOST_OCTETS:
        raise InvalidSettings(f"{path} should hold {what}, but is {'too large for that' if value else 'empty'}")
    return value


def require_private(path: Path, folder: Path, what: str) -> None:
    """See that no other account can read a file with a secret; a missing file is told by its reader.

    Raises InvalidSettings.
    """
    try:
        there = path.stat()
    except OSError:
        return
    _require_private(path, there, folder, what)


def _require_private(path: Path, there: os.stat_result, folder: Path, what: str) -> None:
    if os.name != "posix":
        return
    if there.st_mode & (stat.S_IRWXG | stat.S_IRWXO):
        raise InvalidSettings(f"{path} holds {what} and others may read or change it: chmod 600 {path}")
    account = bound_to(folder)
    if account is not None and there.st_uid != account:
        raise InvalidSettings(
            f"{path} holds {what} and belongs to another account than {SETTINGS}: root reads it for that account only"
        )
