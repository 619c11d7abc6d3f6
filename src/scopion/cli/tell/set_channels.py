"""``scopion alerts add``, ``remove`` and ``rehearse``: set up what tells you, and see that it does."""

from __future__ import annotations

import click

from scopion.cli.parts import options
from scopion.cli.parts.flags import gathered
from scopion.cli.parts.session import Session, pass_session, shell_word
from scopion.cli.parts.terminal import confirm, prompt, style
from scopion.cli.tell.ask_channel import KINDS, ChannelOptions, ask_channel, tell_learning, try_channel
from scopion.model.errors import CheckNotMet
from scopion.model.text import counted, joined


@click.command()
@click.argument("kind", metavar="[KIND]", type=options.one_of(KINDS), required=False)
@click.option("--name", metavar="NAME", default="", help="Its name [that of the kind].")
@click.option("--to", metavar="ADDRESS", multiple=True, help="mail: the address that gets it. May be repeated.")
@click.option("--from", "sender", metavar="ADDRESS", default="", help="mail: the sender [the first --to].")
@click.option("--server", metavar="HOST[:PORT]", default="", help="mail, log, mqtt: the server.")
@click.option(
    "--security", metavar="WORD", default="", help="mail: starttls, tls, plain; log: udp, tcp, tls; mqtt: tls, plain."
)
@click.option("--user", metavar="NAME", default="", help="mail, mqtt: the user; - for none.")
@click.option("--password", metavar="REF", default="", help="mail, mqtt: env:NAME, file:PATH or credential:NAME.")
@click.option("--url", metavar="URL", default="", help="chat, push: the address; it is kept as a secret.")
@click.option("--program", metavar="TEXT", default="", help="program: with its arguments.")
@click.option("--path", metavar="FILE", default="", help="file: which [alerts.jsonl].")
@click.option("--set", "more", metavar="KEY=VALUE", multiple=True, help="Any other setting of site.toml.")
@click.option("--no-test", is_flag=True, help="Do not send a test.")
@pass_session
@gathered("given", ChannelOptions)
def add(session: Session, kind: str | None, given: ChannelOptions, no_test: bool) -> None:
    """Add a channel by which you get alerts: asks, writes, tries it.

    KIND is mail, chat, push, log, mqtt, desktop, sound, bell, program or file. It is written into site.toml, whose
    comments stay; a password or a secret address goes into a file that no other account can read.
    """
    from scopion.operations.notify.set_channels import add_channel

    channel = ask_channel(
        session, kind or _ask_kind(session), given, [each.name for each in session.site.settings.channel]
    )
    heard = add_channel(session.site, channel)
    session.note(f"Channel {channel.name!r} is in {session.folder / 'site.toml'}.")
    for name, _ in channel.secrets.values():
        session.note(f"Its secret is in {session.folder / name}, which no other account can read.")
    works = no_test or try_channel(session, channel.name)
    if not works and session.can_ask and not confirm("Keep it all the same?", default=True):
        _take_out(session, channel.name)
        return
    if not heard:
        word = shell_word(channel.name)
        session.note(f"No rule sends it anything: scopion alerts rules add --channel {word} --event joined")
    tell_learning(session)
    tell_watch(session)
    if not works:
        raise CheckNotMet(f"channel {channel.name!r} is set, and does not work yet")


def _ask_kind(session: Session) -> str:
    if not session.can_ask:
        raise click.UsageError(f"say what kind of channel: {', '.join(KINDS)}")
    session.note("How do you want to get alerts?")
    for kind, (words, _) in KINDS.items():
        session.note(f"  {kind:<8} {words}")
    return str(prompt("Which", type=click.Choice(list(KINDS)), show_choices=False))


@click.command()
@click.argument("channel")
@click.option("--yes", is_flag=True, help="Do not ask.")
@pass_session
def remove(session: Session, channel: str, yes: bool) -> None:
    """Take CHANNEL out of site.toml, and out of the rules that name it."""
    from scopion.operations.notify.manage_alerts import channel_called

    channel_called(session.site, channel)
    if not yes:
        session.require_yes(f"Take channel {channel!r} out of site.toml?")
    _take_out(session, channel)
    tell_watch(session)


def _take_out(session: Session, name: str) -> None:
    from scopion.operations.notify.set_channels import remove_channel

    removed = remove_channel(session.site, name)
    session.note(f"Channel {name!r} is not in site.toml any more.")
    if removed.rules:
        session.note(f"{counted(removed.rules, 'rule')} for it alone went with it.")
    for each in removed.secrets:
        session.note(f"Its secret is still in {session.folder / each}; nothing names that file any more.")


@click.command()
@pass_session
def rehearse(session: Session) -> None:
    """Play a made-up newcomer through rules, wording and delivery.

    Each channel that would get an alert of a device joining now gets the message, marked as a rehearsal. What would
    wait, as while a subnet is being learnt, is sent at once.
    """
    from scopion.operations.notify.rehearse import rehearse as play
    from scopion.operations.notify.try_rules import Outlook

    def begin(each: Outlook) -> object:
        later = f"; it would be told at {_when(session, each)}, and is sent now" if each.due is not None else ""
        session.note(f"{style(each.channel, bold=True)}: {each.why}{later}.")
        return lambda step: session.note(f"  {step}")

    failed, sent = [], 0
    for each in play(session.site, begin):  # type: ignore[arg-type]
        if not each.outlook.told:
            session.note(f"{style(each.outlook.channel, bold=True)}: nothing, because {each.outlook.why}.")
        elif each.problem:
            session.note(f"  {each.problem}")
            failed.append(each.outlook.channel)
        else:
            sent += 1
    tell_watch(session, needed=True)
    if failed:
        raise CheckNotMet(f"the rehearsal could not be delivered by {joined(failed)}")
    session.note(
        f"{counted(sent, 'message')} delivered: look whether each has arrived." if sent else "No channel is told."
    )


def _when(session: Session, each: object) -> str:
    due = getattr(each, "due", None)
    return f"{session.site.clock.local(due):%A %H:%M}" if due is not None else ""


def tell_watch(session: Session, *, needed: bool = False) -> None:
    """Say how a watch that runs reads the settings; with ``needed``, only that none runs."""
    from scopion.operations.folder.take_turns import watching_process
    from scopion.roster.watch_record import last_watch

    process = watching_process(session.folder)
    if process is None:
        session.note("Alerts are sent while a watch runs, and none does: scopion watch, or scopion service install.")
        return
    if needed:
        return
    record = last_watch(session.site.roster_for_reading())
    if record is not None and record.service:
        session.note("The service reads it with: systemctl reload scopion")
    elif record is not None and not record.terminal:
        session.note(f"The watch that runs reads it with: kill -HUP {process}")
    else:
        session.note(f"The watch that runs (process {process}) reads it when it is started again.")
