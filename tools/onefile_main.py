"""The beginning of the single file: unpacks what is inside into the user's cache, once, and runs it from there.

This runs before anything of Scopion is there, on whatever Python starts it: it uses the standard library only, and an
older one can read it and say what is wrong.
"""

from __future__ import annotations

import json
import os
import sys
import tempfile
from pathlib import Path
from zipfile import ZipFile

NAME = "scopion-onefile"


def main() -> None:
    """Run the program that is in this file."""
    archive = Path(__file__).parent
    with ZipFile(str(archive)) as packed:
        build = json.loads(packed.read("build.json").decode())
        found = f"{sys.version_info[0]}.{sys.version_info[1]} on {sys.platform}"
        if found != build["for"]:
            made = f"this file was made for Python {build['for']}, this is {found}"
            sys.exit(f"scopion: {made}: start it with that one, or make another by make onefile")
        folder = unpacked(packed, build["digest"])
    site = str(folder / "site")
    sys.path.insert(0, site)
    # What it starts itself, as the process that bears a deadline, finds it, too.
    os.environ["PYTHONPATH"] = os.pathsep.join(filter(None, [site, os.environ.get("PYTHONPATH", "")]))
    from scopion.cli.main import main as run

    run()


def unpacked(packed: ZipFile, digest: str) -> Path:
    """Where it lies unpacked: in the cache, or where that cannot be, in a folder that goes with the process."""
    folder = cache() / f"{NAME}-{digest[:16]}"
    if is_ours(folder.parent) and is_ours(folder):
        return folder
    try:
        folder.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        if not is_ours(folder.parent):  # another account could exchange what lies in it
            raise PermissionError(str(folder.parent))
        trial = Path(tempfile.mkdtemp(prefix=NAME, dir=str(folder.parent)))
        packed.extractall(str(trial))
        trial.replace(folder)  # whole or not at all; another process may have been quicker
    except OSError:
        if is_ours(folder.parent) and is_ours(folder):
            return folder
        import atexit
        import shutil

        passing = Path(tempfile.mkdtemp(prefix=NAME))
        atexit.register(shutil.rmtree, str(passing), True)
        packed.extractall(str(passing))
        return passing
    return folder


def is_ours(folder: Path) -> bool:
    """Tell whether a folder exists and no other account could have put anything into it."""
    try:
        there = folder.lstat()
    except OSError:
        return False
    if os.name != "posix":
        return True
    return there.st_uid == os.geteuid() and not there.st_mode & 0o022 and folder.is_dir()


def cache() -> Path:
    """The cache of the account that runs this, whatever the environment says: under sudo that is not the user's."""
    if os.name != "posix":
        return Path(os.environ.get("LOCALAPPDATA") or tempfile.gettempdir())
    import pwd

    try:
        home = Path(pwd.getpwuid(os.geteuid()).pw_dir)
    except KeyError:  # a container's user without an account: into a folder that goes with the process
        return Path(os.devnull) / "none"
    return home / ("Library/Caches" if sys.platform == "darwin" else ".cache")


if __name__ == "__main__":
    main()
