"""Shells of other machines, kept for as long as a site is open: one connection a machine for all that ask for it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from scopion.attachment.ports import Job, Ran, Shell, SshAccess


class KeptShells:
    """Gives shells. Those of other machines stay connected until ``close``; it is for one thread."""

    def __init__(self, open_shell: Callable[[SshAccess | None], Shell]) -> None:
        self._open_shell = open_shell
        self._kept: dict[SshAccess | None, Shell] = {}
        self.remarks: dict[str, None] = {}  # of how this machine's daemons were reached, a sentence each

    def open(self, access: SshAccess | None) -> Shell:
        """Return a shell of this machine, or of another; nothing is reached before it is used."""
        return _Borrowed(self, access)

    def close(self) -> None:
        """Close all connections."""
        for shell in self._kept.values():
            shell.close()
        self._kept.clear()

    def lend(self, access: SshAccess | None) -> Shell:
        """Return the shell of a machine. Raises EnforcerUnreachable."""
        if access not in self._kept:
            self._kept[access] = self._open_shell(access)
        return self._kept[access]

    def give_back(self, access: SshAccess | None) -> None:
        """Keep the connection to another machine; leave the sockets of this one, whose daemons may restart."""
        if access is None and access in self._kept:
            shell = self._kept.pop(access)
            self.remarks.update(dict.fromkeys(shell.remarks))
            shell.close()


class _Borrowed:
    """Implements ``Shell`` by one that others use, too."""

    def __init__(self, shells: KeptShells, access: SshAccess | None) -> None:
        self._shells, self._access = shells, access
        self.remarks: list[str] = []

    def carry_out(self, jobs: Sequence[Job], begins: Callable[[int], None] = lambda _: None) -> list[Ran]:
        """Do jobs in their order."""
        return self._shells.lend(self._access).carry_out(jobs, begins)

    def mode_of(self, path: str) -> tuple[int, str] | None:
        """Return a file's mode bits and its group."""
        return self._shells.lend(self._access).mode_of(path)

    def close(self) -> None:
        """Give it back."""
        self._shells.give_back(self._access)
