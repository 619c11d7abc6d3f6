"""The one way to a terminal: only the program's own colours can control it, whatever text the roster holds.

Texts are cleaned when they come in. A roster may be damaged, or come from elsewhere, so they are not trusted here: a
control character, or one that changes the direction of the text, is shown as �. The program's own styles are marked by
a sign that no other text can contain, and become escape sequences last.
"""

from __future__ import annotations

import os
import re
from typing import Any

import click

from scopion.model.text import UNSHOWN, plain

# A character for private use, which is removed wherever a text comes in, and another in each process.
_ESCAPE = f"\ue000{os.urandom(6).hex()}\ue000"
# Lines and columns stay: a line end of CSV (RFC 4180) has two characters.
_CONTROLS = rf"(?!\n|\t|\r\n){UNSHOWN}"


def style(text: str, **how: Any) -> str:
    """Return a text in a colour, bold, or dim, as ``click.style`` takes them; escape sequences in it stay text."""
    return click.style(plain(text), **how).replace("\x1b", _ESCAPE)


def released(text: str) -> str:
    """Return a text as it may go to a terminal."""
    if not text.isprintable():
        text = re.sub(_CONTROLS, "�", text)
    return text.replace(_ESCAPE, "\x1b")


def echo(text: str = "", *, err: bool = False, nl: bool = True) -> None:
    """Print a text; without colours where there is no terminal."""
    click.echo(released(text), err=err, nl=nl)


def confirm(question: str, **more: Any) -> bool:
    """Ask for a yes or no, on standard error."""
    return click.confirm(released(question), err=True, **more)


def prompt(question: str, default: Any = None, **more: Any) -> Any:
    """Ask for a text, on standard error."""
    return click.prompt(released(question), default=default, err=True, **more)
