"""``scopion review --csv``: the new devices as a sheet to fill in, and its way back."""

from __future__ import annotations

from pathlib import Path

from scopion.cli.parts.session import Session, shell_word
from scopion.cli.remember.take_over import take_over_file
from scopion.model.errors import NotFound
from scopion.model.text import counted


def review_by_file(session: Session, path: str, devices: tuple[str, ...], *, yes: bool) -> None:
    """Write the sheet if it is not there, else show what was filled in and take it over."""
    if Path(path).exists():
        take_over_file(session, path, "csv", preview=False, yes=yes, insist=False, format_name=None)
        return
    from scopion.operations.edit.review_devices import Review
    from scopion.operations.exchange.exchange_devices import export, write

    chosen = devices or tuple(Review(session.site).which)
    if not chosen:
        raise NotFound("nobody new: every device has been looked at, there is nothing to fill in")
    exported = export(session.site, "csv", chosen)
    write(path, exported)
    session.note(
        f"{counted(exported.count, 'device')} written to {path}. Fill in the first columns (standing: known, guest, "
        f"unwanted), save it as CSV, then: scopion review --csv {shell_word(path)}"
    )
