"""Options and arguments that several commands share, declared once."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any

import click
from click.shell_completion import CompletionItem

from scopion.cli.session import Session
from scopion.model.errors import ScopionError


class DeviceName(click.ParamType[str]):
    """A DEVICE; completes from the roster."""

    name = "DEVICE"

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """Labels and addresses that begin so; nothing if the roster cannot be read."""
        from scopion.operations.describe import devices

        found = []
        for device in _known(ctx, devices):
            names = [device.name, *map(str, device.addresses), *map(str, device.macs)]
            found += [
                CompletionItem(name, help=device.called)
                for name in names
                if name and name.casefold().startswith(incomplete.casefold())
            ]
        return found


class NetworkName(click.ParamType[str]):
    """An SSID; completes from the roster."""

    name = "SSID"

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """Known networks that begin so."""
        from scopion.operations.wifi_networks import networks

        return [
            CompletionItem(network.ssid)
            for network, _, _ in _known(ctx, networks)
            if network.ssid.startswith(incomplete)
        ]


class Day(click.ParamType[date]):
    """A date as ISO 8601 writes it."""

    name = "DATE"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> date:
        """Read ``2026-12-31``."""
        try:
            return value if isinstance(value, date) else date.fromisoformat(str(value))
        except ValueError:
            self.fail(f"{value!r} is not a date: write it as 2026-12-31", param, ctx)


class Span(click.ParamType[float]):
    """A length of time: ``90s``, ``5m``, ``2h``, ``30d``; a bare number is seconds."""

    name = "TIME"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """Read it as seconds."""
        from scopion.model.clock import parse_span

        if isinstance(value, int | float):
            return float(value)
        try:
            return parse_span(str(value)).total_seconds()
        except ValueError as error:
            self.fail(str(error), param, ctx)


class Ports(click.ParamType[tuple[int, ...]]):
    """A few TCP ports: ``22,80,443``."""

    name = "N,N"
    # A dozen tells what a thing is; more would be a search for something else.
    most = 16

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> tuple[int, ...]:
        """Read the list."""
        if isinstance(value, tuple):
            return value
        parts = [part.strip() for part in str(value).split(",")]
        if not all(part.isdecimal() and 1 <= int(part) <= 65_535 for part in parts):
            self.fail(f"{value!r} are not ports: write them as 22,80,443", param, ctx)
        if len(parts) > self.most:
            self.fail(f"at most {self.most} ports are tried, these are {len(parts)}", param, ctx)
        return tuple(dict.fromkeys(int(part) for part in parts))


def _known(ctx: click.Context, ask: Any) -> Sequence[Any]:
    """What the roster knows, for completion: silence is better there than an error in the middle of a line."""
    root = ctx.find_root()
    session = root.obj if isinstance(root.obj, Session) else Session(root.params.get("site"))
    try:
        found: Sequence[Any] = ask(session.site)
    except ScopionError:
        return []
    return found


device = click.argument("device", type=DeviceName())
some_devices = click.argument("devices", metavar="DEVICE...", type=DeviceName(), nargs=-1, required=True)
ssid = click.argument("ssid", metavar="SSID", type=NetworkName())
insist = click.option("--insist", is_flag=True, help="Do it although Scopion advises against it.")
