"""What a push publishes for a list by RADIUS: the policy with all its hours, as a file that the server answers by."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from datetime import datetime

from scopion.model.week import Local
from scopion.roster.store.stored_values import NotOurs, as_written
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.coverage import Line
from scopion.wireless.enforcers.enforcer import Held
from scopion.wireless.list_policy import ListPolicy, ListRule, policy_document, read_policy, wanted

FORM = "radius-list/1"
MOST_OCTETS = 16 << 20  # a hundred thousand entries


@dataclass(frozen=True, slots=True)
class PublishedList:
    """One network's policy, since when it holds."""

    policy: ListPolicy
    at: datetime

    def held(self, now: datetime, local: Local) -> Held:
        """Return the list as it is at a moment."""
        found = wanted(self.policy, now, local)
        allow, deny = found.mode is ListMode.ALLOW, found.mode is ListMode.DENY
        return Held(found.macs if allow else frozenset(), found.macs if deny else frozenset(), found.mode)


def fixed_policy(ssid: str, held: Held) -> ListPolicy:
    """Return the policy of a list that no hours change: one that was in force before anything was published."""
    rules = tuple(
        ListRule(which, Line(mac, "", own=False))
        for which, macs in ((ListMode.ALLOW, held.allow), (ListMode.DENY, held.deny))
        for mac in sorted(macs)
    )
    return ListPolicy(ssid, held.mode or ListMode.OFF, rules)


def published_text(published: PublishedList) -> str:
    """Return the file's text."""
    document = {"form": FORM, "at": published.at.isoformat(), "policy": policy_document(published.policy)}
    return json.dumps(document, ensure_ascii=False, indent=1) + "\n"


@as_written("a published list")
def read_published(text: str) -> PublishedList:
    """Return what a file says. Raises DamagedRoster, as every kept document does."""
    document = json.loads(text)
    if document["form"] != FORM:
        raise NotOurs(f"{document['form']!r:.40} is not {FORM}")
    return PublishedList(read_policy(document["policy"]), datetime.fromisoformat(document["at"]))


def digest_of(text: str) -> str:
    """Return a short checksum by which a text is recognised."""
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()[:16]
