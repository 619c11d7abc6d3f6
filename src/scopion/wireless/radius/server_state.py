"""What the server that answers by RADIUS tells other processes: a file beside the published lists, written when it
changes.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from scopion.model.mac import MacAddress
from scopion.roster.store.stored_values import NotOurs, as_written
from scopion.roster.watch_record import HeardAttempts
from scopion.wireless.radius.answer import Reason
from scopion.wireless.radius.attempts import attempts_document, read_attempts
from scopion.wireless.radius.disconnections import Told
from scopion.wireless.radius.sessions import Session, read_session, session_document

FORM = "radius-state/1"


@dataclass(frozen=True, slots=True)
class Fault:
    """What a person has to mend, how often it was seen, and when last."""

    reason: Reason
    times: int
    last: datetime
    said: str = ""  # what was named last


@dataclass(frozen=True, slots=True)
class Leaving:
    """A device that is being taken off the air."""

    access_point: str
    network: str
    mac: MacAddress
    since: datetime
    told: Told


@dataclass(frozen=True, slots=True)
class ServerState:
    """What the server knows, and by which lists it answers."""

    answers_by: Mapping[str, str] = field(default_factory=dict)  # by network, the checksum of its published list
    sessions: tuple[Session, ...] = ()
    attempts: Mapping[str, HeardAttempts] = field(default_factory=dict)  # by network
    faults: Mapping[tuple[str, str], Fault] = field(default_factory=dict)  # by access point or address, and reason
    leaving: tuple[Leaving, ...] = ()
    asked: Mapping[str, datetime] = field(default_factory=dict)  # by access point, when it asked last
    reported: Mapping[str, datetime] = field(default_factory=dict)  # by access point, when it sent accounting last
    problem: str = ""  # what the server cannot do


def state_text(state: ServerState) -> str:
    """Return the file's text."""
    document = {
        "form": FORM,
        "answers_by": dict(state.answers_by),
        "sessions": list(map(session_document, state.sessions)),
        "attempts": attempts_document(state.attempts),
        "faults": [
            [where, each.reason.name.lower(), each.times, each.last.isoformat(), each.said]
            for (where, _), each in state.faults.items()
        ],
        "leaving": [
            [each.access_point, each.network, str(each.mac), each.since.isoformat(), each.told.name.lower()]
            for each in state.leaving
        ],
        "asked": {name: at.isoformat() for name, at in state.asked.items()},
        "reported": {name: at.isoformat() for name, at in state.reported.items()},
        "problem": state.problem,
    }
    return json.dumps(document, ensure_ascii=False) + "\n"


@as_written("the state of the RADIUS server")
def read_state(text: str) -> ServerState:
    """Return what a file says. Raises DamagedRoster, as every kept document does."""
    document = json.loads(text)
    if document["form"] != FORM:
        raise NotOurs(f"{document['form']!r:.40} is not {FORM}")
    return ServerState(
        {str(network): str(digest) for network, digest in document["answers_by"].items()},
        tuple(map(read_session, document["sessions"])),
        read_attempts(document["attempts"]),
        dict(map(_fault, document["faults"])),
        tuple(map(_leaving, document["leaving"])),
        _moments(document["asked"]),
        _moments(document["reported"]),
        str(document["problem"]),
    )


def _fault(document: Any) -> tuple[tuple[str, str], Fault]:
    where, reason, times, last, said = document
    name = str(reason).upper()
    return (str(where), name), Fault(Reason[name], int(times), datetime.fromisoformat(last), str(said))


def _leaving(document: Any) -> Leaving:
    access_point, network, mac, since, told = document
    at = datetime.fromisoformat(since)
    return Leaving(str(access_point), str(network), MacAddress.parse(mac), at, Told[str(told).upper()])


def _moments(document: Mapping[str, str]) -> dict[str, datetime]:
    return {str(name): datetime.fromisoformat(at) for name, at in document.items()}
