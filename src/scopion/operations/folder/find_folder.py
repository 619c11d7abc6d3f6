"""Finds a site's folder: the one asked for, else the machine's, else the user's - under sudo the invoking user's."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from scopion.model.errors import UsageError
from scopion.roster.store.owner_rights import SETTINGS as SETTINGS
from scopion.roster.store.write_files import invoking_user

VARIABLE = "SCOPION_SITE"
SYSTEM_FOLDER = Path("/var/lib/scopion")


def site_folder(asked: str | None = None) -> Path:
    """Return the folder of the site; it need not exist. Raises UsageError."""
    if asked or os.environ.get(VARIABLE):
        return Path(asked or os.environ[VARIABLE]).expanduser()
    return usual_folder()


def usual_folder() -> Path:
    """Return the folder without a choice. Raises UsageError if the account that called sudo is unknown."""
    if SYSTEM_FOLDER.is_dir():
        return SYSTEM_FOLDER
    owner = invoking_user()
    if owner is not None:
        import pwd

        try:
            return Path(pwd.getpwuid(owner[0]).pw_dir) / _below_home()
        except KeyError:
            raise UsageError(
                f"SUDO_UID names the user {owner[0]}, which has no account here: say where the site is with --site DIR"
            ) from None
    import platformdirs

    return Path(platformdirs.user_data_dir("scopion", appauthor=False))


def _below_home() -> Path:
    """Return where a user's data is below the home folder, when the environment is another user's."""
    return Path("Library/Application Support/scopion" if sys.platform == "darwin" else ".local/share/scopion")
