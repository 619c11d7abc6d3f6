"""How strong a radio signal is, in a word."""

from __future__ import annotations

# Below the first edge frames are repeated and rates are low; from the second on a link runs at its highest rates.
_WEAK_DBM, _STRONG_DBM = -75, -60


def strength_of(dbm: int) -> str:
    """Return ``strong``, ``fair`` or ``weak`` for a signal in dBm, as the access point hears it."""
    return "strong" if dbm >= _STRONG_DBM else "fair" if dbm >= _WEAK_DBM else "weak"
