"""Flags that several commands share, in a file of its own so that fast commands do not load what other options need."""

from __future__ import annotations

import functools
from collections.abc import Callable
from dataclasses import fields
from typing import Any

import click

insist = click.option("--insist", is_flag=True, help="Do it although Scopion advises against it.")


def gathered(name: str, kind: type) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Return a decorator that hands a command some of its options together: those that a dataclass has fields for."""
    together = [each.name for each in fields(kind)]

    def decorate(command: Callable[..., Any]) -> Callable[..., Any]:
        @functools.wraps(command)
        def call(*arguments: Any, **given: Any) -> Any:
            values = {each: given.pop(each) for each in together if each in given}
            return command(*arguments, **given, **{name: kind(**values)})

        return call

    return decorate
