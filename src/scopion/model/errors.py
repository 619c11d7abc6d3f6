"""All errors, under one root. The command line prints their text and ends with ``exit_code``.

A message says what is wrong, where, and what to do next, in one line.
"""

from __future__ import annotations


class ScopionError(Exception):
    """The root of all errors. ``str()`` is shown to the user as it is."""

    exit_code = 1


def place_of(error: BaseException) -> str:
    """Return the type of an unexpected error and the line where it happened. Its text is left out: it may quote a
    secret.
    """
    trace = error.__traceback__
    while trace is not None and trace.tb_next is not None:
        trace = trace.tb_next
    where = f" in {trace.tb_frame.f_code.co_filename.rpartition('/')[2]}, line {trace.tb_lineno}" if trace else ""
    return f"{type(error).__name__}{where}"


class UsageError(ScopionError, ValueError):
    """The user wrote something that cannot be understood: an address, a range, a setting."""

    exit_code = 2


class InvalidMacAddress(UsageError):
    """Not a MAC address in any notation."""


class InvalidTarget(UsageError):
    """Not an address range that can be scanned."""


class InvalidSettings(UsageError):
    """``site.toml`` has a mistake; the text names file, line and key."""


class AmbiguousDevice(UsageError):
    """A DEVICE fits several devices; the text lists them."""


class NotFound(ScopionError, LookupError):
    """What was asked for does not exist."""

    exit_code = 3


class CheckNotMet(ScopionError):
    """A check that the user asked for (``--fail-on``) failed."""

    exit_code = 3


class NotPermitted(ScopionError, PermissionError):
    """The system does not permit it; the text says how to get permission."""


class LiveNetworkLocked(ScopionError):
    """``SCOPION_LIVE=namespaces`` is set and this is the machine's first network namespace."""


class NoInterface(ScopionError):
    """No interface can do what was asked: it is down, gone, or has no address."""


class InterfaceLost(ScopionError):
    """An interface went down or disappeared while it was in use."""


class RouterUnreadable(ScopionError):
    """A router's address table cannot be read; the text says why and what to check."""


class SwitchUnreadable(ScopionError):
    """A switch cannot be read; the text says why and what to check."""


class EnforcerUnreachable(ScopionError):
    """An access point or router cannot be reached, or does not do what it is told; the text says why."""


class Divided(ScopionError):
    """A push has failed half-way and could not be rolled back; the text says what each radio holds."""


class MalformedFrame(ScopionError, ValueError):
    """A frame claims to be of a type and does not have its form."""


class DamagedListing(ScopionError):
    """A vendor listing is damaged or too small; the present one is kept."""


class DamagedRoster(ScopionError):
    """The roster cannot be read; the text names the file to which it was moved."""


class StorageFailed(ScopionError, OSError):
    """A file could not be written: the disk is full or read-only, or the file belongs to another account."""


class ChangedMeanwhile(ScopionError):
    """Another process has changed the same thing meanwhile; the text says how it is now."""


class Refused(ScopionError):
    """Scopion refuses to do it; the text says why, and how to insist."""
