"""How often an access point is reached for one operation, beside the floor of once: a run is a way there and back.

The daemon is made up and has two radios, with few or many stations and entries. Its questions are counted, too: asked
one by one, each of them would be a run.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing
from pathlib import Path

from benchmarks.figure import Figure, run
from benchmarks.starting import PROGRAM
from scopion.attachment.connect.kept_shells import KeptShells
from scopion.attachment.connect.one_by_one import OneByOne
from scopion.attachment.ports import Job, Ran
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.attend_lists import attend
from scopion.operations.wifi.edit_entries import put_on_list
from scopion.operations.wifi.push_lists import push
from scopion.operations.wifi.send_push import PushRequest
from scopion.operations.wifi.set_modes import Lists, set_mode
from scopion.operations.wifi.verify_network import verify
from scopion.roster.wifi.lists import ListMode
from scopion.scenes.scene_files import SceneShell

SSID = "Kilnhaven"
_SETTINGS = """\
[[enforcer]]
name = "ap"
type = "hostapd"
network = "Kilnhaven"
ssh = { host = "192.0.2.2" }
radio."2.4" = { socket = "/run/hostapd/wlan0", accept_file = "/etc/accept.wlan0", deny_file = "/etc/deny.wlan0" }
radio."5" = { socket = "/run/hostapd/wlan1", accept_file = "/etc/accept.wlan1", deny_file = "/etc/deny.wlan1" }
"""


def measure() -> Iterator[Figure]:
    """Count in folders of their own."""
    for stations, entries in ((1, 1), (60, 70)):
        with tempfile.TemporaryDirectory(prefix="scopion-bench-") as folder:
            yield from _counted(Path(folder) / "site", stations, entries)


def _counted(folder: Path, stations: int, entries: int) -> Iterator[Figure]:
    run((PROGRAM, "demo", "--begin", str(folder)))
    (folder / "site.toml").write_text(_SETTINGS, encoding="utf-8")
    with closing(Site(folder)) as site:
        daemons = {f"/run/hostapd/{name}": Daemon(stations) for name in ("wlan0", "wlan1")}
        shell = Counting(folder, daemons.__getitem__)
        site.__dict__["shells"] = KeptShells(lambda _: shell)
        put_on_list(site, [SSID], ListMode.DENY, [f"10:00:00:00:01:{each:02x}" for each in range(entries)])
        set_mode(site, SSID, Lists(ListMode.DENY), None)
        for name, hold, work in (
            ("push", 3, lambda: push(site, SSID, PushRequest())),
            ("verify", 1, lambda: verify(site, SSID, scan=False)),
            ("a round of the watch", 1, lambda: attend(site, stations=True)),
        ):
            shell.runs = asked = 0
            asked = -sum(each.asked for each in daemons.values())
            work()
            asked += sum(each.asked for each in daemons.values())
            detail = f"{asked} questions; floor: 1 run"
            yield Figure(
                f"runs: {name}, {stations} stations and {entries} entries", shell.runs, "", hold, detail=detail
            )


class Counting(OneByOne):
    """Implements ``Shell``; each list of jobs is a run, as it is over SSH."""

    def __init__(self, folder: Path, daemon: Callable[[str], Daemon]) -> None:
        super().__init__(SceneShell(folder, daemon), daemon)
        self.runs = 0

    def carry_out(self, jobs: Sequence[Job], begins: Callable[[int], None] = lambda _: None) -> list[Ran]:
        """Count, and do them."""
        self.runs += 1
        return super().carry_out(jobs, begins)

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """Return nothing: it is not asked for."""
        return None


class Daemon:
    """A control line to a daemon that has stations and two lists."""

    remark = ""

    def __init__(self, stations: int) -> None:
        self._stations = [f"10:00:00:00:02:{each:02x}" for each in range(stations)]
        self._lists: dict[str, set[str]] = {"ACCEPT_ACL": set(), "DENY_ACL": set()}
        self.asked = 0

    def ask(self, command: str) -> str:
        """Answer as hostapd does."""
        self.asked += 1
        word, _, rest = command.partition(" ")
        if word == "STATUS":
            return f"state=ENABLED\nssid[0]={SSID}\n"
        if word in self._lists:
            act, _, mac = rest.partition(" ")
            if act == "SHOW":
                return "".join(f"{each} VLAN_ID=0\n" for each in sorted(self._lists[word]))
            (self._lists[word].add if act == "ADD_MAC" else self._lists[word].discard)(mac)
            return "OK\n"
        if word in ("STA-FIRST", "STA-NEXT"):
            after = self._stations.index(rest) + 1 if rest else 0
            return "".join(f"{each}\nflags=[AUTH][ASSOC]\n" for each in self._stations[after : after + 1])
        return "OK\n"

    def close(self) -> None:
        """Do nothing."""
