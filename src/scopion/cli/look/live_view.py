"""The view while a scan runs: hosts as they answer, and a line of progress. It is drawn on standard error and then
removed.
"""

from __future__ import annotations

import time
from collections import defaultdict
from typing import TYPE_CHECKING, Any

from scopion.cli.parts.device_rows import host_columns, host_row
from scopion.cli.parts.table import drawn
from scopion.discovery.probing import Method
from scopion.model.address import Address, by_number
from scopion.model.mac import MacAddress
from scopion.model.text import plain

if TYPE_CHECKING:
    from scopion.discovery.runner import Progress
    from scopion.operations.scan.describe_hosts import Host
    from scopion.operations.scan.prepare_scan import PreparedScan

# Drawing sixty rows takes some 15 ms, during which nothing is sent. So a pause follows, this many times as long as the
# drawing took, but not longer than the second value.
_PAUSES, _LONGEST_PAUSE_S = 3, 0.1
_BAR = 24  # characters


class LiveView:
    """Shows a running scan if ``shown``; otherwise it shows nothing and asks for no progress."""

    def __init__(self, prepared: PreparedScan, *, shown: bool) -> None:
        self._prepared = prepared
        self.shown = shown
        self._hosts: dict[tuple[Address, MacAddress | None], Host] = {}
        self._of_mac: dict[MacAddress, dict[Address, Host]] = defaultdict(dict)
        self._progress: Progress | None = None
        self._live: Any = None
        self._not_before = 0.0
        self._drawn_hosts = 0

    def __enter__(self) -> LiveView:
        if self.shown:
            from rich.console import Console
            from rich.live import Live

            console = Console(stderr=True)
            self._live = Live(console=console, auto_refresh=False, transient=True, vertical_overflow="crop")
            self._live.start()
        return self

    def __exit__(self, *_: object) -> None:
        if self._live is not None:
            self._live.stop()

    def on_host(self, host: Host) -> None:
        """Take in a host that has answered."""
        addresses = self._of_mac[host.mac] if host.mac else {}
        addresses[host.address] = host
        # An adapter's IPv6 addresses have no row of their own once an IPv4 one is known.
        shown = [each for each in addresses if each.version == 4] or list(addresses)[:1]
        for address in addresses:
            if address in shown:
                self._hosts[address, host.mac] = addresses[address]
            else:
                self._hosts.pop((address, host.mac), None)
        if host.mac is None:
            self._hosts[host.address, None] = host

    def on_progress(self, progress: Progress) -> None:
        """Take in how far the scan is."""
        if self._live is None:
            return
        began = time.monotonic()
        if began < self._not_before:
            return
        changed = self._drawn_hosts != len(self._hosts) or progress != self._progress
        self._progress = progress
        if changed:
            self._drawn_hosts = len(self._hosts)
            self._live.update(self._picture(progress), refresh=True)
            ended = time.monotonic()
            self._not_before = ended + min(_PAUSES * (ended - began), _LONGEST_PAUSE_S)

    def _picture(self, progress: Progress) -> Any:
        from rich.console import Group
        from rich.text import Text

        room = max(1, self._live.console.height - 4)
        hosts = sorted(self._hosts.values(), key=lambda host: by_number(host.address))
        hidden = max(0, len(hosts) - room)
        rows = [host_row(host) for host in hosts[hidden:]]
        done = round(_BAR * progress.touched / max(1, progress.total))
        more = f" ({hidden} above)" if hidden else ""
        on = self._prepared.choice.interface.name
        if self._prepared.method is Method.LISTEN:
            how = f"{progress.touched} of {progress.total} s heard on {on}, {progress.rounds} frames"
        else:
            how = f"{progress.touched} of {progress.total} asked on {on}, round {progress.rounds}"
        line = f"{'━' * done}{'╌' * (_BAR - done)} {how}, {len(hosts)} found{more}"
        lines = drawn(rows, host_columns(), self._live.console.width) if rows else []
        line = plain(line)
        table = Text.from_ansi("\n".join(lines), no_wrap=True)
        return Group(table, Text(line, style="dim", no_wrap=True, overflow="ellipsis"))
