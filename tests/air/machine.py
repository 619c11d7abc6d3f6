"""An emulated machine with a kernel of its own: this machine's files, read only, below a memory file system.

Its network is a tap device in a namespace of the lab and nothing else, so that no packet of it leaves the lab. Pure
emulation: hardware support may look present on a virtual machine and not work.
"""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from queue import Empty, Queue
from typing import Any

from tests.lab.lab import Lab
from tests.support import ROOT

KERNEL = ROOT / "build/air"
TOOLS = ("qemu-system-x86_64", "iw", "wpa_supplicant", "hostapd", "sshd", "modprobe")
_EARLY = ("virtio_pci", "9pnet_virtio", "9p", "overlay")  # to reach the files; the others are loaded from them
_BOOT_S = 90.0
LONGEST_S = 90.0  # that one step may take: the machine shares its cores with all other tests
_INIT = """\
#!/bin/busybox sh
export PATH=/bin
for each in proc sys dev ro rw new; do busybox mkdir -p /$each; done
busybox mount -t proc none /proc
busybox mount -t sysfs none /sys
busybox mount -t devtmpfs none /dev
{insert}
busybox mount -t 9p -o trans=virtio,version=9p2000.L,cache=loose,msize=262144,ro root /ro
busybox mount -t tmpfs none /rw
busybox mkdir /rw/upper /rw/work
busybox mount -t overlay -o lowerdir=/ro,upperdir=/rw/upper,workdir=/rw/work none /new
busybox umount /sys /proc
exec busybox switch_root /new /bin/sh -c '{then}'
"""
# A console of its own for what daemons log is not needed: everything that is started has a file.
_THEN = """\
export PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
mount -t proc none /proc; mount -t sysfs none /sys; mount -t devtmpfs none /dev
mkdir -p /dev/pts /dev/shm; mount -t devpts none /dev/pts; mount -t tmpfs none /run; mount -t tmpfs none /tmp
ln -s /proc/self/fd /dev/fd; ln -s fd/0 /dev/stdin; ln -s fd/1 /dev/stdout; ln -s fd/2 /dev/stderr
mkdir -p /lib/modules /run/sshd; rm -rf /lib/firmware /root/.bashrc /root/.profile /root/.bash_profile
ln -s {kernel}/lib/modules/* /lib/modules/; cp -a {kernel}/lib/firmware /lib/firmware
cd /lib/firmware; for each in regulatory.db regulatory.db.p7s; do cp --remove-destination $each-debian $each; done; cd /
hostname air; ip link set lo up
modprobe -a virtio_net virtio_console bridge veth nft_masq nft_chain_nat
while [ ! -e /dev/vport1p1 ] && [ ! -e /dev/vport0p1 ] && [ ! -e /dev/vport2p1 ]; do sleep 0.1; done
mkdir -p /dev/virtio-ports; ln -s /dev/vport*p1 /dev/virtio-ports/agent
exec {python} -I -S {agent}
"""


@dataclass(frozen=True)
class Ended:
    """A program that was run inside."""

    code: int
    output: str
    errors: str


class Machine:
    """One emulated machine, plugged into a switch of a lab."""

    def __init__(self, lab: Lab, folder: Path, switch: str = "switch") -> None:
        self._lab, self._folder = lab, folder
        self._numbers = 0
        self._asking = threading.Lock()
        self._answers: dict[int, Queue[dict[str, Any]]] = {}
        self._ready: Queue[str] = Queue()
        for cable in ("cable", "seat"):  # the second is for a host that has nothing but a radio
            lab.run(switch, ["ip", "tuntap", "add", "dev", cable, "mode", "tap"])
        lab.run(switch, ["ip", "link", "set", "cable", "master", "bridge", "up"])
        initrd = folder / "initrd"
        initrd.write_bytes(_initrd())
        where = folder / "agent"
        listener = socket.socket(socket.AF_UNIX)
        with listener:
            listener.bind(str(where))
            listener.listen(1)
            listener.settimeout(_BOOT_S)
            self._process = subprocess.Popen(
                ["ip", "netns", "exec", lab.namespace(switch), *_command(initrd, where, folder / "console")],
                stdin=subprocess.DEVNULL,
                stderr=(folder / "emulator").open("wb"),
            )
            try:
                self._port, _ = listener.accept()
                self._reader = threading.Thread(target=self._read, daemon=True)
                self._reader.start()
                self.kernel = self._ready.get(timeout=_BOOT_S)
            except (Empty, TimeoutError):
                self.close()
                raise AssertionError(f"the machine did not boot:\n{self.console()}") from None

    def console(self) -> str:
        """What its kernel printed."""
        path = self._folder / "console"
        return path.read_text(encoding="utf-8", errors="replace")[-4000:] if path.exists() else ""

    def ask(self, do: str, *, within_s: float = LONGEST_S, **what: Any) -> dict[str, Any]:
        """Ask the agent for one thing."""
        with self._asking:
            self._numbers += 1
            number = self._numbers
            self._answers[number] = Queue()
            document = {"number": number, "do": do, "within_s": within_s, **what}
            self._port.sendall(json.dumps(document).encode() + b"\n")
        try:
            answer = self._answers[number].get(timeout=within_s + 5)
        except Empty:
            raise AssertionError(f"{do} {what} did not end within {within_s:g} s:\n{self.console()}") from None
        finally:
            del self._answers[number]
        if "problem" in answer:
            raise AssertionError(f"{do} {what}: {answer['problem']}")
        return answer

    def run(self, command: Sequence[str], *, at: str = "", stdin: str = "", within_s: float = LONGEST_S) -> Ended:
        """Run a program, in a namespace of the machine if one is named."""
        answer = self.ask("run", command=[*_at(at), *command], stdin=stdin, within_s=within_s)
        return Ended(answer["code"], answer["output"], answer["errors"])

    def do(self, *commands: str, at: str = "") -> str:
        """Run lines of a shell script; each must succeed. Their output."""
        ended = self.run(["sh", "-ec", "\n".join(commands)], at=at)
        if ended.code != 0:
            raise AssertionError(f"{commands} (at {at or 'home'}): {ended.errors.strip() or ended.output.strip()}")
        return ended.output

    def start(self, command: Sequence[str], log: str, *, at: str = "") -> int:
        """Start a program that goes on; its output is a file of the machine. Its process number."""
        return int(self.ask("start", command=[*_at(at), *command], log=log)["pid"])

    def end(self, pid: int, signal: str = "SIGTERM") -> None:
        """End a program that was started."""
        self.ask("end", pid=pid, signal=signal)

    def write(self, path: str, text: str, mode: int = 0o644) -> None:
        """Write a file of the machine."""
        self.ask("write", path=path, text=text, mode=mode)

    def read(self, path: str) -> str:
        """Return a file of the machine; an empty text if there is none."""
        return str(self.ask("read", path=path)["text"])

    def control(self, path: str, command: str) -> str:
        """Ask a daemon at its control socket; an empty text if it is not there."""
        return str(self.ask("ask", path=path, command=command)["reply"])

    def close(self) -> None:
        """Switch it off."""
        self._process.terminate()
        try:
            self._process.wait(10)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait(10)

    def _read(self) -> None:
        for document in _documents(self._port):
            if "ready" in document:
                self._ready.put(document["ready"])
            else:
                self._answers[document["number"]].put(document)


def _documents(port: socket.socket) -> Iterator[dict[str, Any]]:
    waiting = b""
    while True:
        try:
            octets = port.recv(65_536)
        except OSError:
            return
        if not octets:
            return
        waiting += octets
        *lines, waiting = waiting.split(b"\n")
        for line in lines:
            yield json.loads(line)


def _at(namespace: str) -> list[str]:
    return ["ip", "netns", "exec", namespace] if namespace else []


# On a busy machine the emulated timer comes too late for the kernel's check of it, which then does not boot.
_BOOTED_WITH = "console=ttyS0 panic=-1 quiet loglevel=4 mitigations=off nokaslr audit=0 no_timer_check"


def _command(initrd: Path, agent: Path, console: Path) -> list[str]:
    """No default devices, so no network but the taps; the root of this machine is given read only.

    A processor without wide registers is emulated faster, and room for what was translated is needed where programs
    are started all the time.
    """
    (kernel,) = (KERNEL / "boot").glob("vmlinuz-*")
    return [
        "setpriv", "--pdeathsig", "TERM",  # it ends with us, however we end
        "qemu-system-x86_64", "-machine", "pc", "-accel", "tcg,thread=multi,tb-size=1024", "-cpu", "Nehalem",
        "-smp", "2", "-m", "768",
        "-nodefaults", "-no-user-config", "-display", "none", "-no-reboot", "-kernel", str(kernel),
        "-initrd", str(initrd), "-append", _BOOTED_WITH,
        "-serial", f"file:{console}", "-device", "virtio-rng-pci",
        "-fsdev", "local,id=root,path=/,security_model=none,readonly=on,multidevs=remap",
        "-device", "virtio-9p-pci,fsdev=root,mount_tag=root",
        "-device", "virtio-serial-pci", "-chardev", f"socket,id=agent,path={agent}",
        "-device", "virtserialport,chardev=agent,name=agent",
        *_cable("cable", "52:54:00:00:00:01"), *_cable("seat", "52:54:00:00:00:02"),
    ]  # fmt: skip


def _cable(name: str, mac: str) -> list[str]:
    card = ["-device", f"virtio-net-pci,netdev={name},mac={mac}"]
    return ["-netdev", f"tap,id={name},ifname={name},script=no,downscript=no", *card]


def _initrd() -> bytes:
    """The first files that the kernel sees, as an archive in the portable format of cpio(5)."""
    (release,) = (each.name for each in (KERNEL / "lib/modules").iterdir())
    told = subprocess.run(
        ["modprobe", "-d", str(KERNEL), "-S", release, "-a", "--show-depends", *_EARLY],
        capture_output=True,
        text=True,
        check=True,
    )
    modules = list(dict.fromkeys(line.split()[1] for line in told.stdout.splitlines() if line.startswith("insmod")))
    insert = "\n".join(f"busybox insmod /{Path(each).name}" for each in modules)
    busybox = KERNEL / "bin/busybox"
    python = Path(sys.base_prefix) / f"bin/python3.{sys.version_info.minor}"
    then = _THEN.format(kernel=KERNEL, python=python, agent=Path(__file__).with_name("inside.py"))
    init = _INIT.format(insert=insert, then=then)
    files = [("init", init.encode()), ("bin/busybox", busybox.read_bytes())]
    files += [(Path(each).name, Path(each).read_bytes()) for each in modules]
    return b"".join([
        _entry("bin", b"", 0o040755), _entry("dev", b"", 0o040755), _entry("dev/console", b"", 0o020600, (5, 1)),
        *(_entry(name, octets, 0o100755) for name, octets in files),
        _entry("TRAILER!!!", b"", 0),
    ])  # fmt: skip


def _entry(name: str, octets: bytes, mode: int, device: tuple[int, int] = (0, 0)) -> bytes:
    fields = [0, mode, 0, 0, 1, 0, len(octets), 0, 0, *device, len(name) + 1, 0]
    head = b"070701" + "".join(f"{each:08x}" for each in fields).encode() + name.encode() + b"\0"
    return _padded(head) + _padded(octets)


def _padded(octets: bytes) -> bytes:
    return octets + b"\0" * (-len(octets) % 4)
