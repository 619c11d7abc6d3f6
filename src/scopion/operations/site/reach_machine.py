"""How to log in to another machine, from settings: the key's file is private, and the password is read when needed."""

from __future__ import annotations

from pathlib import Path

from scopion.attachment.ports import SshAccess
from scopion.operations.folder.read_secret import read_secret, require_private
from scopion.wireless.enforcer_settings import SshSettings


def ssh_access(folder: Path, ssh: SshSettings) -> SshAccess:
    """Return the access; files without a path are in the site's ``folder``. Raises InvalidSettings."""
    key = str(_beside(folder, ssh.key)) if ssh.key else ""
    if key:
        require_private(Path(key), folder, f"the key of {ssh.user} on {ssh.host}")
    known = str(_beside(folder, ssh.known_hosts)) if ssh.known_hosts else ""
    what = f"the password of {ssh.user} on {ssh.host}"
    password = read_secret(ssh.password, folder, what) if ssh.password else ""
    return SshAccess(ssh.host, ssh.port, ssh.user, key, password, known)


def _beside(folder: Path, name: str) -> Path:
    path = Path(name).expanduser()
    return path if path.is_absolute() else folder / path
