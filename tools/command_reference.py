"""The reference of commands, as Markdown and as manual pages, from the program's own help."""

from __future__ import annotations

import re
from collections.abc import Iterator

import click

from scopion import __version__
from scopion.cli.main import FAMILIES, cli

_NOTE = "<!-- Made by python -m tools.make_docs from the program's help; do not edit. -->\n"


def commands() -> Iterator[tuple[str, click.Command]]:
    """Every command by what one types, in the order of the map; those below a group follow it."""
    context = click.Context(cli)
    for name in cli.list_commands(context):
        command = cli.get_command(context, name)
        assert command is not None
        yield name, command
        yield from _below(name, command)


def _below(name: str, command: click.Command) -> Iterator[tuple[str, click.Command]]:
    """Every command below a group, with those of its own groups."""
    for below, each in command.commands.items() if isinstance(command, click.Group) else ():
        yield f"{name} {below}", each
        yield from _below(f"{name} {below}", each)


def markdown() -> str:
    """docs/reference.md."""
    parts = [
        f"{_NOTE}# Reference\n\nEvery command with its options, as `--help` shows them. How they work together, and "
        "what they do in detail, is in [commands](commands.md).\n"
    ]
    families = {name: family for family, names in FAMILIES.items() for name in names}
    told = ""
    for name, command in commands():
        family = families[name.split()[0]]
        if family != told:
            parts.append(f"## {family}\n")
            told = family
        parts.append(f"### scopion {name}\n\n```\n{usage(name, command)}\n```\n\n{_escaped(text(command))}\n")
        rows = list(options(command))
        if rows:
            lines = "\n".join(f"- `{flags}`: {_escaped(says)}" for flags, says in rows)
            parts.append(f"{lines}\n")
    return "\n".join(parts)


def usage(name: str, command: click.Command) -> str:
    """Return how a command is typed."""
    context = click.Context(command, info_name=f"scopion {name}")
    return " ".join([f"scopion {name}", *command.collect_usage_pieces(context)])


def text(command: click.Command) -> str:
    """Return what its help says, paragraph by paragraph."""
    return re.sub(r"[ \t]+", " ", (command.help or "").replace("\b\n", "").strip())


def options(command: click.Command) -> Iterator[tuple[str, str]]:
    """Its options: the flags with what they take, and the help."""
    context = click.Context(command)
    for parameter in command.params:
        if isinstance(parameter, click.Option) and not parameter.hidden:
            record = parameter.get_help_record(context)
            if record is not None:
                yield " ".join(record[0].split()), " ".join(record[1].split())


def _escaped(said: str) -> str:
    """Return a text for Markdown, which would take angle brackets for a tag."""
    return said.replace("<", "&lt;").replace(">", "&gt;").replace("*", r"\*")


def man_pages() -> dict[str, str]:
    """By file name, a manual page (man(7)) for the program, and one for each command with those below it."""
    pages = {"scopion.1": _overview()}
    for name, command in commands():
        if " " not in name:
            pages[f"scopion-{name}.1"] = _page(name, command)
    return pages


def _overview() -> str:
    lines = [_head("scopion", "look after a small network")]
    lines += [".SH SYNOPSIS", ".B scopion", r"[\-\-site DIR] [\-\-quiet] [\-\-verbose] COMMAND [ARGUMENT]..."]
    lines += [".SH DESCRIPTION", _roff((cli.help or "").strip())]
    for family, names in FAMILIES.items():
        lines.append(f".SS {_roff(family)}")
        for name, entry in names.items():
            lines += [".TP", rf".BR scopion\-{_roff(name)} (1)", _roff(entry.summary)]
    lines += [
        ".SH FILES",
        _roff("A site is a folder with site.toml (settings that people edit) and roster.sqlite (what is remembered)."),
        ".SH EXIT STATUS",
        _roff("0: done. 1: failed, or only partly done. 2: wrong usage. 3: the answer is no."),
        ".SH ENVIRONMENT",
        _roff("SCOPION_SITE: the site's folder. SCOPION_FORMAT: the output's format. NO_COLOR: no colours."),
    ]
    return "\n".join(lines) + "\n"


def _page(name: str, command: click.Command) -> str:
    lines = [_head(f"scopion-{name}", text(command).split("\n")[0].rstrip("."))]
    own = [(name, command)]
    if isinstance(command, click.Group):
        own += [(f"{name} {below}", each) for below, each in command.commands.items()]
    lines.append(".SH SYNOPSIS")
    for number, (called, each) in enumerate(own):
        lines += [*([".br"] if number else []), rf".B {_roff(usage(called, each))}"]
    for called, each in own:
        lines.append(f".SH {_roff('DESCRIPTION' if called == name else called.upper())}")
        paragraphs = [_roff(" ".join(paragraph.split())) for paragraph in text(each).split("\n\n")]
        lines.append("\n.PP\n".join(paragraphs))
        for flags, says in options(each):
            lines += [".TP", rf".B {_roff(flags)}", _roff(says)]
    lines += [".SH SEE ALSO", ".BR scopion (1)"]
    return "\n".join(lines) + "\n"


def _head(name: str, about: str) -> str:
    title = name.upper().replace("-", r"\-")
    return f'.TH {title} 1 "" "scopion {__version__}" "Scopion"\n.SH NAME\n{_roff(name)} \\- {_roff(about)}'


def _roff(said: str) -> str:
    """Return a text that the formatter takes as it is."""
    safe = said.replace("\\", r"\e").replace("-", r"\-")
    return "\n".join(f"\\&{line}" if line.startswith((".", "'")) else line for line in safe.split("\n"))
