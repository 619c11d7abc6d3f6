"""The program's entry: the map of commands, and the one place where errors become text and exit codes.

Commands are imported when they are called, so that the program starts at once; what the map says of them is written
here and checked against them in the tests.
"""

from __future__ import annotations

import gc
import importlib
import io
import os
import sys
from typing import Any, NamedTuple

import click

from scopion import __version__
from scopion.cli.parts.session import Session
from scopion.cli.parts.terminal import echo, style
from scopion.model.errors import ScopionError


class CommandEntry(NamedTuple):
    """Where a command lives and what the map says of it."""

    module: str
    attribute: str
    summary: str


FAMILIES: dict[str, dict[str, CommandEntry]] = {
    "Look": {
        "here": CommandEntry("look.here", "here", "Where am I: interface, subnet, gateway, which site."),
        "scan": CommandEntry("look.scan", "scan", "Who is here: ask, name, remember, tell what is new."),
        "await": CommandEntry(
            "look.await_device", "await_device", "Until a device appears or is gone; prints its address."
        ),
        "spare": CommandEntry("look.spare", "spare", "Free addresses of a subnet, or whether one may be taken."),
        "vendor": CommandEntry("look.vendor", "vendor", "Who made it: MAC addresses or prefixes to makers."),
    },
    "Remember": {
        "devices": CommandEntry("remember.devices", "devices", "The devices of the site, present and absent."),
        "show": CommandEntry("remember.show_device", "show_device", "All that is known of one device."),
        "label": CommandEntry("remember.describe", "label", "Give a device its name, owner and place."),
        "mark": CommandEntry("remember.describe", "mark", "Say what you think of it: known, guest, unwanted, new."),
        "review": CommandEntry("remember.review", "review", "Go through the new devices, one by one."),
        "same": CommandEntry("remember.describe", "same", "Say that two are one: one thing, two adapters."),
        "forget": CommandEntry("remember.describe", "forget", "Remove devices with all that is known of them."),
        "events": CommandEntry("remember.events", "events", "The log: who joined, left, came back, moved."),
        "changes": CommandEntry(
            "remember.changes", "changes", "What differs between two moments, scans, or an export."
        ),
        "undo": CommandEntry("remember.undo", "undo", "Take back what was changed: shows it, asks, does it."),
        "import": CommandEntry("remember.import_file", "import_file", "What others recorded, or scopion export wrote."),
        "export": CommandEntry(
            "remember.export_file", "export_file", "The devices for other programs, or the whole site."
        ),
        "roster": CommandEntry("remember.roster", "roster", "The file that remembers: check, compact, restore."),
    },
    "Be told": {
        "watch": CommandEntry("tell.watch", "watch", "Look after the site: sweep, listen, tell, until stopped."),
        "alerts": CommandEntry("tell.alerts", "alerts", "What was told to whom, and what waits."),
        "service": CommandEntry("tell.service", "service", "A hardened unit for the system's service manager."),
    },
    "Wireless": {
        "wifi": CommandEntry("wifi.group", "wifi", "Allow and deny lists: kept, scheduled, pushed, verified."),
    },
    "Report": {
        "report": CommandEntry("report.report", "report", "Look back: summary, page, tables, figures."),
        "map": CommandEntry(
            "report.address_map", "address_map", "The addresses of a subnet as a grid: who uses which."
        ),
    },
    "Begin": {
        "setup": CommandEntry("begin.setup", "setup", "First steps: proposes a site, writes it, tries it."),
        "demo": CommandEntry("begin.demo", "demo", "A made-up site, told in a minute, or kept to try out."),
    },
}


# In fewer lines than Click would take; what they are called is checked against the options in the tests.
_OPTIONS = [
    ("--site DIR", "The site's folder [SCOPION_SITE; this machine's; yours]."),
    ("-q, --quiet", "Print less; -v, --verbose prints more: why it was chosen."),
    ("--version", "Show the version; -h, --help shows this."),
]


class CommandMap(click.Group):
    """Shows the commands by family, in the order of the work, and imports one only to run it."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The names in the order of the work."""
        return [name for family in FAMILIES.values() for name in family]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Import and return a command."""
        for family in FAMILIES.values():
            if cmd_name in family:
                entry = family[cmd_name]
                command = getattr(importlib.import_module(f"scopion.cli.{entry.module}"), entry.attribute)
                assert isinstance(command, click.Command)
                return with_shared(command)
        return None

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The map first, then the options: one line a command, so that it stays on one screen."""
        with formatter.section("Commands"):
            rows = [
                (family if first else "", f"{name:<9} {entry.summary}")
                for family, commands in FAMILIES.items()
                for first, (name, entry) in zip((True, *(False,) * len(commands)), commands.items(), strict=False)
            ]
            formatter.write_dl(rows, col_max=10, col_spacing=2)
        with formatter.section("Options"):
            formatter.write_dl(_OPTIONS)


def with_shared(command: click.Command) -> click.Command:
    """Let a command, and those below it, take --quiet and --verbose after its name as well as before it."""
    below = command.commands.values() if isinstance(command, click.Group) else ()
    for each in below:
        with_shared(each)
    if not any(parameter.name == "quiet" for parameter in command.params):
        for flags in (("--quiet", "-q"), ("--verbose", "-v")):
            command.params.append(
                click.Option(flags, is_flag=True, hidden=True, expose_value=False, callback=_take_shared)
            )
    return command


def _take_shared(ctx: click.Context, param: click.Parameter, value: bool) -> None:
    session = ctx.find_object(Session)
    if value and session is not None and param.name:
        setattr(session, param.name, True)


@click.group(
    cls=CommandMap,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog="DEVICE: MAC, address, label, host name, this-machine, gateway, a beginning.",
)
@click.option("--site", metavar="DIR", help="The site's folder [SCOPION_SITE; else this machine's or yours].")
@click.option("--quiet", "-q", is_flag=True, help="Print less: no notes, no progress.")
@click.option("--verbose", "-v", is_flag=True, help="Print more: why something was chosen.")
@click.version_option(__version__, message="scopion %(version)s")
@click.pass_context
def cli(ctx: click.Context, site: str | None, quiet: bool, verbose: bool) -> None:
    """Look after a small network: who is on it, what it is, whose, and may it be."""
    ctx.obj = Session(site, quiet=quiet, verbose=verbose)
    ctx.obj.runs()
    ctx.call_on_close(ctx.obj.close)


def main(arguments: list[str] | None = None) -> None:
    """Run the program and end the process with its exit code."""
    _prepare_streams()
    if "_SCOPION_COMPLETE" in os.environ:
        from scopion.cli.completion import register

        register()
    code = run(arguments)
    try:
        sys.stdout.flush()
    except OSError as error:  # a full disk shows only now; a reader that has gone shows here, too
        _discard_output()
        if not isinstance(error, BrokenPipeError):
            _say(f"the output could not be written: {error.strerror}")
            code = code or 1
    gc.freeze()  # all of it ends with the process: no need to look for garbage among it once more
    sys.exit(code)


def _prepare_streams() -> None:
    """Whatever the terminal can show and the caller has closed: printing and reading never fail for that."""
    for name, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, mode, encoding="utf-8"))  # noqa: PTH123, SIM115 - it stays open
        elif isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")


def _discard_output() -> None:
    """Send what is still in the buffer nowhere, or Python complains about it at its end."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def run(arguments: list[str] | None = None) -> int:
    """Run one command; returns the exit code. Every error that has a meaning becomes one line on standard error."""
    try:
        result: Any = cli.main(arguments, prog_name="scopion", standalone_mode=False)
        return result if isinstance(result, int) else 0
    except click.exceptions.NoArgsIsHelpError as error:
        echo(error.format_message())
        return 2
    except click.ClickException as error:
        _say(_one_line(error))
        return error.exit_code
    except (click.Abort, KeyboardInterrupt):
        return _stopped()
    except ScopionError as error:
        _say(str(error))
        return error.exit_code
    except BrokenPipeError:
        _discard_output()  # the reader (head, less) has had enough: not an error
        return 0
    except OSError as error:
        _say(f"the system refused: {error.strerror or error}" + (f" ({error.filename})" if error.filename else ""))
        return 1
    except Exception as error:
        if _is_of_an_interrupt(error):
            return _stopped()
        # A row that nobody of us has written can break a command anywhere: then that is said. All else is our mistake.
        from scopion.cli.parts.session import what_is_damaged

        damage = what_is_damaged()
        if not damage:
            raise
        _say(damage)
        return 1


def _stopped() -> int:
    from scopion.cli.parts.session import what_stands

    _say(f"stopped; {what_stands()}")
    return 1


def _is_of_an_interrupt(error: BaseException | None) -> bool:
    """Whether an interrupt is behind it: one that comes while a class is made is wrapped by Python 3.11."""
    while error is not None and not isinstance(error, KeyboardInterrupt):
        error = error.__cause__ or error.__context__
    return error is not None


def _one_line(error: click.ClickException) -> str:
    """Click's message in one line, with the command to ask for help."""
    text = " ".join(error.format_message().split()).rstrip(".")
    text = text[:1].lower() + text[1:]
    context = getattr(error, "ctx", None)
    return f"{text} (see {context.command_path} --help)" if context else text


def _say(text: str) -> None:
    echo(style("scopion: ", bold=True) + text, err=True)
