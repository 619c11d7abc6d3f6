"""What people install: the wheel is whole and comes from the sdist, the lowest versions of its parts will do, and the
single file runs with nothing but a Python.

It installs from the index that pip is set up for. Where none is reached it is skipped; with CI set that is a failure.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tarfile
import tempfile
import tomllib
import unittest
import venv
from importlib.metadata import distributions
from pathlib import Path
from typing import Any, ClassVar
from zipfile import ZipFile

from tools.onefile import make

from scopion import __version__
from tests.support import ROOT

PROJECT: dict[str, Any] = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
# Neither our environment nor a compiler: what is installed has to be enough.
NO_COMPILER = {"CC": "/bin/false", "CXX": "/bin/false"}
BARE = {"PATH": "/usr/bin:/bin", "SCOPION_LIVE": "namespaces", "LANG": "C.UTF-8", **NO_COMPILER}
PYTHONS = ("3.11", "3.12", "3.13", "3.14")  # for which wheels are promised; we run on the first
_NO_INDEX = re.compile("No matching distribution|ConnectionError|Could not find a version")


def lowest() -> list[str]:
    """Each dependency at the lowest version that we promise to work with."""
    named = [*PROJECT["dependencies"], *PROJECT["optional-dependencies"]["report"]]
    found = [re.fullmatch(r"([\w.-]+)>=([\d.]+)", each) for each in named]
    assert all(found), named
    return [f"{each[1]}=={each[2]}" for each in found if each]


def run(*command: str, cwd: Path, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run something that must succeed."""
    ended = subprocess.run(
        command, cwd=cwd, env={**BARE, **environment}, capture_output=True, text=True, check=False, timeout=300
    )
    assert ended.returncode == 0, f"{command}: {ended.stderr[-3000:]}"
    return ended


def pip(*arguments: str, python: Path | None = None) -> None:
    """Let pip do something; nothing comes from its cache, which may hold what no index has."""
    for_python = ["--python", str(python)] if python else []
    ended = subprocess.run(
        [sys.executable, "-m", "pip", *for_python, "--disable-pip-version-check", "--no-cache-dir", *arguments],
        env={**os.environ, **NO_COMPILER}, capture_output=True, text=True, check=False,
    )  # fmt: skip
    if ended.returncode and _NO_INDEX.search(ended.stderr) and not os.environ.get("CI"):
        raise unittest.SkipTest(f"no index was reached to install from: {ended.stderr[-300:]}")
    assert ended.returncode == 0, ended.stderr[-3000:]


class Packages(unittest.TestCase):
    folder: ClassVar[Path]
    sdist: ClassVar[Path]
    wheel: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name)
        # The wheel is built from the sdist, as a user with only the sdist would do it.
        built = cls.folder / "dist"
        run(sys.executable, "-m", "build", "--no-isolation", "--outdir", str(built), str(ROOT), cwd=cls.folder)
        (cls.sdist,), (cls.wheel,) = built.glob("*.tar.gz"), built.glob("*.whl")

    @classmethod
    def clean(cls) -> Path:
        """An environment of its own into which the wheel was installed, each part at its lowest version; made once."""
        home = cls.folder / "clean"
        if home.exists():
            return home
        venv.create(home, symlinks=True)
        constraints = cls.folder / "lowest.txt"
        constraints.write_text("\n".join(lowest()), encoding="utf-8")
        what = ["--quiet", "--no-compile", "--constraint", str(constraints), f"{cls.wheel}[report]"]
        pip("install", *what, python=home / "bin" / "python")
        return home

    def test_every_supported_python_finds_wheels_at_the_lower_bounds(self) -> None:
        """Another Python than ours needs no compiler either: what has compiled parts is looked up, not installed."""
        (installed,) = (self.clean() / "lib").glob("python*/site-packages")
        compiled = [
            f"{found.metadata['Name']}=={found.version}"
            for found in distributions(path=[str(installed)])
            if any(file.suffix == ".so" for file in found.files or ())
        ]
        self.assertGreater(len(compiled), 5)
        for version in PYTHONS:
            self.assertIn(f"Programming Language :: Python :: {version}", PROJECT["classifiers"])
        for version in PYTHONS[1:]:
            with self.subTest(python=version):
                folder = str(self.folder / version)
                pip("install", "--dry-run", "--no-deps", "--ignore-installed", "--only-binary", ":all:",
                    "--python-version", version, "--target", folder, *compiled)  # fmt: skip

    def test_readmes_first_words_install_it_where_pip_refuses(self) -> None:
        """On a system whose own Python is externally managed (Debian 12 and its like) the README's command works."""
        if not list(Path("/usr/lib").glob("python3*/EXTERNALLY-MANAGED")):
            if os.environ.get("CI"):
                self.fail("this system's Python is not externally managed; in CI this may not be skipped")
            self.skipTest("this system's own Python is not externally managed")
        block = (ROOT / "README.md").read_text(encoding="utf-8").partition("## Two commands")[2].split("```")[1]
        first, second = block.strip().splitlines()
        with tarfile.open(self.sdist) as packed:
            packed.extractall(self.folder / "source", filter="data")
        (source,) = (self.folder / "source").iterdir()
        # pip's settings on this machine name its index; its cache stays out of it.
        home = {
            "HOME": str(self.folder),
            "PIP_NO_CACHE_DIR": "1",
            "PIP_NO_COMPILE": "1",
            "PIP_DISABLE_PIP_VERSION_CHECK": "1",
        }
        kept = {name: value for name, value in os.environ.items() if name.startswith("PIP_") or "PROXY" in name.upper()}
        refused = subprocess.run(
            ["/usr/bin/python3", "-m", "pip", "install", "."], cwd=source, env={**BARE, **home}, capture_output=True,
            text=True, check=False,
        )  # fmt: skip
        self.assertNotEqual(refused.returncode, 0)
        run("sh", "-c", first, cwd=source, **{**kept, **home})
        shown = run("sh", "-c", f"{second.partition('#')[0].strip()} --help", cwd=source, **home).stdout
        self.assertIn("Usage: scopion setup", shown)

    def test_sdist_and_wheel_hold_what_they_need(self) -> None:
        """The code with its data and manual pages, and nothing that is ours alone; the version is the program's."""
        self.assertIn(f"-{__version__}-py3-none-any", self.wheel.name)
        with ZipFile(self.wheel) as packed:
            names = set(packed.namelist())
        data = f"scopion-{__version__}.data/data/share/man/man1/"
        for name in (
            "scopion/vendors/data/vendors.bin", "scopion/scenes/data/kilnhaven.toml", "scopion/alerts/data/mail.html",
            "scopion/scenes/data/kilnhaven-registry.csv", "scopion/operations/site/site-template.toml",
            "scopion/discovery/data/kinds.toml", "scopion/reports/data/report.html", "scopion/reports/data/report.css",
            "scopion/reports/data/report.js", "scopion/wireless/data/sheet.html", f"{data}scopion.1",
            f"{data}scopion-report.1",
        ):  # fmt: skip
            self.assertIn(name, names)
        sources = {f"scopion/{path.relative_to(ROOT / 'src/scopion')}" for path in (ROOT / "src/scopion").rglob("*.py")}
        self.assertLessEqual(sources, names)
        self.assertFalse([name for name in names if name.startswith(("tests", "tools", "benchmarks"))])
        with tarfile.open(self.sdist) as packed_source:
            inside = {name.partition("/")[2] for name in packed_source.getnames()}
        for name in (
            "pyproject.toml",
            "README.md",
            "LICENSE",
            "tests/program/test_packaging.py",
            "docs/guide.md",
            "tools/onefile.py",
        ):
            self.assertIn(name, inside)
        self.assertFalse([name for name in inside if "__pycache__" in name or name.startswith(".venv")])

    def test_the_lowest_versions_will_do_in_a_clean_environment(self) -> None:
        """Installed without a compiler, each part at its lower bound: it tells the whole story and draws a figure."""
        home = self.clean()
        listing = (
            "import importlib.metadata as m; print(*(f'{d.name}=={d.version}' for d in m.distributions()), sep='\\n')"
        )
        python = str(home / "bin" / "python")
        listed = run(python, "-c", listing, cwd=self.folder).stdout.casefold().replace("_", "-").splitlines()
        for each in lowest():
            name, _, version = each.casefold().partition("==")
            (found,) = [line for line in listed if line.startswith(f"{name}==")]
            self.assertTrue(f"{found.partition('==')[2]}.".startswith(f"{version}."), found)
        program = str(home / "bin" / "scopion")
        self.assertEqual(run(program, "--version", cwd=self.folder).stdout, f"scopion {__version__}\n")
        site = self.folder / "told"
        told = run(program, "demo", "--keep", str(site), cwd=self.folder, HOME=str(self.folder))
        self.assertIn("Look back: how was the week?", told.stdout)
        self.assertIn("<svg", (site / "report.html").read_text(encoding="utf-8"))
        run(program, "--site", str(site), "report", "--figure", "hours", str(site / "hours.svg"), cwd=self.folder)
        self.assertIn("Usual hours", (site / "hours.svg").read_text(encoding="utf-8"))
        self.assertTrue((home / "share/man/man1/scopion.1").exists())

    def test_the_single_file_runs_with_nothing_but_a_python(self) -> None:
        """From a folder of its own, without our environment: unpacked once, beside no files of others."""
        out = self.folder / "stick" / "scopion.pyz"
        (installed,) = (self.clean() / "lib").glob("python*/site-packages")
        make(out, installed)
        bare = Path(sys.base_prefix) / "bin" / f"python{sys.version_info[0]}.{sys.version_info[1]}"
        # A Python that finds nothing but itself; its cache is that of an account, which a test leaves alone.
        start = [str(bare), "-I", "-c", _AS_ANOTHER, str(out), str(self.folder / "cache")]
        self.assertEqual(run(*start, "--version", cwd=self.folder).stdout, f"scopion {__version__}\n")
        self.assertIn("Nokia", run(*start, "vendor", "286fb9", cwd=self.folder).stdout)
        told = run(*start, "demo", "--chapter", "look", "--keep", str(self.folder / "kept"), cwd=self.folder)
        self.assertIn("This is the baseline of 192.0.2.0/24", told.stdout)
        (unpacked,) = (self.folder / "cache").iterdir()
        self.assertEqual(unpacked.stat().st_mode & 0o777, 0o700)
        # Somebody else could have written there: it is left alone, and the program runs from a folder that goes.
        unpacked.chmod(0o777)
        self.assertEqual(run(*start, "--version", cwd=self.folder).stdout, f"scopion {__version__}\n")
        other = run(*start[:3], _OTHER_PYTHON, str(out), cwd=self.folder).stdout
        self.assertIn("this file was made for Python", other)


_LISTING = """
from importlib.metadata import distributions
for each in distributions():
    print(f"{each.name}=={each.version}")
"""
# Runs the file as it is, with its cache in another place.
_AS_ANOTHER = """
import runpy, sys
from pathlib import Path
file, cache = sys.argv[1:3]
names = runpy.run_path(file, run_name="unpacked")
names["main"].__globals__["cache"] = lambda: Path(cache)
sys.argv[0:3] = [file]
names["main"]()
"""
_OTHER_PYTHON = """
import runpy, sys
names = runpy.run_path(sys.argv[1], run_name="unpacked")
sys.version_info = (3, 99)
try:
    names["main"]()
except SystemExit as told:
    print(told)
"""


if __name__ == "__main__":
    unittest.main()
