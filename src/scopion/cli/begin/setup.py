"""``scopion setup``."""

from __future__ import annotations

from collections.abc import Sequence

import click

from scopion.cli.parts.options import SpanParam
from scopion.cli.parts.session import Session, pass_session, shell_word
from scopion.cli.parts.terminal import confirm, echo, prompt
from scopion.cli.tell.ask_channel import KINDS, ChannelOptions, ask_channel, tell_learning, try_channel
from scopion.model.errors import InvalidSettings, Refused, UsageError
from scopion.model.mac import MacAddress, Notation
from scopion.model.text import entered, joined
from scopion.operations.begin.set_up_site import (
    Agreed,
    AgreedNetwork,
    AgreedSubnet,
    EarlierSettings,
    Proposal,
    earlier_settings,
    has_settings,
    note_networks,
    propose,
    set_up,
    settings_text,
)
from scopion.operations.notify.set_channels import NewChannel

_EXAMPLE = MacAddress.parse("0c:4e:a0:12:34:56")
_MOST_NAME = 80


@click.command()
@click.option("--yes", is_flag=True, help="Take what is proposed, without asking.")
@click.option("--name", metavar="TEXT", help="The name of the site.")
@click.option("--show", "shows", is_flag=True, help="Only print the site.toml that would be written.")
@click.option("--again", is_flag=True, help="Replace existing settings; the old file is kept beside the new one.")
@click.option("--no-scan", is_flag=True, help="Do not run the baseline scan.")
@pass_session
def setup(session: Session, yes: bool, name: str | None, shows: bool, again: bool, no_scan: bool) -> None:
    """First steps: proposes settings, writes and tries them.

    Reads this machine's interfaces, and asks for the site's name, the subnets, how you want to get alerts, and your
    wireless networks. It writes a commented site.toml, tests the channel and runs the first scan. Enter accepts a
    proposal.
    """
    if not (session.can_ask or yes or shows):
        raise UsageError("this asks some questions: run it in a terminal, or take the proposals with --yes")
    if not (again or shows) and has_settings(session.folder):
        raise Refused(f"{session.folder / 'site.toml'} has settings already: edit it, or write a new one with --again")
    proposal = propose(session.site)
    earlier: Sequence[EarlierSettings] = ()
    if again:
        try:
            earlier = earlier_settings(session.folder)
        except InvalidSettings as error:  # a new file may be written in place of one that cannot be read
            session.note(f"Nothing is taken over from the earlier settings: {error}")
    asking = _Questions(session, proposal, earlier, silent=yes or shows)
    agreed = asking.agreed(name)
    if shows:
        echo(settings_text(agreed), nl=False)
        return
    moved = set_up(session.folder, agreed)
    session.note(f"\nThe settings are in {session.folder / 'site.toml'}, with comments on all that there is.")
    if moved is not None:
        session.note(f"The earlier ones are kept as {moved}.")
    if agreed.kept:
        session.note(f"Taken over from them: {joined([each.what for each in agreed.kept])}.")
    session.site.forget_settings()
    if agreed.channel is not None:
        try_channel(session, agreed.channel.name)
    _make_networks(session, agreed, proposal)
    if no_scan:
        session.note("The baseline is still to be taken: scopion scan")
    else:
        _scan(session)
    _what_next(session, agreed)


class _Questions:
    """Asks for what cannot be seen; if it may not ask, it takes the proposals."""

    def __init__(
        self, session: Session, proposal: Proposal, earlier: Sequence[EarlierSettings], *, silent: bool
    ) -> None:
        self._session, self._proposal, self._silent = session, proposal, silent
        self._earlier = earlier

    def agreed(self, name: str | None) -> Agreed:
        """Return everything that is to be written."""
        likely = self._proposal.subnets[0]
        self._say(
            f"This machine is on {likely.range}, by {likely.interface} ({likely.medium}), "
            f"because {self._proposal.because}."
        )
        self._kept = tuple(
            each for each in self._earlier if not each.is_asked_about or self._yes(f"Keep the {each.what}?", True)
        )
        called = name if name is not None else self._text("What is this place called?", "Home")
        return Agreed(
            entered(called, "the site's name", _MOST_NAME),
            tuple(self._subnets()),
            self._channel(),
            tuple(self._networks()),
            self._leases(),
            self._kept,
        )

    def _subnets(self) -> list[AgreedSubnet]:
        found = []
        several = len(self._proposal.subnets) > 1
        for each in self._proposal.subnets:
            where = f"{each.range} ({each.interface}, {each.medium})"
            if several and not self._yes(f"Look after {where}?", each.likely):
                continue
            name = self._text(f"A name for {each.range}?", "main" if each.likely else each.interface)
            interval = self._span(f"How often should scopion watch scan {each.range}?", each.interval_s)
            found.append(AgreedSubnet(each.range, entered(name, "a subnet's name", _MOST_NAME), interval))
        if not found:
            raise UsageError("a site needs a subnet to look after: scopion here shows those that you are on")
        return found

    def _leases(self) -> tuple[str, ...]:
        return tuple(
            path for path in self._proposal.leases
            if self._yes(f"A DHCP server of this machine writes {path}. Read names from it?", True)
        )  # fmt: skip

    def _channel(self) -> NewChannel | None:
        if self._silent:
            return None
        known = [each.name for each in self._kept if each.what.startswith("channel ")]
        self._say(
            f"\nYou get alerts by {joined(known)} when a device joins. How else do you want to get them?"
            if known
            else "\nHow do you want to get alerts when a device joins?"
        )
        self._say("  none     no alerts are sent; scopion events lists everything")
        for kind, (words, _) in KINDS.items():
            self._say(f"  {kind:<8} {words}")
        kind = self._one_of("Which", ["none", *KINDS], "none")
        return None if kind == "none" else ask_channel(self._session, kind, ChannelOptions(), known)

    def _networks(self) -> list[AgreedNetwork]:
        from scopion.operations.wifi.edit_networks import MOST_ENTRIES, new_network

        found: list[AgreedNetwork] = []
        if self._silent:
            return found
        self._say("\nWireless networks, for allow and deny lists; Enter continues without one.")
        while ssid := prompt("Name of the Wi-Fi", default="", show_default=False):
            new_network(self._session.site, ssid)  # what cannot be an SSID is refused before anything is written
            self._say("How does the router's page write MAC addresses?")
            for each in Notation:
                self._say(f"  {each:<12} {_EXAMPLE.written(each)}")
            notation = self._one_of("Which", [str(each) for each in Notation], str(Notation.COLON))
            question = "How many entries does its list hold? (0: not known)"
            most = prompt(question, type=click.IntRange(0, MOST_ENTRIES), default=0)
            found.append(AgreedNetwork(ssid, Notation(notation), most or None))
        return found

    @staticmethod
    def _one_of(question: str, words: Sequence[str], proposed: str) -> str:
        choice = click.Choice(words)
        return str(prompt(question, type=choice, default=proposed, show_choices=False))

    def _say(self, text: str) -> None:
        if not self._silent:
            self._session.note(text)

    def _text(self, question: str, proposed: str | None) -> str:
        if self._silent:
            assert proposed is not None
            return proposed
        return str(prompt(question, default=proposed)).strip()

    def _yes(self, question: str, proposed: bool) -> bool:
        return proposed if self._silent else confirm(question, default=proposed)

    def _span(self, question: str, proposed: float) -> float:
        if self._silent:
            return proposed

        return float(prompt(question, type=SpanParam(), default=f"{proposed:g}s"))


def _make_networks(session: Session, agreed: Agreed, proposal: Proposal) -> None:
    made, known = note_networks(session.site, agreed.networks, proposal.router)
    for ssid in known:
        session.note(f"The network {ssid!r} is known already and stays as it is: scopion wifi ssids shows it.")
    for network in made:
        session.note(
            f"The network {network.ssid!r} is noted, with no list in force: scopion wifi deny "
            f"{shell_word(network.ssid)} DEVICE puts a device on one."
        )


def _scan(session: Session) -> None:
    """Run the baseline scan, as scopion scan shows it."""
    from scopion.cli.look.scan import scan_and_show
    from scopion.operations.scan.prepare_scan import ScanRequest

    session.note("\nThe first scan. What it finds is the baseline, and no alert is sent about it:\n")
    scan_and_show(session, ScanRequest())


def _what_next(session: Session, agreed: Agreed) -> None:
    session.note("\nWhat next:")
    for command, purpose in (
        ("scopion review --together", "all devices in one list: which do you not know?"),
        ("scopion scan", "from now on: what is new comes first"),
        ("scopion watch", "looks after it all the time, in this terminal"),
        ("scopion service install", "...or as a service of the system"),
        ("scopion status", "whether all is looked after, on one screen"),
    ):
        session.note(f"  {command:<26} {purpose}")
    if not session.site.settings.channel:
        session.note("No alerts are sent yet: scopion alerts add sets up a channel.")
    tell_learning(session)
