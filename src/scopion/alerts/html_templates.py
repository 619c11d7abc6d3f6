"""The HTML part of a mail, and texts that people lay out themselves (the body of a webhook), by Jinja2 templates.

The mail escapes everything; people's own templates run in a sandbox, with our filters only.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from scopion.alerts.message import Message

if TYPE_CHECKING:
    from jinja2 import Template

_TEMPLATES = Path(__file__).parent / "data"


def html_of(message: Message) -> str:
    """Return a whole HTML document."""
    return _mail().render(message=message)


def filled(template: str, message: Message) -> str:
    """Fill a user's template with the keys of ``alert/1``. Raises ValueError with what is wrong in it."""
    from jinja2 import StrictUndefined, TemplateError
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    environment = ImmutableSandboxedEnvironment(undefined=StrictUndefined, autoescape=False)
    try:
        return environment.from_string(template).render(message.document())
    except TemplateError as error:
        line = getattr(error, "lineno", None)
        raise ValueError(f"{f'line {line}: ' if line else ''}{error.message or error}") from None


@cache
def _mail() -> Template:
    from jinja2 import Environment, FileSystemLoader, StrictUndefined

    settings: dict[str, Any] = {"trim_blocks": True, "lstrip_blocks": True}
    environment = Environment(
        loader=FileSystemLoader(_TEMPLATES), autoescape=True, undefined=StrictUndefined, **settings
    )
    return environment.get_template("mail.html")
