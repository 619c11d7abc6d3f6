"""Refreshes the vendor listing from the IEEE's files, and says how old the one in use is."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from email.utils import parsedate_to_datetime
from pathlib import Path
from urllib.parse import urljoin

from scopion.attachment.connect.bounded_connection import Bounds, TooMuch
from scopion.attachment.connect.web_client import HttpRequest, ask, opener
from scopion.model.clock import spoken_span
from scopion.model.errors import DamagedListing, Refused, ScopionError
from scopion.model.text import clean
from scopion.operations.site.open_vendors import FILE, listing_path
from scopion.roster.store.write_files import make_folder, write_atomically
from scopion.vendors.assignments import Listing, RegistryName
from scopion.vendors.listing import read_listing
from scopion.vendors.snapshot import Snapshot, build_snapshot

# A refreshed listing may lose a few assignments that were given back, but not more than this share.
LEAST_SHARE = 0.9
# The files that the authority publishes, for a folder or a URL that ends with a slash.
OFFICIAL = ("oui.csv", "mam.csv", "oui36.csv", "iab.csv")
_TIMEOUT_S = 120.0
_MAX_DOWNLOAD, _MAX_HEADERS = 32 * 2**20, 2**20  # the largest of the official files has four
_LOOPBACK = re.compile(r"http://(localhost|127(\.\d{1,3}){3})[:/]")  # seconds; then no server answers
_ELSEWHERE, _MOST_REDIRECTIONS = (301, 302, 303, 307, 308), 5


@dataclass(frozen=True, slots=True)
class ListingAge:
    """How old one registry's listing is, and how many assignments it has."""

    registry: RegistryName
    assignments: int
    as_of: date
    days: int

    def __str__(self) -> str:
        age = f"{spoken_span(timedelta(days=self.days))} old" if self.days else "of today"
        return f"{self.registry}: {self.assignments:,} assignments as of {self.as_of.isoformat()} ({age})"


def listing_ages(folder: Path, today: date) -> list[ListingAge]:
    """Return the age of each registry's listing in use."""
    snapshot = Snapshot.open(listing_path(folder))
    ages = []
    for registry, text in snapshot.dates.items():
        as_of = date.fromisoformat(text)
        ages.append(ListingAge(registry, snapshot.count(registry), as_of, max(0, (today - as_of).days)))
    return ages


def refresh_listing(folder: Path, source: str, today: date, *, insist: bool = False) -> list[RegistryName]:
    """Read official files (a file, a folder of them, a URL) and replace those registries' listings.

    Returns the registries that were replaced. Raises DamagedListing, and then nothing has changed; StorageFailed;
    Refused for a URL without TLS, unless ``insist``.
    """
    if source.startswith("http://") and not insist and not _LOOPBACK.match(source):
        raise Refused(
            f"{source} is not secured, so that any machine on the way could change it: use https://, or --insist"
        )
    present = Snapshot.open(listing_path(folder))
    listings: dict[RegistryName, tuple[Listing, str]] = {
        registry: (present.listing(registry), as_of) for registry, as_of in present.dates.items()
    }
    replaced = []
    for name, data, as_of in _read(source, today):
        fresh = read_listing(data, name)
        before = present.count(fresh.registry)
        if len(fresh.assignments) < LEAST_SHARE * before:
            raise DamagedListing(
                f"{name} has {len(fresh.assignments):,} {fresh.registry} assignments, the present listing {before:,}: "
                "it is probably cut; the present listing is kept"
            )
        listings[fresh.registry] = (fresh, as_of.isoformat())
        replaced.append(fresh.registry)
    make_folder(folder)
    write_atomically(folder / FILE, build_snapshot(list(listings.values())), mode=0o644)
    return replaced


def _read(source: str, today: date) -> list[tuple[str, bytes, date]]:
    """Return the files of a source: name, content, and the day of their making."""
    if source.startswith(("http://", "https://")):
        names = [source + name for name in OFFICIAL] if source.endswith("/") else [source]
        return [_fetched(url, today) for url in names]
    path = Path(source).expanduser()
    paths = [path]
    if path.is_dir():
        paths = [found for name in OFFICIAL for found in (path / name, path / f"{name}.gz") if found.is_file()]
        if not paths:
            raise DamagedListing(f"{path} holds none of {', '.join(OFFICIAL)}, plain or gzip")
    try:
        return [
            (each.name, each.read_bytes(), datetime.fromtimestamp(each.stat().st_mtime, UTC).date()) for each in paths
        ]
    except OSError as error:
        raise DamagedListing(f"{error.filename or path} cannot be read: {error.strerror}") from None


def _fetched(url: str, today: date) -> tuple[str, bytes, date]:
    """Fetch a file from the web and follow redirections; from a secured address only to secured ones."""
    import http.client

    bounds = Bounds(_TIMEOUT_S, _MAX_DOWNLOAD + _MAX_HEADERS)
    where = url
    try:
        for _ in range(_MOST_REDIRECTIONS):
            answer = ask(HttpRequest("GET", where, _MAX_DOWNLOAD), bounds, opener(bounds))
            if answer.status not in _ELSEWHERE or "location" not in answer.headers:
                break
            where = urljoin(where, answer.headers["location"])
            if url.startswith("https:") and not where.startswith("https:"):
                raise ScopionError(f"{url} leads to {clean(where, 100)}, which is not secured: nothing was fetched")
        else:
            raise ScopionError(f"{url} leads elsewhere more than {_MOST_REDIRECTIONS} times: check the address")
    except TooMuch:
        raise _too_large(url) from None
    except TimeoutError:
        raise ScopionError(f"{url} cannot be fetched: it takes longer than {_TIMEOUT_S:.0f} s") from None
    except (OSError, http.client.HTTPException, ValueError) as error:
        why = getattr(error, "strerror", None) or clean(str(error), 120) or type(error).__name__
        raise ScopionError(f"{url} cannot be fetched: {why}") from None
    if not answer.is_success:
        raise ScopionError(f"{url} answered {answer.status}: check the address")
    if not answer.whole:
        raise _too_large(url)
    return url, answer.body, min(_http_date(answer.headers.get("last-modified")) or today, today)


def _too_large(url: str) -> DamagedListing:
    return DamagedListing(f"{url} is larger than {_MAX_DOWNLOAD >> 20} MB: not an IEEE listing")


def _http_date(text: str | None) -> date | None:
    try:
        return parsedate_to_datetime(text).date() if text else None
    except (ValueError, OverflowError, TypeError):  # no day, whatever it is
        return None
