"""What adapters say of themselves, with its source and the first and last time. The number per adapter is limited."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from sqlite3 import Connection

from scopion.model.device import KnownTrait
from scopion.model.observation import Source, Trait, TraitKind
from scopion.roster.store.open_roster import Roster
from scopion.roster.store.stored_values import from_ms, stored_words, to_ms

# A chatty media server announces a dozen services; of an adapter with a thousand names only the latest are kept.
MAX_TRAITS = 48
# Sources whose new name means that a person has renamed the device; a reverse look-up may change with a lease.
_KINDS, _SOURCES = stored_words(TraitKind), stored_words(Source)
_GIVEN_BY_ITSELF = (Source.MDNS, Source.DHCP, Source.NETBIOS, Source.LLMNR)


def note_traits(
    db: Connection, subject: str, place: str, traits: Iterable[Trait], began: datetime, at: datetime
) -> None:
    """Remember what was said in a place of an adapter (its MAC) or of an unpaired host (its address), and when."""
    first, last = to_ms(began), to_ms(at)
    noted = False
    for trait in traits:
        noted = True
        db.execute(
            "INSERT INTO trait VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET "
            "first_seen = min(first_seen, excluded.first_seen), last_seen = max(last_seen, excluded.last_seen)",
            (subject, place, trait.kind, trait.value, trait.source, first, last),
        )
    if noted:
        db.execute(
            "DELETE FROM trait WHERE subject = ?1 AND place = ?3 AND kind <> 'kind' AND (kind, value, source) NOT IN "
            "(SELECT kind, value, source "
            "FROM trait WHERE subject = ?1 AND place = ?3 ORDER BY last_seen DESC, kind, value LIMIT ?2)",
            (subject, MAX_TRAITS, place),
        )


def rename(db: Connection, subject: str, place: str, traits: Iterable[Trait]) -> tuple[str, str] | None:
    """Return the old and the new name, if one of these traits is a name that its source has not given there before.

    A source's first name in a place is no renaming. Called before the traits are noted.
    """
    for trait in traits:
        if trait.kind is not TraitKind.NAME or trait.source not in _GIVEN_BY_ITSELF:
            continue
        known = db.execute(
            "SELECT value FROM trait WHERE subject = ? AND place = ? AND kind = ? AND source = ? "
            "ORDER BY last_seen DESC",
            (subject, place, trait.kind, trait.source),
        ).fetchall()
        former = [row["value"] for row in known]
        if former and trait.value.casefold() not in map(str.casefold, former):
            return former[0], trait.value
    return None


def move_traits(db: Connection, subject: str, to: str) -> None:
    """Give what was said of one subject to another: a host has turned out to be an adapter."""
    db.execute("UPDATE OR IGNORE trait SET subject = ? WHERE subject = ?", (to, subject))
    db.execute("DELETE FROM trait WHERE subject = ?", (subject,))


def all_traits(roster: Roster, where: str = "") -> dict[str, tuple[KnownTrait, ...]]:
    """Return traits by subject, the latest first; ``where`` is a condition of SQL."""
    found: dict[str, tuple[KnownTrait, ...]] = {}
    query = (
        f"SELECT subject, kind, value, source, min(first_seen), max(last_seen) AS last FROM trait {where} "
        "GROUP BY subject, kind, value, source ORDER BY last DESC, kind, value"
    )
    for subject, kind, value, source, first_seen, last_seen in roster.rows(query):
        known = KnownTrait(Trait(_KINDS[kind], value, _SOURCES[source]), from_ms(first_seen), from_ms(last_seen))
        found[subject] = (*found.get(subject, ()), known)
    return found
