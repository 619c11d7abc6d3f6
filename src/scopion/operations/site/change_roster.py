"""Changes the roster for a person: one transaction, recorded so that it can be taken back."""

from __future__ import annotations

import getpass
import os
from collections.abc import Iterator
from contextlib import contextmanager

from scopion.model.text import clean
from scopion.operations.site.open_site import Site
from scopion.roster.store.open_roster import Roster
from scopion.roster.undo.record_changes import Describing, changing


@contextmanager
def change(site: Site, kind: str, says: str = "", *, undoes: int | None = None) -> Iterator[tuple[Roster, Describing]]:
    """Record everything inside as one change; its words may be set until its end."""
    roster = site.roster
    with changing(roster, kind, says, at=site.clock.now(), who=account(), undoes=undoes) as described:
        yield roster, described
    if described.number is not None:
        what = f"change {described.number} stands ({described.says or kind})"
        site.stands.append(f"{what}: scopion undo {described.number} takes it back")


def account() -> str:
    """Return the name of the account that this runs for, the invoking one under sudo; empty if it has none."""
    try:
        return clean(os.environ.get("SUDO_USER") or getpass.getuser(), 40)
    except (OSError, KeyError):  # a container's user without a name
        return ""
