"""Families of commands: each lists them in the order of the work, and names the one that is meant by another word."""

from __future__ import annotations

import click


class Family(click.Group):
    """A group of commands."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the names in the order of their definition."""
        return list(self.commands)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Return the command that is typed. Raises UsageError for another word, with the command that does it."""
        name = args[0]
        if name.startswith("-") or ctx.resilient_parsing or self.get_command(ctx, name) is not None:
            return super().resolve_command(ctx, args)
        from scopion.cli.parts.other_words import meant_by

        root = ctx.find_root()
        everywhere = root.command.list_commands(root) if isinstance(root.command, click.Group) else []
        meant = meant_by(ctx.command_path, name, self.list_commands(ctx), everywhere)
        raise click.UsageError(f"No such command {name!r}{f': try {meant}' if meant else ''}", ctx)
