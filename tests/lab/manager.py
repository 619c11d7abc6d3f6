"""A service manager of a lab's own: systemd as the first process of namespaces of its own, with no unit but ours.

Its units, /run, /etc and /var/lib are mounted over in its mount namespace; its network namespace has no interface, and
the service is started in that of the desk. All of it ends with the process that has started it.
"""

from __future__ import annotations

import stat
import subprocess
import sys
import unittest
from collections.abc import Iterator, Sequence
from pathlib import Path

from scopion.watching.service.radius_unit import SERVICE, SOCKET
from scopion.watching.service.sensor_unit import SENSOR_UNIT
from scopion.watching.service.service_unit import ACCOUNT, NAME
from tests.lab.lab import PROGRAM, Lab, require_tools
from tests.lab.services import wait_for
from tests.support import ROOT

_ID = 64020
_PASSWD = f"{ACCOUNT}:x:{_ID}:{_ID}::/var/lib/scopion:/usr/sbin/nologin\n"
_GROUP = f"{ACCOUNT}:x:{_ID}:\n"
# What the development's environment needs beside the unit: the lock on the live network asks where process 1 is, and a
# checkout may lie in a folder of which a service has its own.
_DROP_IN = """[Service]
Environment=SCOPION_LIVE=namespaces
NetworkNamespacePath=/run/netns/{namespace}
ProtectProc=default
BindReadOnlyPaths={paths}
StandardError=append:{log}
"""
_SOCKET = "[Socket]\nNetworkNamespacePath=/run/netns/{namespace}\n"
_TARGETS = ("sysinit", "basic", "network", "sockets", "multi-user", "shutdown", "umount", "final")
_PREPARE = f"""set -eu
cd "$1"
mount --make-rprivate /
mkdir netns
mount --rbind /run/netns netns
mount -t tmpfs tmpfs /run
mkdir /run/netns
mount --rbind netns /run/netns
if [ "$(stat -f -c %T /sys/fs/cgroup)" = cgroup2fs ]; then
  mount -t cgroup2 cgroup2 /sys/fs/cgroup
else
  mount -t tmpfs tmpfs /sys/fs/cgroup
  mkdir /sys/fs/cgroup/systemd
  mount -t cgroup -o none,name=systemd cgroup /sys/fs/cgroup/systemd
fi
for over in /etc/systemd /lib/systemd/system /usr/local/lib/systemd /lib/systemd/system-generators /var/lib; do
  [ ! -d $over ] || mount -t tmpfs -o mode=755 tmpfs $over
done
mkdir /etc/systemd/system
cp -r units/* /lib/systemd/system
mkdir /var/lib/scopion
mount --bind state /var/lib/scopion
chown -R {_ID}:{_ID} /var/lib/scopion
chmod 2770 /var/lib/scopion
for name in passwd group; do
  cat /etc/$name >>$name
  mount --bind $name /etc/$name
done
"""
_START = """export container=lab
exec /lib/systemd/systemd --system --log-target=console --show-status=no
"""


class Manager:
    """Starts our service at the desk of a lab, once it is installed; ``site`` is the system's site, as it has it."""

    def __init__(self, lab: Lab, folder: Path, test: unittest.TestCase) -> None:
        require_tools("systemctl", "nsenter", "unshare")
        self._folder, self._desk = folder, lab.namespace("desk")
        self.site = folder / "state"
        self.site.mkdir(parents=True)
        needed = (ROOT, Path(sys.base_prefix))
        units = folder / "units"
        for name in (NAME, SERVICE, SOCKET, SENSOR_UNIT):
            (units / f"{name}.d").mkdir(parents=True)
        for name in _TARGETS:
            (units / f"{name}.target").write_text(f"[Unit]\nDescription={name}\nDefaultDependencies=no\n")
        (units / "default.target").write_text("[Unit]\nRequires=basic.target\n")
        drop_in = _DROP_IN.format(namespace=self._desk, paths=" ".join(map(str, needed)), log=folder / "log")
        for name in (NAME, SERVICE, SENSOR_UNIT):
            (units / f"{name}.d/lab.conf").write_text(drop_in)
        (units / f"{SOCKET}.d/lab.conf").write_text(_SOCKET.format(namespace=self._desk))
        (folder / "passwd").write_text(_PASSWD)
        (folder / "group").write_text(_GROUP)
        (folder / "boot").write_text("".join((_PREPARE, *_opened(needed), _START)))
        (folder / "log").touch()
        with (self._folder / "console").open("wb") as console:
            self._process = subprocess.Popen(
                ["unshare", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc", "--net", "--ipc", "--uts",
                 "--cgroup", "sh", "boot", str(self._folder)],
                cwd=self._folder, stdin=subprocess.DEVNULL, stdout=console, stderr=console,
            )  # fmt: skip
        test.addCleanup(self._end)
        wait_for("the manager's start", self._is_up)

    def _is_up(self) -> bool:
        return bool(self._first()) and "running" in self._inside("systemctl", "is-system-running", check=False)

    def _first(self) -> list[str]:
        """The manager's number, once there is a process in its namespaces."""
        return Path(f"/proc/{self._process.pid}/task/{self._process.pid}/children").read_text().split()

    def scopion(self, *arguments: str) -> str:
        """Run the program as its administrator, at the desk; what it says."""
        return self._inside(PROGRAM, *arguments)

    def log(self) -> str:
        """What the service has said."""
        return (self._folder / "log").read_text()

    def ctl(self, *command: str, unit: str = NAME) -> None:
        """Tell the manager to do something with a unit. Raises AssertionError with all that was said."""
        self._inside("systemctl", "--no-pager", *command, unit)

    def shown(self, *properties: str, unit: str = NAME) -> list[str]:
        """Properties of a unit, as the manager has them."""
        said = self._inside("systemctl", "show", f"--property={','.join(properties)}", unit)
        values = dict(line.partition("=")[::2] for line in said.splitlines())
        return [values[each] for each in properties]

    def resident_kb(self, unit: str) -> int:
        """Return how much memory a service has in use, in kilobytes."""
        (process,) = self.shown("MainPID", unit=unit)
        return int(self._inside("sed", "-n", "s/^VmRSS:[^0-9]*\\([0-9]*\\) kB/\\1/p", f"/proc/{process}/status"))

    def modes(self, *patterns: str) -> dict[str, str]:
        """The modes of files of the site."""
        found = [path for pattern in patterns for path in self.site.glob(pattern)]
        return {path.name: f"{stat.S_IMODE(path.stat().st_mode):o}" for path in found}

    def _inside(self, *command: str, check: bool = True) -> str:
        ended = subprocess.run(
            ["nsenter", "--target", *self._first(), "--mount", "--pid", f"--net=/run/netns/{self._desk}", *command],
            capture_output=True, text=True, timeout=60, check=False,
        )  # fmt: skip
        if check and ended.returncode:
            console = (self._folder / "console").read_text(errors="replace")
            raise AssertionError(f"{command}: {ended.stderr}\n{console}\n{self.log()}")
        return ended.stdout + ended.stderr

    def _end(self) -> None:
        self._process.kill()
        self._process.wait(20)


def _opened(needed: Sequence[Path]) -> Iterator[str]:
    """What shows these at the same place to every account, where a folder above them is closed."""
    closed = {each: each.parents[-2] for each in needed if not _is_open(each)}
    for number, path in enumerate(closed):
        yield f"mkdir open-{number}\nmount --rbind {path} open-{number}\n"
    for top in sorted({*closed.values()}):
        yield f"mount -t tmpfs -o mode=755 tmpfs {top}\n"
    for number, path in enumerate(closed):
        yield f"mkdir -p {path}\nmount --rbind open-{number} {path}\n"


def _is_open(path: Path) -> bool:
    """Whether every account can come to a folder."""
    return all(each.stat().st_mode & stat.S_IXOTH for each in (path, *path.parents))
