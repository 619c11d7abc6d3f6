"""The frame of a card in a terminal: the name above, and titles in the margin. Small, because it is needed at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from scopion.cli.parts.terminal import style
from scopion.model.device import Device, Standing

INDENT = 12
STANDING_COLOUR = {Standing.NEW: "yellow", Standing.KNOWN: "green", Standing.GUEST: "cyan", Standing.UNWANTED: "red"}


def heading(device: Device) -> str:
    """Return its name and standing, until when and why."""
    name = style(device.called, bold=True)
    standing = style(str(device.standing), fg=STANDING_COLOUR[device.standing], bold=True)
    until = f" until {device.guest_until.isoformat()}" if device.guest_until else ""
    because = f" ({device.because})" if device.because else ""
    return f"{name} · {standing}{until}{because}"


def block(title: str, lines: Sequence[str]) -> Iterator[str]:
    """Yield lines under a title in the margin."""
    for number, line in enumerate(lines):
        head = style((title if number == 0 else "").ljust(INDENT), dim=True)
        yield f"{head}{line}"
