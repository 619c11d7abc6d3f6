"""Makes up the secrets that access points and this machine share, where the file that is to have one is missing."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from scopion.operations.answers.make_responder import missing_secret
from scopion.roster.store.write_files import write_atomically
from scopion.wireless.radius.radius_settings import RadiusSettings

# Letters and digits only: pages refuse other characters now and then. 24 of them are 142 bits.
_ALPHABET = "abcdefghijkmnopqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"
_LENGTH = 24


def make_secrets(settings: RadiusSettings, folder: Path) -> list[Path]:
    """Write a secret into each file that is missing; returns these files. Raises StorageFailed."""
    made = []
    for each in settings.access_point:
        path = missing_secret(each, folder)
        if path is not None:
            text = "".join(secrets.choice(_ALPHABET) for _ in range(_LENGTH))
            write_atomically(path, f"{text}\n".encode(), 0o600)
            if os.name == "posix":
                path.chmod(0o600)
            made.append(path)
    return made
