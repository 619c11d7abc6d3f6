"""Finds the settings of a site that act on the world, and turns them into comments.

Settings from elsewhere may name programs to run, addresses to send to, access points to change. Pure: texts go in,
texts come out.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from scopion.model.text import clean
from scopion.model.toml_text import parse_toml
from scopion.operations.site.edit_settings import heading_of

# Tables that always act; rules only say which channels do.
_TABLES = ("channel", "rule", "enforcer", "router", "switch", "meter")
# Keys by which other tables act: questions and reports go to addresses, and files are read.
_KEYS = {"names": ("resolvers",), "watch": ("leases", "metrics_port"), "report": ("channels",)}
_LONGEST = 60


def what_acts(text: str) -> list[str]:
    """Return what of a ``site.toml`` acts, a line each; a file that cannot be read is one line. Empty: nothing acts."""
    try:
        document = parse_toml(text)
    except ValueError as error:
        return [f"settings that cannot be read: {clean(str(error), 200)}"]
    return [clean(each, 200) for each in _acting(document)]


def switched_off(text: str) -> str:
    """Return the same file with everything that acts as comments, so that people can enable it by removing a #."""
    lines, name = [], ""
    try:
        document = parse_toml(text)
    except ValueError:
        document = {}
    off = {*_TABLES, *(name for name, keys in _KEYS.items() if any(key in _table(document, name) for key in keys))}
    for line in text.split("\n"):
        name = heading_of(line) or name
        lines.append(f"# {line}" if name in off and line.strip() and not line.lstrip().startswith("#") else line)
    quiet = "\n".join(lines)
    if what_acts(quiet):  # written in a form that this does not know, or not readable: then all of it
        quiet = "\n".join(f"# {line}" for line in text.replace("\r", "\n").split("\n"))
    return quiet


def _acting(document: dict[str, Any]) -> Iterator[str]:
    for each in _tables(document, "channel"):
        where = each.get("command") or each.get("url") or each.get("host") or each.get("path") or each.get("url_secret")
        to = f" to {_said(each['to'])}" if "to" in each else ""
        yield f"channel {_said(each.get('name'))} ({_said(each.get('type'))}): {_said(where)}{to}"
    for each in _tables(document, "enforcer"):
        ssh = each.get("ssh")
        over = f" over SSH on {_said(ssh.get('host'))}" if isinstance(ssh, dict) else " on this machine"
        what = f", {_said(each['reload'])}" if "reload" in each else ""
        yield f"enforcer {_said(each.get('name'))} ({_said(each.get('type'))}){over}{what}"
    for each in _tables(document, "router"):
        yield f"router {_said(each.get('address'))}, asked for its tables"
    for each in _tables(document, "switch"):
        yield f"switch {_said(each.get('name'))} at {_said(each.get('address'))}, asked for its tables"
    for each in _tables(document, "meter"):
        ssh = each.get("ssh")
        over = f" over SSH on {_said(ssh.get('host'))}" if isinstance(ssh, dict) else " on this machine"
        yield f"meter {_said(each.get('name'))}{over}, whose firewall counts"
    if document.get("rule"):
        yield "rules that choose the channels"
    for table, keys in _KEYS.items():
        for key in keys:
            if _table(document, table).get(key) not in (None, [], ""):
                yield f"{table}.{key}: {_said(_table(document, table)[key])}"


def _tables(document: dict[str, Any], name: str) -> list[dict[str, Any]]:
    found = document.get(name, [])
    return [each if isinstance(each, dict) else {} for each in (found if isinstance(found, list) else [found])]


def _table(document: dict[str, Any], name: str) -> dict[str, Any]:
    found = document.get(name, {})
    return found if isinstance(found, dict) else {}


def _said(value: Any) -> str:
    if isinstance(value, list):
        return " ".join(map(_said, value))
    return clean("?" if value is None else str(value), _LONGEST)
