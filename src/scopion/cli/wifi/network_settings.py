"""Options and questions about a wireless network's router, and what has to be done with its lists next."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, TypeVar

import click

from scopion.cli.parts.session import Session, shell_word
from scopion.cli.parts.terminal import echo, prompt
from scopion.model.errors import UsageError
from scopion.model.mac import MacAddress, Notation
from scopion.model.text import counted, joined

if TYPE_CHECKING:
    from scopion.operations.site.open_site import Site
    from scopion.operations.wifi.edit_networks import NetworkSettings
    from scopion.operations.wifi.explain_effects import NetworkEffect
    from scopion.roster.wifi.lists import Network

Command = TypeVar("Command", bound=Callable[..., Any])
_SAMPLE = MacAddress(bytes.fromhex("00005e0053a1"))  # kept for documentation (RFC 7042, 2.1.2)


def network_settings(command: Command) -> Command:
    """Add the options of how a network's router wants its list."""
    for decorate in (
        click.option("--router", metavar="ADDRESS", help="The router's page: an address or a URL [the gateway]."),
        click.option("--radios", metavar="LIST", help="The bands that carry it, as 2.4,5,6 in GHz [2.4,5]."),
        click.option("--capacity", type=int, metavar="N", help="How many entries the router holds."),
        click.option(
            "--notation",
            type=click.Choice([str(each) for each in Notation]),
            metavar="NOTATION",
            help=f"How the router wants MAC addresses: {', '.join(Notation)} [colon].",
        ),
    ):
        command = decorate(command)
    return command


@dataclass(frozen=True, slots=True)
class RouterOptions:
    """How a network's router wants its list, as the options say; None: not given."""

    notation: str | None
    capacity: int | None
    radios: str | None
    router: str | None

    def settings(self) -> NetworkSettings:
        """Return them as the operations take them."""
        from scopion.operations.wifi.edit_networks import NetworkSettings

        bands = _radios(self.radios) if self.radios else None
        return NetworkSettings(Notation(self.notation) if self.notation else None, self.capacity, bands, self.router)


def ask_settings(site: Site, ssid: str, given: NetworkSettings) -> NetworkSettings:
    """Ask at the terminal for what was not given; a blank line takes the value in brackets."""
    from scopion.operations.pages.held_by import named_enforcers
    from scopion.operations.wifi.edit_networks import DEFAULT_RADIOS, default_router

    if named_enforcers(site, ssid):
        return given  # site.toml says it

    echo(f"{ssid!r} is a new network. Its router's page for MAC addresses shows:", err=True)
    if given.router is None:
        proposed = default_router(site)
        given = replace(given, router=prompt("  the router's address", proposed, value_proc=_router_or_none))
    if given.notation is None:
        samples = ", ".join(f"{each} {_SAMPLE.written(each)}" for each in list(Notation)[:4])
        echo(f"  notations: {samples}", err=True)
        choice = click.Choice([str(each) for each in Notation])
        wanted = prompt("  how it wants them written", "colon", type=choice, show_choices=False)
        given = replace(given, notation=Notation(wanted))
    if given.radios is None:
        usual = ",".join(DEFAULT_RADIOS)
        bands = prompt("  the bands that carry it, in GHz", usual, value_proc=_radios)
        given = replace(given, radios=bands)
    if given.capacity is None:
        number = prompt("  how many entries it holds (0: not known)", 0, type=click.IntRange(0))
        given = replace(given, capacity=number or None)
    return given


def said_of(site: Site, network: Network) -> str:
    """Return a new network in one sentence, and how to change it."""
    from scopion.operations.pages.held_by import named_enforcers

    if enforcers := [each.name for each in named_enforcers(site, network.ssid)]:
        return f"The list of {network.ssid!r} is held by {joined(enforcers)} (site.toml)."
    capacity = network.capacity
    holds = f"holds {counted(capacity, 'entry', 'entries')}" if capacity else "number of entries not known"
    return (
        f"New network {network.ssid!r}: notation {network.notation}, radios {joined(list(network.radios))} GHz, "
        f"router {network.router or 'not known'}, {holds}. "
        f"To change that: scopion wifi mode {shell_word(network.ssid)} --help"
    )


def tell(session: Session, told: Sequence[NetworkEffect]) -> None:
    """Print what a change of lists means on each network that it concerns, and what has to be done next."""
    for each in told:
        for sentence in each.says:
            session.note(sentence)
        if each.only_if_on:
            effect = "only the listed may associate" if each.only_if_on == "allow" else "the listed may not associate"
            step = f"scopion wifi mode {shell_word(each.network.ssid)} {each.only_if_on}"
            session.note(f"In mode {each.only_if_on} {effect}: {step}")
        if each.to_send:
            next_step(session, each.network.ssid)


def next_step(session: Session, ssid: str) -> None:
    """Print what has to be done before a change of lists has an effect."""
    from scopion.operations.pages.held_by import is_reached

    if is_reached(session.site, ssid):
        session.note(f"Nothing has been sent yet. What would change: scopion wifi preview {shell_word(ssid)}")
    else:
        session.note(f"Nothing has been sent to the router. To type it in: scopion wifi sheet {shell_word(ssid)}")


def _radios(text: str | tuple[str, ...]) -> tuple[str, ...]:
    parts = text.split(",") if isinstance(text, str) else text
    from scopion.operations.wifi.edit_networks import ALL_RADIOS

    bands = [part.strip().lower().removesuffix("ghz").strip() for part in parts]
    wrong = next((band for band in bands if band not in ALL_RADIOS), None)
    if wrong is not None:
        raise click.UsageError(f"{wrong!r} is not a band: write some of {', '.join(ALL_RADIOS)} with commas between")
    return tuple(band for band in ALL_RADIOS if band in bands)


def _router_or_none(text: str) -> str:
    from scopion.operations.wifi.edit_networks import checked_router

    try:
        return checked_router(text.strip()) if text.strip() else ""
    except UsageError as error:
        raise click.UsageError(str(error)) from None  # asked again
