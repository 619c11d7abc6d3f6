"""Makes the single file: a standard zip application (zipapp) with Scopion and all that it needs inside.

    python -m tools.onefile [OUT]        dist/scopion.pyz by default

It runs with a Python of the version and system that made it, and nothing else. Figures are not in it: Matplotlib would
make it five times as large.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import subprocess
import sys
import tempfile
import zipapp
from pathlib import Path

ROOT = Path(__file__).parent.parent
# Of an environment that has more.
_NOT_IN_IT = ("__pycache__", "pip", "pip-*", "setuptools*", "matplotlib*", "mpl_toolkits", "numpy*", "PIL", "fontTools")


def make(out: Path, installed: Path | None = None) -> None:
    """Write the file, from what is ``installed`` in a folder already, or installs it. Raises CalledProcessError."""
    with tempfile.TemporaryDirectory(prefix="scopion-onefile-") as holder:
        inside = Path(holder) / "inside"
        inside.mkdir()
        if installed is None:
            pip = [sys.executable, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", "--no-compile"]
            subprocess.run([*pip, "--target", str(inside / "site"), str(ROOT)], check=True)
        else:
            shutil.copytree(installed, inside / "site", ignore=shutil.ignore_patterns(*_NOT_IN_IT))
        for name in ("bin", "share"):
            shutil.rmtree(inside / "site" / name, ignore_errors=True)
        shutil.copyfile(ROOT / "tools" / "onefile_main.py", inside / "__main__.py")
        build = {"for": f"{sys.version_info[0]}.{sys.version_info[1]} on {sys.platform}", "digest": _digest(inside)}
        (inside / "build.json").write_text(json.dumps(build), encoding="utf-8")
        out.parent.mkdir(parents=True, exist_ok=True)
        zipapp.create_archive(inside, out, interpreter="/usr/bin/env python3", compressed=True)


def _digest(folder: Path) -> str:
    """Return a digest of all names and contents, which tells one build from another."""
    found = hashlib.sha256()
    for path in sorted(each for each in folder.rglob("*") if each.is_file()):
        found.update(str(path.relative_to(folder)).encode() + b"\0" + path.read_bytes())
    return found.hexdigest()


def main() -> int:
    """Make it, and say where it is."""
    out = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "dist" / "scopion.pyz"
    make(out)
    print(f"{out}, {out.stat().st_size / 1e6:.0f} MB, for Python {sys.version_info[0]}.{sys.version_info[1]}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
