"""Flags that several commands share, for those that start quickly: what other options need is not loaded for them."""

from __future__ import annotations

import click

insist = click.option("--insist", is_flag=True, help="Do it although Scopion advises against it.")
