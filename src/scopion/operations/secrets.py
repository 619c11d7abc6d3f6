"""Secrets of ``site.toml``: a variable of the environment, or a file that nobody else may read."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from scopion.model.errors import InvalidSettings


def read_secret(reference: str, folder: Path, what: str) -> str:
    """The secret that ``env:NAME`` or ``file:PATH`` means; a path is looked for in the site's folder.

    Raises InvalidSettings, which never tells a secret.
    """
    kind, _, name = reference.partition(":")
    if kind == "env":
        value = os.environ.get(name, "")
        if not value:
            raise InvalidSettings(f"{what} is to come from the environment, but {name} is not set")
        return value
    path = folder / name
    try:
        mode = path.stat().st_mode
        if mode & (stat.S_IRWXG | stat.S_IRWXO):
            raise InvalidSettings(f"{path} holds {what} and others may read or change it: chmod 600 {path}")
        value = path.read_text(encoding="utf-8").strip()
    except OSError as error:
        raise InvalidSettings(f"{path} should hold {what}: {error.strerror}") from None
    except UnicodeDecodeError:
        raise InvalidSettings(f"{path} should hold {what} as text") from None
    if not value:
        raise InvalidSettings(f"{path} should hold {what}, but is empty")
    return value
