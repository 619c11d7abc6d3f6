"""stub."""

from scopion.cli.session import Session


def review_by_file(session: Session, path: str, devices: tuple[str, ...], *, yes: bool) -> None:
    """Stub."""
