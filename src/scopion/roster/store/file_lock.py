"""Locks on open files, by which processes that share a folder take turns.

Where the system has no such locks (Windows) a lock is always had: one person sits before such a machine, and SQLite
keeps its own file safe by itself.
"""

from __future__ import annotations


def lock(handle: int, *, shared: bool = False, wait: bool = False) -> bool:
    """Lock an open file until it is closed. Returns False if another process has locked it.

    ``wait``: wait until it has not. Raises OSError where the file system has no locks.
    """
    try:
        import fcntl
    except ImportError:
        return True
    flags = fcntl.LOCK_SH if shared else fcntl.LOCK_EX
    try:
        fcntl.flock(handle, flags if wait else flags | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True
