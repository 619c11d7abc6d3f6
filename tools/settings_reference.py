"""The reference of ``site.toml``, and its JSON Schema, from the model that validates it.

What a setting means stands beside it in the model, as a comment; limits and defaults are the model's own.
"""

from __future__ import annotations

import ast
import dataclasses
import inspect
import io
import json
import textwrap
import tokenize
import types
import typing
from collections.abc import Iterator
from dataclasses import MISSING
from enum import Enum
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from typing import Any, Literal

from annotated_types import Ge, Le, MaxLen, MinLen

from scopion.operations.site.load_settings import adapter
from scopion.operations.site.site_settings import ByType, Settings

_NOTE = "<!-- Made by python -m tools.make_docs from the model that validates site.toml; do not edit. -->\n"
_OPENING = (
    "The settings that people edit, in the site's folder; every one is optional. `scopion setup` writes the first, "
    "with all of this as comments. A mistake is shown with its line; a mistyped key is a mistake, too. Secrets never "
    "stand here: `env:NAME`, `file:PATH` (in the site's folder, that no other account may read) or "
    "`credential:NAME` (from the service manager) say where they are. "
    "[site.schema.json](schemas/site.schema.json) describes them for editors."
)
# How simple types are said.
_TYPES = {
    str: "text", float: "number", int: "whole number", bool: "true or false", IPv4Network: "range, as 192.0.2.0/24",
    IPv4Address: "IPv4 address", IPv6Address: "IPv6 address",
}  # fmt: skip


def schema() -> str:
    """docs/schemas/site.schema.json: for editors that know JSON Schema. The program checks more than it says."""
    made = adapter().json_schema()
    head = {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Scopion's site.toml, as JSON"}
    return json.dumps({**head, **{key: value for key, value in made.items() if key != "title"}}, indent=2) + "\n"


def markdown() -> str:
    """docs/settings.md."""
    parts = [f"{_NOTE}# site.toml\n\n{_OPENING}\n"]
    parts.append(_table("At the top", Settings, only=_plain(Settings)))
    for each in dataclasses.fields(Settings):
        for title, cls in _sections(each):
            parts.append(_table(title, cls))
    return "\n".join(parts)


def _hints(cls: type) -> dict[str, Any]:
    return typing.get_type_hints(cls, include_extras=True)


def _plain(cls: type) -> set[str]:
    """Return the settings of a class that are not tables of their own."""
    return {name for name, hint in _hints(cls).items() if not _classes(hint) and not name.startswith("__")}


def _sections(each: dataclasses.Field[Any]) -> Iterator[tuple[str, type]]:
    """Yield the tables that a setting of the whole file stands for."""
    hint = _hints(Settings)[each.name]
    several = typing.get_origin(hint) is tuple
    for cls in _classes(hint):
        title = f"[[{each.name}]]" if several else f"[{each.name}]"
        kind = _hints(cls).get("type")
        if each.name in ("channel", "enforcer") and kind is not None:
            title += f' of type "{typing.get_args(kind)[0]}"'
        yield title, cls


def _classes(hint: Any) -> list[type]:
    """Return the settings classes within a type."""
    if dataclasses.is_dataclass(hint) and isinstance(hint, type):
        return [hint]
    chosen = [mark for mark in getattr(hint, "__metadata__", ()) if isinstance(mark, ByType)]
    if chosen:
        return chosen[0].classes
    if typing.get_args(hint):
        return [cls for part in typing.get_args(hint) for cls in _classes(part)]
    return []


def _table(title: str, cls: type, only: set[str] | None = None) -> str:
    remarks = _remarks(cls)
    hints = _hints(cls)
    about = (inspect.getdoc(cls) or "").replace("``", "`")
    lines = [f"## {title}\n", f"{about}\n", "| setting | takes | default | |", "|---|---|---|---|"]
    below: list[str] = []
    for field in dataclasses.fields(cls):
        if (only is not None and field.name not in only) or hints[field.name] is type(None):
            continue
        inner = _classes(hints[field.name])
        says = remarks.get(field.name, "")
        for each in inner:
            says = f"{says + '; ' if says else ''}see below"
            below.append(_table(f"{title}: {field.name}", each))
        lines.append(f"| `{field.name}` | {_said(hints[field.name])} | {_default(field)} | {says} |")
    return "\n".join([*lines, "", *below])


def _default(field: dataclasses.Field[Any]) -> str:
    if field.default is not MISSING:
        value = field.default
    elif field.default_factory is not MISSING:
        value = field.default_factory()
    else:
        return "needed"
    if value in (None, "", (), {}) or dataclasses.is_dataclass(value):
        return ""
    return f"`{json.dumps(value) if not isinstance(value, Enum) else value}`"


def _said(hint: Any) -> str:
    """Return a type in words, with its limits."""
    origin, args = typing.get_origin(hint), typing.get_args(hint)
    if origin is typing.Annotated:
        limits = [part for part in map(_limit, args[1:]) if part]
        return ", ".join([_said(args[0]), *limits])
    if origin is Literal:
        return ", ".join(f"`{each}`" for each in args)
    if origin in (typing.Union, types.UnionType):
        return " or ".join(dict.fromkeys(_said(each) for each in args if each is not type(None)))
    if origin is tuple:
        return f"list: {_said(args[0])}"
    if origin is dict:
        return f"table: {_said(args[1])}"
    if isinstance(hint, type) and issubclass(hint, Enum):
        return ", ".join(f"`{each}`" for each in hint)
    if dataclasses.is_dataclass(hint):
        return "table"
    return _TYPES.get(hint, getattr(hint, "__name__", str(hint)))


def _limit(mark: Any) -> str:
    match mark:
        case Ge():
            return f"at least {mark.ge:.15g}"
        case Le():
            return f"at most {mark.le:.15g}"
        case MaxLen():
            return f"at most {mark.max_length} long"
        case MinLen():
            return f"at least {mark.min_length} long" if mark.min_length > 1 else "not empty"
        case _:
            return ""


def _remarks(cls: type) -> dict[str, str]:
    """What the comments of a class and its bases say of its settings: beside the line, or on the lines above it."""
    source = textwrap.dedent(inspect.getsource(cls))
    comments = {
        token.start[0]: token.string.lstrip("# ")
        for token in tokenize.generate_tokens(io.StringIO(source).readline)
        if token.type == tokenize.COMMENT
    }
    (tree,) = ast.parse(source).body
    assert isinstance(tree, ast.ClassDef)
    bases = [base for base in cls.__bases__ if dataclasses.is_dataclass(base)]
    found = {name: remark for base in bases for name, remark in _remarks(base).items()}
    for node in tree.body:
        if isinstance(node, ast.AnnAssign) and isinstance(node.target, ast.Name):
            beside = [
                comments[line] for line in range(node.lineno, (node.end_lineno or node.lineno) + 1) if line in comments
            ]
            above, line = list[str](), node.lineno - 1
            while line in comments and not source.splitlines()[line - 1].split("#")[0].strip():
                above.insert(0, comments[line])
                line -= 1
            found[node.target.id] = " ".join(beside or above).replace("|", r"\|").replace("None:", "left out:")
    return found
