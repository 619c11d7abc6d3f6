"""Takes back what people changed: the latest change, or one by its number. An undo can be undone itself."""

from __future__ import annotations

from scopion.model.errors import NotFound, Refused
from scopion.operations.site.change_roster import change
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.load_policy import require_no_lockout
from scopion.roster.undo.read_changes import RowChange, rows_of
from scopion.roster.undo.record_changes import Change, change_of, latest_changes, latest_in_force
from scopion.roster.undo.take_back import take_back


def changes_made(site: Site, limit: int, *, device: int | None = None) -> list[Change]:
    """Return the latest changes, the latest first."""
    return latest_changes(site.roster_for_reading(), limit, device=device)


def would_undo(site: Site, number: int | None = None) -> tuple[Change, list[RowChange]]:
    """Return the change that would be taken back, and its rows. Raises NotFound, or Refused if that
    was done already.
    """
    roster = site.roster_for_reading()
    found = change_of(roster, number) if number is not None else latest_in_force(roster)
    if found is None:
        raise NotFound(f"there is no change {number}: see scopion undo --list" if number else "nothing to take back")
    if found.undone is not None:
        raise Refused(f"change {found.id} ({found.says}) has been taken back already")
    return found, rows_of(roster, found)


def undo(site: Site, number: int | None = None, *, keep_later: bool = False, insist: bool = False) -> Change:
    """Take a change back, the latest one unless a number is given. Raises Refused for what was changed since.

    With ``keep_later`` what was changed since stays, and the rest is taken back.
    """
    found, _ = would_undo(site, number)
    with change(site, "undo", f"taken back: {found.says}", undoes=found.id) as (roster, _):
        found, _ = would_undo(site, found.id)  # once more under the lock: another process may have been faster
        take_back(roster, found, keep_later=keep_later)
        if not insist:
            require_no_lockout(site, roster)
    return found
