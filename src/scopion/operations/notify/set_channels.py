"""Adds channels to ``site.toml`` and takes them out, with its comments kept and secrets in files of their own."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from scopion.alerts.channels.registry import type_of
from scopion.alerts.rules import hears_of_newcomers
from scopion.model.errors import InvalidSettings, NotFound, Refused
from scopion.operations.site.edit_settings import assigned, with_settings, with_value, without_block, without_value
from scopion.operations.site.load_settings import FILE, TEMPLATE, read_settings
from scopion.operations.site.open_site import Site
from scopion.roster.store.write_files import make_folder, write_atomically


@dataclass(frozen=True, slots=True)
class NewChannel:
    """A channel: settings of its type, and secrets that go to files of their own."""

    type: str
    name: str
    values: Mapping[str, str | float | list[str] | None]
    secrets: Mapping[str, tuple[str, str]] = field(default_factory=dict)  # by setting: the file's name and the secret

    @property
    def block(self) -> str:
        """Return its table as ``site.toml`` has it."""
        references = {key: f"file:{name}" for key, (name, _) in self.secrets.items()}
        return f"[[channel]]\n{assigned(name=self.name, type=self.type, **{**self.values, **references})}"


@dataclass(frozen=True, slots=True)
class RemovedChannel:
    """What went with a channel, and what is left of it."""

    rules: int  # so many rules were for it alone
    secrets: tuple[str, ...]  # files in the site's folder that nothing names any more


def free_name(name: str, taken: Sequence[str]) -> str:
    """Return a name that no channel has: the one that is wanted, or with a number."""
    return next(each for each in (name, *(f"{name}-{number}" for number in range(2, 1000))) if each not in taken)


def write_secrets(folder: Path, channel: NewChannel) -> None:
    """Write the secrets of a channel into files that no other account can read. Raises StorageFailed."""
    for name, secret in channel.secrets.values():
        write_atomically(folder / name, f"{secret}\n".encode(), mode=0o600)


def add_channel(site: Site, channel: NewChannel) -> bool:
    """Add a channel; nothing is written before the whole file has been checked. Returns whether rules give it anything.

    Raises Refused if its name, or a file for a secret, is taken; InvalidSettings, StorageFailed.
    """
    if channel.name in {each.name for each in site.settings.channel}:
        raise Refused(f"there is a channel {channel.name!r} already: --name gives another, alerts remove ends it")
    make_folder(site.folder)
    taken = [name for name, _ in channel.secrets.values() if (site.folder / name).exists()]
    if taken:
        raise Refused(f"{site.folder / taken[0]} is there already: remove it, or give the channel another --name")
    rewritten = change_settings(site, lambda text: with_settings(text, channel.block))
    write_secrets(site.folder, channel)
    rewritten()
    return hears_of_newcomers(site.settings.rule, channel.name)


def remove_channel(site: Site, name: str) -> RemovedChannel:
    """Take a channel out of ``site.toml``, and out of the rules and the report that name it.

    Raises NotFound, Refused where the file is written in a way that is not changed here; StorageFailed.
    """
    settings = site.settings
    known = [each.name for each in settings.channel]
    if name not in known:
        raise NotFound(f"there is no channel {name!r}: {', '.join(known) or 'none'}")
    gone = 0

    def change(text: str) -> str:
        nonlocal gone
        for number in reversed(range(len(settings.rule))):
            if settings.rule[number].second == name:
                text = without_value(text, "rule", number, "second")
            left = [each for each in settings.rule[number].channels if each != name]
            if name in settings.rule[number].channels:
                text = (
                    with_value(text, "rule", number, "channels", left) if left else without_block(text, "rule", number)
                )
                gone += not left
        for table, named in (("report", settings.report.channels), ("remind", settings.remind.channels)):
            if name in named:
                text = with_value(text, table, 0, "channels", [each for each in named if each != name])
        return without_block(text, "channel", known.index(name))

    of_it = next(each for each in settings.channel if each.name == name)
    kept = _files_of(type_of(of_it).secrets(of_it))
    change_settings(site, change)()
    named = {file for each in site.settings.channel for file in _files_of(type_of(each).secrets(each))}
    return RemovedChannel(gone, tuple(each for each in kept if each not in named and (site.folder / each).exists()))


def change_settings(site: Site, change: Callable[[str], str]) -> Callable[[], None]:
    """Return what writes ``site.toml`` as a function changes it; the result has been checked, nothing is written yet.

    Raises InvalidSettings, Refused.
    """
    path = site.folder / FILE
    text = (path if path.exists() else TEMPLATE).read_text(encoding="utf-8")
    changed = change(text)
    try:
        read_settings(Path("what was entered"), changed)
    except InvalidSettings as error:
        raise InvalidSettings(f"{error}; nothing was written") from None

    def write() -> None:
        write_atomically(path, changed.encode())
        site.forget_settings()

    return write


def _files_of(references: Sequence[str]) -> list[str]:
    return [each.removeprefix("file:") for each in references if each.startswith("file:")]


def block_of(name: str, **values: str | float | list[str] | bool | None) -> str:
    """Return a table ``[[name]]`` with the values that are set."""
    flags = [f"{key} = {str(value).lower()}" for key, value in values.items() if isinstance(value, bool)]
    lines = assigned(**{key: value for key, value in values.items() if not isinstance(value, bool)})
    return "\n".join(filter(None, [f"[[{name}]]", lines, *flags]))
