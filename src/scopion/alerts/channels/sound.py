"""A short tone on the desktop where the site is watched: by its usual player, else by the terminal's bell."""

from __future__ import annotations

import shutil
from pathlib import Path

from scopion.alerts.channels.bell import BellChannel
from scopion.alerts.channels.channel import DeliveryFailed, Trace
from scopion.alerts.channels.run_program import run_program
from scopion.alerts.message import Message
from scopion.model.alert import Severity

_TONES = Path(__file__).parent.parent / "data"
# Players of a file with samples, in the order of trying: of the sound servers, of ALSA, of macOS.
_PLAYERS = ("pw-play", "paplay", "aplay", "afplay")
_TIMEOUT_S = 10.0
# By which players find the sound server of the session.
_OF_SESSION = ("XDG_RUNTIME_DIR", "PULSE_SERVER", "PIPEWIRE_REMOTE", "DBUS_SESSION_BUS_ADDRESS")


def tone_of(severity: Severity) -> Path:
    """Return the file with the tone of a severity: the graver, the more and the higher its notes."""
    return _TONES / f"tone-{severity}.wav"


class SoundChannel:
    """Plays one tone for each message; a tone a minute late is useless."""

    lasts_s: float | None = 60.0

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def deliver(self, message: Message, trace: Trace) -> None:
        """Play the tone of the message's severity. Raises DeliveryFailed if no player does, and there is no bell."""
        tone = str(tone_of(message.severity))
        there = [player for player in _PLAYERS if shutil.which(player)]
        failed = []
        for player in there:
            trace(f"{player} plays {tone}")
            try:
                ended = run_program([player, tone], self._folder, _TIMEOUT_S, also=_OF_SESSION)
            except DeliveryFailed as failure:
                failed.append(str(failure))
                continue
            if not ended.code:
                trace(f"{player} has played it")
                return
            failed.append(f"{player} ended with {ended.code}" + (f": {ended.said}" if ended.said else ""))
        trace("; ".join(failed) or f"there is no player here ({', '.join(_PLAYERS)})")
        try:
            BellChannel().deliver(message, trace)
        except DeliveryFailed as failure:
            why = "; ".join(failed) or f"no player is installed ({', '.join(_PLAYERS)})"
            raise DeliveryFailed(f"{why}; and {failure}", permanent=not failed) from None
