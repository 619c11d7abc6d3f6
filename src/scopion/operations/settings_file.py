"""Writes into ``site.toml`` without losing its comments: settings go below the headings that the file has already."""

from __future__ import annotations

import json
import re


def with_settings(text: str, settings: str) -> str:
    """The commented file with settings (TOML, blocks apart by an empty line) below its headings, the others at its end.

    Lines before the first heading, as ``name = ...``, go to the top, below the opening comment.
    """
    for block in settings.strip().split("\n\n"):
        heading, _, lines = block.partition("\n")
        if not heading.startswith("["):
            opening = re.match(r"(?:#[^\n]*\n)*", text)
            at = opening.end() if opening else 0
            text = f"{text[:at]}\n{block}\n{text[at:].removeprefix(chr(10))}"
            continue
        below = re.search(rf"^{re.escape(heading)}.*$", text, re.MULTILINE)
        end = below.end() if below else len(text)
        text = f"{text[:end]}\n{lines if below else block}{text[end:] if below else chr(10)}"
    return text


def quoted(text: str) -> str:
    """A text as TOML writes it; it holds no control characters."""
    return json.dumps(text, ensure_ascii=False)


def assigned(**values: str | float | list[str] | None) -> str:
    """Lines of settings; what is None or empty is left out."""
    lines = []
    for key, value in values.items():
        if value in (None, "", []):
            continue
        if isinstance(value, list):
            shown = f"[{', '.join(map(quoted, value))}]"
        elif isinstance(value, str):
            shown = quoted(value)
        else:
            shown = f"{value:g}"
        lines.append(f"{key} = {shown}")
    return "\n".join(lines)
