"""A published list on its way to a second server: signed, so that no other list is taken, and dated. Pure."""

from __future__ import annotations

import hashlib
import hmac
import json
from dataclasses import dataclass
from datetime import datetime

from scopion.model.errors import Refused
from scopion.roster.store.stored_values import NotOurs, as_written
from scopion.wireless.radius.published import read_published

FORM = "radius-standby/1"


@dataclass(frozen=True, slots=True)
class StandbyList:
    """What the first server answers by, and when it was sent."""

    network: str
    sent: datetime
    text: str  # of the published list; empty: nothing is published


def signed_text(standby: StandbyList, key: str) -> str:
    """Return the document for the second server."""
    document = {"form": FORM, "network": standby.network, "sent": standby.sent.isoformat(), "list": standby.text}
    return json.dumps({**document, "signature": _signature(document, key)}, ensure_ascii=False, indent=1) + "\n"


def read_signed(text: str, key: str) -> StandbyList:
    """Return what a document says. Raises Refused if it was signed with another key; DamagedRoster if it is none."""
    document = _parsed(text)
    signature = document.pop("signature")
    if not hmac.compare_digest(signature, _signature(document, key)):
        raise Refused(
            "this list was signed with another key than the one here: standby.key there and stands_in.key here have to "
            "be the same"
        )
    return _standby(document)


@as_written("a list for the standby")
def _parsed(text: str) -> dict[str, str]:
    document = json.loads(text)
    if document["form"] != FORM:
        raise NotOurs(f"{document['form']!r:.40} is not {FORM}")
    return {key: _text(document[key]) for key in ("form", "network", "sent", "list", "signature")}


@as_written("a list for the standby")
def _standby(document: dict[str, str]) -> StandbyList:
    if document["list"]:
        read_published(document["list"])
    return StandbyList(document["network"], datetime.fromisoformat(document["sent"]), document["list"])


def _text(value: object) -> str:
    if not isinstance(value, str):
        raise NotOurs("it is no text")
    return value


def _signature(document: dict[str, str], key: str) -> str:
    plain = json.dumps({each: document[each] for each in ("form", "network", "sent", "list")}, sort_keys=True)
    return hmac.new(key.encode(), plain.encode("utf-8", "surrogateescape"), hashlib.sha256).hexdigest()
