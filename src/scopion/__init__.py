"""Scopion: who is on the network, what it is, whose it is, and whether it may be.

The package's only global is its version; everything else lives in a room, see docs/architecture.md.
"""

__version__ = "0.1.0"
