"""The program's entry: the map of commands, and the one place where errors become text and exit codes.

A command is imported when it is called, so that the program starts at once. The summaries that the map shows are
written here and compared with the commands in the tests.
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
from scopion.cli.parts.families import Family
from scopion.cli.parts.interrupts import Interrupts
from scopion.cli.parts.session import Session
from scopion.cli.parts.terminal import echo, style
from scopion.model.errors import ScopionError


class CommandEntry(NamedTuple):
    """A command's module and attribute, and its line in the map."""

    module: str
    attribute: str
    summary: str


FAMILIES: dict[str, dict[str, CommandEntry]] = {
    "Look": {
        "here": CommandEntry("look.here", "here", "Where this machine is: interface, subnet, gateway, site."),
        "scan": CommandEntry("look.scan", "scan", "Scan for devices: name, remember, show what is new."),
        "await": CommandEntry(
            "look.await_device", "await_device", "Wait until a device is here or gone; print its address."
        ),
        "compare": CommandEntry("look.compare", "compare", "A router's list, the last scan and the roster together."),
        "spare": CommandEntry("look.spare", "spare", "Free addresses of a subnet, or whether one is free."),
        "vendor": CommandEntry("look.vendor", "vendor", "Vendors of MAC addresses or prefixes."),
    },
    "Remember": {
        "devices": CommandEntry("remember.devices", "devices", "The devices of the site, present and absent."),
        "show": CommandEntry("remember.show_device", "show_device", "Everything that is known about one device."),
        "label": CommandEntry("remember.describe", "label", "Give a device its name, owner, place and kind."),
        "mark": CommandEntry("remember.describe", "mark", "Set a device's standing: known, guest, unwanted, new."),
        "review": CommandEntry("remember.review", "review", "Review the new devices, one by one."),
        "same": CommandEntry("remember.describe", "same", "Join devices that are one thing with two adapters."),
        "forget": CommandEntry(
            "remember.describe", "forget", "Remove devices with everything that is known about them."
        ),
        "events": CommandEntry("remember.events", "events", "The log: devices that joined, left, returned, moved."),
        "changes": CommandEntry("remember.changes", "changes", "Differences between two moments, scans, or an export."),
        "undo": CommandEntry("remember.undo", "undo", "Take back a change: shows it, asks, does it."),
        "import": CommandEntry(
            "remember.import_file", "import_file", "Records of other systems, or a file of scopion export."
        ),
        "export": CommandEntry(
            "remember.export_file", "export_file", "Write devices for other programs, or the whole site."
        ),
        "roster": CommandEntry("remember.roster", "roster", "The file that remembers: check, compact, restore."),
    },
    "Be told": {
        "watch": CommandEntry("tell.watch", "watch", "Watch the site: sweep, listen, alert, until stopped."),
        "alerts": CommandEntry("tell.alerts", "alerts", "Alerts: which were sent where, and which wait."),
        "sensor": CommandEntry("tell.sensor", "sensor", "Look after another place, and report it over MQTT."),
        "sensors": CommandEntry("tell.sensor", "sensors", "Sensors of other places: when each was heard."),
        "service": CommandEntry("tell.service", "service", "A hardened unit for the system's service manager."),
    },
    "Wireless": {
        "wifi": CommandEntry("wifi.group", "wifi", "Allow and deny lists: kept, scheduled, pushed, verified."),
    },
    "One step": {
        "status": CommandEntry("report.status", "status", "Is all looked after? What needs you, on one screen."),
        "where": CommandEntry("report.where", "where", "Where a device is: socket and port, or access point."),
        "usage": CommandEntry("report.usage", "usage", "Who uses the line: now, today, this week."),
        "block": CommandEntry("wifi.block", "block", "Keep a device off the Wi-Fi: list, push and check."),
        "unblock": CommandEntry("wifi.block", "unblock", "Let a device back on the Wi-Fi: list, push and check."),
        "rescue": CommandEntry("wifi.rescue", "rescue", "Locked out of the Wi-Fi? What is the case, and what to do."),
    },
    "Report": {
        "report": CommandEntry("report.report", "report", "Look back on a period: summary, page, tables, figures."),
        "map": CommandEntry(
            "report.address_map", "address_map", "The addresses of a subnet as a grid: which are used."
        ),
    },
    "Begin": {
        "setup": CommandEntry("begin.setup", "setup", "First steps: proposes settings, writes and tries them."),
        "demo": CommandEntry("begin.demo", "demo", "A made-up site: told in a minute, or to try out."),
    },
}


# Shorter than Click would write them; the names are compared with the options in the tests.
_OPTIONS = [
    ("--site DIR", "The site's folder [SCOPION_SITE; this machine's; yours]."),
    ("-q, --quiet", "Print less; -v, --verbose prints more: why it was chosen."),
    ("--version", "Show the version; -h, --help shows this."),
]


class CommandMap(Family):
    """Shows the commands by family, in the order of the work, and imports only the one that runs."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the names in the order of the work."""
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
        """Write the map first, then the options: one line for each command, so that it fits on one screen."""
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
    """Let a command, and those below it, take --quiet and --verbose after its name as well as before it. Returns it."""
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
    """Find, name and remember the devices of a small network; control its Wi-Fi."""
    ctx.obj = Session(site, quiet=quiet, verbose=verbose)
    ctx.obj.runs()
    ctx.call_on_close(ctx.obj.close)


def main(arguments: list[str] | None = None) -> None:
    """Run the program and end the process with its exit code."""
    _prepare_streams()
    if "_SCOPION_COMPLETE" in os.environ:
        from scopion.cli.completion import register

        register()
    interrupts = Interrupts()
    code = run(arguments)
    interrupts.end()
    try:
        sys.stdout.flush()
    except OSError as error:  # a full disk shows only now, and so does a reader that has gone
        _discard_output()
        if not isinstance(error, BrokenPipeError):
            _say(f"the output could not be written: {error.strerror}")
            code = code or 1
    gc.freeze()  # all of it ends with the process, so there is no need to search for garbage again
    sys.exit(code)


def _prepare_streams() -> None:
    """Make sure that printing and reading never fail because of the terminal's encoding or a closed stream."""
    for name, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, mode, encoding="utf-8"))  # noqa: PTH123, SIM115 - it stays open
        elif isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")


def _discard_output() -> None:
    """Discard what is still in the buffer, or Python complains about it at its end."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def run(arguments: list[str] | None = None) -> int:
    """Run one command and return the exit code. Every expected error becomes one line on standard error."""
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
        # Damaged rows, which this program did not write, can break a command anywhere: then the message says so. Every
        # other error is a mistake in the program.
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
    """Tell whether an interrupt is the cause of an error: Python 3.11 wraps one that comes while a class is made."""
    while error is not None and not isinstance(error, KeyboardInterrupt):
        error = error.__cause__ or error.__context__
    return error is not None


def _one_line(error: click.ClickException) -> str:
    """Return Click's message in one line, with the command that shows the help."""
    text = " ".join(error.format_message().split()).rstrip(".")
    text = text[:1].lower() + text[1:]
    context = getattr(error, "ctx", None)
    return f"{text} (see {context.command_path} --help)" if context else text


def _say(text: str) -> None:
    echo(style("scopion: ", bold=True) + text, err=True)
