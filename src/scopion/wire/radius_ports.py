"""The ports of RADIUS, apart from its codec: settings name them at each start, and need nothing else of it."""

from __future__ import annotations

AUTHENTICATION_PORT, ACCOUNTING_PORT, DISCONNECT_PORT = 1812, 1813, 3799  # as IANA assigned them
