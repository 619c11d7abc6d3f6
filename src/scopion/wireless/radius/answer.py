"""What became of a question, and why: the values of the log, of its file, and of what is told about them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import Any

from scopion.model.mac import MacAddress
from scopion.roster.store.stored_values import as_written


class Outcome(StrEnum):
    """What an access point was told."""

    ACCEPTED = "accepted"
    OTHER_VLAN = "other VLAN"  # accepted, into the VLAN of devices that are on no list
    REJECTED = "rejected"
    NO_ANSWER = "no answer"  # it has to look as if nothing had been heard (RFC 2865, 3)


class Reason(StrEnum):
    """Why, in a sentence that goes on after the outcome."""

    ALLOWED = "it is on the allow list"
    NOT_DENIED = "it is not on the deny list"
    LIST_OFF = "the list is switched off"
    NOTHING_PUBLISHED = "no list was pushed yet"
    NOT_ALLOWED = "it is on no allow list"
    DENIED = "it is on the deny list"
    HOURS = "it is outside its hours"
    OTHER_NETWORK = "the network is none of these lists"
    NO_LIST = "no list has come from the first server yet"
    NO_NETWORK = "the access point does not say which network"
    NO_MAC = "no MAC address is in it"
    TWO_MACS = "User-Name and Calling-Station-Id name different devices"
    PASSWORD = "its password is not a MAC address, the secret or empty"
    ENTERPRISE = "it asks for a person (802.1X), not for a device"
    SECRET = "its secret is another one than here"
    UNSIGNED = "it has no Message-Authenticator"
    MALFORMED = "it is not a RADIUS packet"
    STRANGER = "no access point of these lists has this address"
    KIND = "it is another kind of packet"
    BUSY = "too many came at once"


# What a person has to mend; all others are the list at work.
FAULTS = frozenset(
    {
        Reason.OTHER_NETWORK,
        Reason.NO_LIST,
        Reason.NO_NETWORK,
        Reason.NO_MAC,
        Reason.TWO_MACS,
        Reason.PASSWORD,
        Reason.ENTERPRISE,
        Reason.SECRET,
        Reason.UNSIGNED,
        Reason.MALFORMED,
        Reason.STRANGER,
        Reason.BUSY,
    }
)
ADVICE: Mapping[Reason, str] = {
    Reason.OTHER_NETWORK: "add the network to site.toml, or let the access point ask another server for it",
    Reason.NO_LIST: "let the first server send it, or carry it: scopion wifi radius export there, take here",
    Reason.NO_NETWORK: "set says_network = false if it asks for one network only",
    Reason.NO_MAC: "set user_name to how it writes the device, or to an empty text",
    Reason.PASSWORD: "set password to the one that its page wants",
    Reason.ENTERPRISE: "set the network to WPA with a passphrase, and MAC authentication beside it",
    Reason.SECRET: "type the same secret on both sides: scopion wifi radius has it as a step",
    Reason.UNSIGNED: "update its software; signs = false takes it all the same, at a price: docs/formats.md has it",
    Reason.STRANGER: "if it is an access point of yours, give it an [[enforcer.access_point]] in site.toml",
}


@dataclass(frozen=True, slots=True)
class Answer:
    """One question, and what became of it."""

    at: datetime
    source: str  # the address that it came from
    outcome: Outcome
    reason: Reason
    access_point: str = ""  # its name in site.toml; empty: it is not known
    network: str = ""
    mac: MacAddress | None = None
    session_s: int | None = None  # after so many seconds the device is to go, or to be asked about again
    test: bool = False  # it was asked by ``scopion wifi radius test``
    said: str = ""  # what it named, where that is the fault
    ends: bool = False  # the device is not admitted any longer then


def answer_document(answer: Answer) -> dict[str, Any]:
    """Return it as JSON, without what is empty."""
    document = {
        "at": answer.at.isoformat(timespec="milliseconds"),
        "source": answer.source,
        "outcome": str(answer.outcome),
        "reason": answer.reason.name.lower(),
        "access_point": answer.access_point,
        "network": answer.network,
        "mac": str(answer.mac) if answer.mac is not None else "",
        "session_s": answer.session_s,
        "test": answer.test,
        "said": answer.said,
        "ends": answer.ends,
    }
    return {key: value for key, value in document.items() if value not in ("", None, False)}


@as_written("an answer by RADIUS")
def read_answer(document: Mapping[str, Any]) -> Answer:
    """Return an answer that was kept."""
    seconds = document.get("session_s")
    return Answer(
        datetime.fromisoformat(document["at"]),
        str(document["source"]),
        Outcome(document["outcome"]),
        Reason[str(document["reason"]).upper()],
        str(document.get("access_point", "")),
        str(document.get("network", "")),
        MacAddress.parse(document["mac"]) if "mac" in document else None,
        int(seconds) if seconds is not None else None,
        bool(document.get("test", False)),
        str(document.get("said", "")),
        bool(document.get("ends", False)),
    )
