"""Proposes passphrases that people can type on a television: syllables, without letters that look alike, and strong."""

from __future__ import annotations

import secrets

# Left out: letters that are misread or misheard (c/k, i/l/j, q, w/v, x, y), or move on foreign keyboards (y, z).
_CONSONANTS = "bdfghkmnprst"
_VOWELS = "aeiou"
_SYLLABLES = 12  # of 60 each: 71 bits, more than the estimator asks for
_GROUP = 2


def proposed() -> str:
    """Return a new one: six groups of two syllables, 29 characters (WPA takes 8 to 63)."""
    syllables = [secrets.choice(_CONSONANTS) + secrets.choice(_VOWELS) for _ in range(_SYLLABLES)]
    return "-".join("".join(syllables[at : at + _GROUP]) for at in range(0, _SYLLABLES, _GROUP))
