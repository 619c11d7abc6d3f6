"""Makes the pictures in docs/screenshots: a real terminal window on a virtual screen, on the made-up site.

    python tools/shots.py [NAME...]

Needs Xvfb, xterm, ImageMagick's import and the DejaVu fonts; ``make shots`` installs them as root on Debian.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

ROOT = Path(__file__).parent.parent
PICTURES = ROOT / "docs" / "screenshots"
COLUMNS, ROWS = 139, 42  # what fits a screen of 1280x800 in this type
SCREEN = "1280x800"

FORTNIGHT = -1  # two weeks played at once
# Monday evening: every device that belongs here has been seen, and the watch runs through the night.
NIGHT = ("scan", "label 192.0.2.91 'apprentice telephone'", "mark apprentice known", "alerts learning --end",
         "watch --for 12.9h", "watch --for 30m")  # fmt: skip
# In the night: the stranger is to be refused.
BLOCK = ("scan", "label 192.0.2.50 till --essential", "label 192.0.2.144 stranger", "mark stranger unwanted")
REFUSE = (*BLOCK, "wifi deny Kilnhaven stranger --description 'came at three in the night' --capacity 12",
          "wifi mode Kilnhaven deny")  # fmt: skip
# In the morning: an allow list, with hours for the shop's tablets.
HOURS = ("mark --all-present known", "label 192.0.2.50 till --essential", "wifi stations",
         "wifi timetable opening 'mon-sat 08:00-17:30, sun 10:00-13:00'",
         "wifi allow Kilnhaven 'door tablet' 'window tablet' --hours opening", "wifi allow Kilnhaven --all-known",
         "wifi mode Kilnhaven allow --router 192.0.2.2 --capacity 12")  # fmt: skip
# In the café: what its router's page is to hold, for a time and at hours.
CAFE = (
    "wifi deny 'Kilnhaven guests' 192.0.2.144 --notation hyphen --router 203.0.113.1 --capacity 16",
    "wifi mode 'Kilnhaven guests' deny",
    "wifi push 'Kilnhaven guests'",
    "wifi done 'Kilnhaven guests'",
    "wifi deny 'Kilnhaven guests' 60-F2-A7-71-00-3D --for 2h --description 'games console, table four'",
    "wifi deny 'Kilnhaven guests' 7C-A4-B1-33-05-10 --hours 'tue-sat 08:00-17:30' --description 'menu board'",
)
# On Friday: access points that ask by RADIUS, and what they had asked by one.
FRIDAY = 9
ASKED = (
    "scan",
    "wifi radius 'Kilnhaven café' --make-secrets",
    "wifi allow 'Kilnhaven café' 54-B1-A3-7C-00-88 --description 'card reader'",
    "wifi allow 'Kilnhaven café' 7C-A4-B1-33-05-10 --description 'menu board' --hours 'tue-sat 09:00-17:30'",
    "wifi allow 'Kilnhaven café' this-machine",
    "wifi mode 'Kilnhaven café' allow",
    "wifi push 'Kilnhaven café' --yes",
    "watch --for 2.9h",
)
# On Saturday: the switch is read, and what passes is counted, for some hours.
SATURDAY = 12
WIRED = ("scan", "where 192.0.2.147 --now", "label 192.0.2.147 --socket 'yard, loading door'",
         "label --port 'workshop switch/7' --socket 'glaze bench'", "watch --for 5h")  # fmt: skip
MAPPED = ("scan",)
ANSWERS = "wifi audit Kilnhaven --admin-password changed --passphrase-changed 2022-05-02"
# Pages, shown by a browser: the same alert as the page that its mail shows; the sheets to print.
MAIL, SHEET = "mail", "wifi-sheet"
PAGES: dict[str, tuple[int, tuple[str, ...], str, str]] = {
    MAIL: (1, NIGHT, "alerts show 3 --html", "760,800"),
    SHEET: (3, CAFE, "wifi sheet 'Kilnhaven guests' --html -", "860,1120"),
    "wires": (SATURDAY, WIRED, "report --html - --part wires --part usage", "1280,1500"),
    "report": (FORTNIGHT, (), "report --html - --part attention --part hours --part busy-hours", "1280,1800"),
}
# What a site tells the map of its addresses.
ADDRESSES = """
[[subnet]]
range = "192.0.2.0/24"
name = "workshop"
dhcp_pool = ["192.0.2.90-192.0.2.149"]
reserved = ["192.0.2.240-192.0.2.254"]
"""
# Name of the picture, how far the story has gone, what is done first without showing, what is shown.
SHOTS: tuple[tuple[str, int, tuple[str, ...], tuple[str, ...]], ...] = (
    ("scan", 2, (), ("scan",)),
    ("map", 1, MAPPED, ("map",)),
    ("import", 3, (), ("import ../clients.txt --preview",)),
    ("devices", 3, (), ("devices",)),
    ("show", FORTNIGHT, (), ("show 192.0.2.93",)),
    ("review", FORTNIGHT, (), ("review",)),
    ("watch", 1, NIGHT[:-1], ("watch --for 12h",)),
    ("alerts", 1, NIGHT, ("alerts", "alerts show 3")),
    ("status", FORTNIGHT, (), ("status",)),
    ("block", 2, BLOCK, ("block stranger",)),
    ("radius-log", FRIDAY, ASKED,
     ("wifi radius test 'Kilnhaven café' --access-point counter", "wifi radius log 'Kilnhaven café'",
      "wifi stations 'Kilnhaven café'", "wifi stations --refused")),
    ("where", SATURDAY, WIRED, ("where 192.0.2.147", "where till", "map --wires")),
    ("usage", SATURDAY, WIRED, ("usage --live",)),
    ("sensors", FORTNIGHT, (),
     ("sensors", "devices --place 'clay pit'", "show 192.0.2.50", "show '192.0.2.50@clay pit'")),
    ("wifi-audit", 3, (*HOURS, ANSWERS), ("wifi audit Kilnhaven",)),
)  # fmt: skip
# What a person has copied from the web page of a made-up router.
CLIENTS = """Attached devices (5)
Status\tDevice name\tIP address\tMAC address\tConnection\tLease
Online\tlabel-printer\t192.0.2.20\t24-D3-A1-20-7E-14\tLAN 2\tinfinite
Online\tdoor-tablet\t192.0.2.61\t7C-A4-B1-33-02-61\t5 GHz\t10:01:44
Online\tglaze-scale\t192.0.2.40\tAC-D3-E5-00-51-40\tLAN 3\t08:12:09
Online\tguest-phone\t192.0.2.117\t7E-21-0B-5D-33-A8\t2.4 GHz\t23:40:00
Offline\t--\t192.0.2.144\tA0-B4-D7-66-19-04\t2.4 GHz\t00:12:09
"""
# What the person at the desk has done by then, so that the pictures show a site that is looked after.
STORY: tuple[tuple[str, ...], ...] = (
    ("scan", "label 192.0.2.31 'kiln controller' --place 'kiln room'", "label 192.0.2.20 'label printer'",
     "label 192.0.2.50 till", "label 192.0.2.5 storage", "label 192.0.2.61 'door tablet'",
     "label 192.0.2.62 'window tablet'",
     "mark kiln 'label printer' till storage door window this-machine gateway known"),
    ("scan", "label 192.0.2.91 'apprentice telephone' --owner 'the apprentice'",
     "mark apprentice guest --until 2026-12-31"),
    ("scan", "mark 192.0.2.144 unwanted",
     "wifi deny Kilnhaven 192.0.2.144 --description 'came at three in the night' --capacity 12 --router 192.0.2.2",
     "wifi mode Kilnhaven deny"),
    ("scan",),
)  # fmt: skip


# These do not end by themselves; after so many seconds the picture shows the question, or the view.
WAITING = {"review": 3, "watch --for 12h": 7, "usage --live": 7}
# What is typed when these ask, after so many seconds.
TYPED = {"block stranger": ("y", 4)}


def main() -> int:
    """Take the pictures that are asked for, or all."""
    try:
        return take()
    finally:
        shutil.rmtree(Path(tempfile.gettempdir()) / f"shots-fortnight-{os.getpid()}", ignore_errors=True)


def take() -> int:
    """Take them."""
    wanted = set(sys.argv[1:]) or {name for name, *_ in SHOTS} | PAGES.keys()
    PICTURES.mkdir(exist_ok=True)
    for name, chapter, before, shown in SHOTS:
        if name in wanted:
            folder = Path(tempfile.gettempdir()) / "shots"  # always the same, for pictures show it
            folder.mkdir()
            try:
                prepare(folder / "kilnhaven", chapter, before)
                shoot(PICTURES / f"{name}.png", folder / "kilnhaven", shown)
            finally:
                shutil.rmtree(folder)
            print(PICTURES / f"{name}.png")
    for name in wanted & PAGES.keys():
        shoot_page(PICTURES / f"{name}.png", *PAGES[name])
    return 0


def shoot_page(picture: Path, chapter: int, before: tuple[str, ...], command: str, size: str) -> None:
    """Take a picture of HTML, as a mail program or a printer gets it, by a browser."""
    with tempfile.TemporaryDirectory() as holder:
        site, page = Path(holder) / "kilnhaven", Path(holder) / "page.html"
        prepare(site, chapter, before)
        page.write_text(program(site, command), encoding="utf-8")
        subprocess.run(
            ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", f"--window-size={size}",
             f"--user-data-dir={holder}/browser", f"--screenshot={picture}", page.as_uri()],
            check=True, capture_output=True, timeout=60,
        )  # fmt: skip
    print(picture)


def prepare(site: Path, chapter: int, before: tuple[str, ...]) -> None:
    """Play the story up to a chapter, then do what the picture needs."""
    if chapter == FORTNIGHT:
        # Played once for all pictures that look back.
        played = Path(tempfile.gettempdir()) / f"shots-fortnight-{os.getpid()}"
        if not played.exists():
            program(played, f"demo --fortnight {shlex.quote(str(played))}")
        shutil.copytree(played, site)
        return
    program(site, f"demo --begin {shlex.quote(str(site))}")
    for number in range(chapter):
        for command in STORY[number] if number < len(STORY) else ():
            program(site, command)
        program(site, f"demo --next {shlex.quote(str(site))}")
    if chapter == 3:
        program(site, "scan")
    (site.parent / "clients.txt").write_text(CLIENTS, encoding="ascii")
    if before == MAPPED:
        with (site / "site.toml").open("a", encoding="utf-8") as file:
            file.write(ADDRESSES)
    for command in before:
        program(site, command)


def program(site: Path, command: str) -> str:
    """Run the program quietly. Returns what it prints."""
    executable = str(Path(sys.executable).with_name("scopion"))
    ended = subprocess.run(
        [executable, *shlex.split(command)], env=environment(site), check=True, capture_output=True, text=True
    )
    return ended.stdout


def environment(site: Path) -> dict[str, str]:
    """Return the environment of the program and of the window."""
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    ours = {"SCOPION_SITE": str(site), "SCOPION_LIVE": "namespaces", "PATH": path, "COLORTERM": "truecolor"}
    return {**os.environ, **ours}


def shoot(picture: Path, site: Path, commands: tuple[str, ...]) -> None:
    """Run the commands in a terminal window and save the screen once they have ended."""
    display = f":{90 + os.getpid() % 800}"
    ended = site.parent / "ended"
    script = site.parent / "script"
    lines = ["PS1=", f"cd {shlex.quote(str(site))}"]
    for command in commands:
        typed = shlex.quote(f"scopion {command}")
        lines += [rf"printf '\033[1;32m$\033[0m \033[1m%s\033[0m\n' {typed}"]
        lines += [f"(sleep {WAITING[command]}; touch {ended}) &"] if command in WAITING else []
        lines += [run_by_hand(command), "echo"]
    script.write_text("\n".join([*lines, f"touch {ended}", "sleep 60"]))
    screen = subprocess.Popen(
        ["Xvfb", display, "-screen", "0", f"{SCREEN}x24", "-nolisten", "tcp"],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    window = None
    try:
        wait_until(lambda: Path(f"/tmp/.X11-unix/X{display[1:]}").exists())
        window = subprocess.Popen(
            ["xterm", "-fa", "DejaVu Sans Mono", "-fs", "11", "-bg", "#101418", "-fg", "#d8dee9", "-b", "12", "+sb",
             "-geometry", f"{COLUMNS}x{ROWS}+0+0", "-e", "bash", str(script)],
            env={**environment(site), "DISPLAY": display}, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        wait_until(ended.exists)
        time.sleep(0.5)  # the window draws what it has read
        take = shutil.which("import-im6.q16") or "import"
        subprocess.run([take, "-display", display, "-window", "root", str(picture)], check=True)
    finally:
        for process in filter(None, (window, screen)):
            process.terminate()
            process.wait(10)
    wait_until(lambda: not is_used(site))  # a watch takes a moment to end, and writes until then


def run_by_hand(command: str) -> str:
    """Return a line of the shell that runs a command, and answers it in a terminal if it asks."""
    if command not in TYPED:
        return f"scopion {command}"
    answer, after = TYPED[command]
    terminal = f"COLUMNS={COLUMNS} LINES={ROWS} script -qec {shlex.quote(f'scopion {command}')} /dev/null"
    return f"(sleep {after}; echo {answer}; sleep 20) | {terminal}"


def is_used(folder: Path) -> bool:
    """Tell whether a process works in a folder."""
    for place in Path("/proc").glob("[0-9]*/cwd"):
        with suppress(OSError):
            if place.readlink() == folder:
                return True
    return False


def wait_until(condition: Callable[[], bool]) -> None:
    """Wait up to half a minute for something to become true."""
    deadline = time.monotonic() + 30
    while not condition():
        if time.monotonic() > deadline:
            raise TimeoutError("the virtual screen or the program did not come")
        time.sleep(0.05)


if __name__ == "__main__":
    sys.exit(main())
