"""Options and arguments that several commands share, declared once."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date, datetime
from typing import Any

import click
from click.shell_completion import CompletionItem

from scopion.cli.parts.session import Session
from scopion.model.clock import Clock, parse_span
from scopion.model.device import Standing
from scopion.model.errors import ScopionError


class DeviceParam(click.ParamType[str]):
    """A DEVICE; it is completed from the roster."""

    name = "DEVICE"

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """Return labels and addresses that begin with a text; nothing if the roster cannot be read."""
        from scopion.operations.devices.list_devices import devices

        found = []
        for device in _known(ctx, devices):
            names = [device.name, *map(str, device.addresses), *map(str, device.macs)]
            found += [CompletionItem(name, help=device.called) for name in names if _begins(name, incomplete)]
        return found


class DeviceOrStandingParam(DeviceParam):
    """A DEVICE, or the standing that follows the devices."""

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """Return the standings beside the devices."""
        words = [CompletionItem(each) for each in Standing if each.startswith(incomplete)]
        return words + super().shell_complete(ctx, param, incomplete)


class NetworkParam(click.ParamType[str]):
    """An SSID; it is completed from the roster."""

    name = "SSID"

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """Return known networks that begin with a text."""
        from scopion.operations.wifi.edit_networks import networks

        return [CompletionItem(each.ssid) for each in _known(ctx, networks) if _begins(each.ssid, incomplete)]


class PlaceParam(click.ParamType[str]):
    """A place of the site."""

    name = "NAME"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Return the place as the roster has it. Raises UsageError, which names those that there are."""
        from scopion.operations.site.site_places import place_called

        return place_called(_session(ctx).site, str(value))

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        """Return the places that begin with a text."""
        from scopion.operations.site.site_places import places_of

        return [CompletionItem(each) for each in _known(ctx, places_of) if each and _begins(each, incomplete)]


class DayParam(click.ParamType[date]):
    """A coming day, in the form of ISO 8601 or in words."""

    name = "DATE"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> date:
        """Read ``2026-12-31``, ``friday``, ``2 weeks``."""
        from scopion.model.moments import parse_day

        if isinstance(value, date):
            return value
        try:
            return parse_day(str(value), _clock(ctx))
        except ValueError as error:
            self.fail(str(error), param, ctx)


class MomentParam(click.ParamType[datetime]):
    """A moment in words, in the time zone of the site's clock.

    ``end``: a day alone means its end; ``ahead``: it lies in the future.
    """

    name = "WHEN"

    def __init__(self, *, end: bool = False, ahead: bool = False) -> None:
        self._end, self._ahead = end, ahead

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> datetime:
        """Read ``yesterday 14:00``, ``monday``, ``3 days``."""
        from scopion.model.moments import parse_moment

        if isinstance(value, datetime):
            return value
        try:
            return parse_moment(str(value), _clock(ctx), end=self._end, ahead=self._ahead)
        except ValueError as error:
            self.fail(str(error), param, ctx)


class MomentOrScanParam(MomentParam):
    """A moment, or the end of a scan by its number: ``scan:17``."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> datetime:
        """Read either."""
        text = str(value).strip().casefold()
        if not text.startswith("scan:"):
            return super().convert(value, param, ctx)
        from scopion.operations.devices.compare_moments import scan_moment

        number = text.removeprefix("scan:").strip()
        if not number.isdecimal() or len(number) > 15:
            self.fail(f"{value!r} is not a scan: write scan:17, see scopion changes --scans", param, ctx)
        return scan_moment(_session(ctx).site, int(number))


class SpanParam(click.ParamType[float]):
    """A length of time: ``90s``, ``5m``, ``2h``, ``30 days``; a bare number is seconds."""

    name = "TIME"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """Read it as seconds."""
        if isinstance(value, int | float):
            return float(value)
        try:
            return parse_span(str(value)).total_seconds()
        except ValueError as error:
            self.fail(str(error), param, ctx)


class KeysParam(click.ParamType[tuple[str, ...]]):
    """Some of the keys that a command's machine formats have, in the order that is wanted."""

    name = "KEY,KEY"

    def __init__(self, keys: Sequence[str]) -> None:
        self._keys = keys

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, ...]:
        """Read the list."""
        if isinstance(value, tuple):
            return value
        chosen = tuple(part.strip().casefold().replace("-", "_") for part in str(value).split(",") if part.strip())
        unknown = [key for key in chosen if key not in self._keys]
        if unknown or not chosen:
            self.fail(
                f"there is no column {', '.join(unknown) or value!r}: columns are {', '.join(self._keys)}", param, ctx
            )
        return tuple(dict.fromkeys(chosen))


class PortsParam(click.ParamType[tuple[int, ...]]):
    """A few TCP ports: ``22,80,443``."""

    name = "N,N"
    # A dozen ports tell what a thing is; more would be a search for something else.
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


def _clock(ctx: click.Context | None) -> Clock:
    return _session(ctx).site.clock


def _session(ctx: click.Context | None) -> Session:
    session = ctx.find_object(Session) if ctx else None
    assert session is not None  # the root command makes it before any option below is read
    return session


def _known(ctx: click.Context, ask: Any) -> Sequence[Any]:
    """Return what the roster knows, for completion: no candidates are better there than an error in the middle of a
    line.
    """
    root = ctx.find_root()
    session = root.obj if isinstance(root.obj, Session) else Session(root.params.get("site"))
    try:
        found: Sequence[Any] = ask(session.site)
    except ScopionError:
        return []
    return found


def _begins(name: str, typed: str) -> bool:
    """Tell whether a name can be offered: one that begins with a hyphen would be taken for an option."""
    return bool(name) and not name.startswith("-") and name.casefold().startswith(typed.casefold())


def one_of(words: Iterable[str]) -> click.Choice[str]:
    """Return the type of an option that takes one of some words, or of an enumeration's."""
    return click.Choice([str(each) for each in words])


standings = click.option("--standing", type=one_of(Standing), multiple=True, help="Only these. May be repeated.")
device = click.argument("device", type=DeviceParam())
since = click.option(
    "--since", metavar="WHEN", type=MomentParam(), help="From this moment on: yesterday, monday 09:00, '3 days'."
)
until = click.option(
    "--until", metavar="WHEN", type=MomentParam(end=True), help="Up to this moment; a day includes its end."
)
some_devices = click.argument("devices", metavar="DEVICE...", type=DeviceParam(), nargs=-1, required=True)
any_devices = click.argument("devices", metavar="[DEVICE]...", type=DeviceParam(), nargs=-1)
ssid = click.argument("ssid", metavar="SSID", type=NetworkParam())
place = click.option("--place", metavar="NAME", type=PlaceParam(), help="Only in this place of the site.")
