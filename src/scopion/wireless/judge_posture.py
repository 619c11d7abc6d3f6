"""Judges the posture of wireless networks: graded findings, each with what to do; proposes passphrases.

The strength of a passphrase is the number of guesses it takes (zxcvbn's estimate). An attacker who has recorded one
association of WPA2 can guess on his own machines, about a million times a second on one good graphics card.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum

from scopion.model.band import spoken_bands
from scopion.model.clock import spoken_span
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.posture import Encryption, Posture

# Powers of ten of guesses: three hours on such a card, and three years.
WEAK, STRONG = 10.0, 14.0
_DEFAULT_LOOKING = re.compile(
    r"(?:default|wire?less|wi-?fi|wlan|router|home|internet|setup|dlink|fritz)?[-_ ]?(?:2[.,]?4|5)?g?h?z?[-_ ]?"
    r"(?:[0-9a-f]{4,12}|\d{3,12})?",
    re.I,
)
_PERSONAL = re.compile(r"\b(?:family|familie|famille|familia|flat|apartment|house|street|room)\b|@|\d{7,}", re.I)

# The syllables of passphrases that are typed on a television. Left out: letters that are misread or misheard (c/k,
# i/l/j, q, w/v, x, y), or move on foreign keyboards (y, z).
_CONSONANTS = "bdfghkmnprst"
_VOWELS = "aeiou"
_SYLLABLES = 12  # of 60 each: 71 bits, more than the estimator asks for
_GROUP = 2


class Grade(StrEnum):
    """How bad it is."""

    HIGH = "high"
    MEDIUM = "medium"
    LOW = "low"
    FINE = "fine"
    UNKNOWN = "unknown"


ORDER = (Grade.HIGH, Grade.MEDIUM, Grade.LOW, Grade.UNKNOWN, Grade.FINE)
# The older a passphrase, the more people have it who should not: each age is worse than the next.
_PASSPHRASE_AGES = (
    (timedelta(days=3 * 365), Grade.MEDIUM),
    (timedelta(days=365), Grade.LOW),
)


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that was judged."""

    grade: Grade
    where: str
    about: str
    says: str
    do: str = ""


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What else matters for judging a network."""

    mode: ListMode  # of the site's own list
    entries: int
    unpushed: tuple[str, ...] = ()  # radios that carry the network and hold no list of ours
    names: Collection[str] = ()  # of people who live or work here
    makers: Collection[str] = ()  # of the routers


def judge(posture: Posture, around: Surroundings) -> list[Finding]:
    """Return all findings about a network on one radio."""
    found = [
        *_encryption(posture),
        *_protection(posture),
        *_wps(posture),
        *_passphrase(posture),
        *_name(posture, around),
        *_lists(posture, around),
        *_socket(posture),
    ]
    return sorted(found, key=_rank)


def judge_other(posture: Posture) -> list[Finding]:
    """Return findings about another network that the same access point carries: how it is protected, if at all."""
    found = [*_encryption(posture), *_wps(posture), *_passphrase(posture)]
    worst = sorted((each for each in found if each.grade not in (Grade.FINE, Grade.UNKNOWN)), key=_rank)
    named = repr(posture.ssid) if posture.ssid else "a network without a name"
    if not worst:
        known = found[0] if found else None
        says = known.says if known and known.grade is Grade.FINE else "its encryption is not known"
        grade = known.grade if known else Grade.UNKNOWN
        return [Finding(grade, posture.where, "other network", f"{named}: {says}")]
    return [
        Finding(each.grade, posture.where, "other network", f"{named}: {each.about} {each.says}", each.do)
        for each in worst
    ]


def _rank(finding: Finding) -> int:
    return ORDER.index(finding.grade)


def judge_answers(ssid: str, answers: Mapping[str, tuple[str, date]], today: date) -> list[Finding]:
    """Return findings about what only people know, with the day on which they said it."""
    found = []
    said = answers.get("admin-password")
    if said is None:
        do = "say so: scopion wifi audit SSID --admin-password changed"
        found.append(Finding(Grade.UNKNOWN, ssid, "router's password", "it is not known whether it was changed", do))
    elif said[0] == "changed":
        says = f"not the one that the router came with (you said so on {said[1].isoformat()})"
        found.append(Finding(Grade.FINE, ssid, "router's password", says))
    else:
        do = "change it on the router's page: anyone on the network can log in with the password of the manual"
        found.append(Finding(Grade.HIGH, ssid, "router's password", "still the one that the router came with", do))
    changed = answers.get("passphrase-changed")
    if changed is None:
        do = "say so: scopion wifi audit SSID --passphrase-changed 2026-01-31"
        found.append(Finding(Grade.UNKNOWN, ssid, "passphrase's age", "it is not known when it was changed last", do))
    else:
        on = date.fromisoformat(changed[0])
        age = today - on
        grade = next((grade for least, grade in _PASSPHRASE_AGES if age > least), Grade.FINE)
        says = f"changed last on {on.isoformat()}, {spoken_span(age)} ago" if age.days else "changed today"
        do = "change it: people who no longer need it still know it (scopion wifi passphrase)"
        found.append(Finding(grade, ssid, "passphrase's age", says, do if grade is not Grade.FINE else ""))
    return found


def _encryption(posture: Posture) -> list[Finding]:
    where, kinds = posture.where, posture.encryption
    if kinds is None:
        return [Finding(Grade.UNKNOWN, where, "encryption", "not known")]
    if Encryption.OPEN in kinds:
        do = "switch on WPA2 or WPA3 with a strong passphrase (scopion wifi passphrase); a list protects nothing here"
        return [Finding(Grade.HIGH, where, "encryption", "none: anyone nearby can read and join", do)]
    if Encryption.WEP in kinds:
        return [Finding(Grade.HIGH, where, "encryption", "WEP, broken within minutes", "switch to WPA2 or WPA3")]
    if Encryption.WPA1 in kinds:
        also = " beside WPA2" if Encryption.WPA2 in kinds else ""
        do = "allow WPA2 and WPA3 only; replace devices that cannot do that"
        return [Finding(Grade.HIGH, where, "encryption", f"WPA1{also}, obsolete and attackable", do)]
    if posture.tkip:
        return [Finding(Grade.HIGH, where, "encryption", "TKIP is offered, obsolete and attackable", "offer CCMP only")]
    if kinds == {Encryption.OWE}:
        return [Finding(Grade.LOW, where, "encryption", "encrypted without a passphrase: anyone can join")]
    said = {
        frozenset({Encryption.WPA3}): "WPA3",
        frozenset({Encryption.WPA2, Encryption.WPA3}): "WPA2 and WPA3",
    }.get(kinds)
    if said:
        return [Finding(Grade.FINE, where, "encryption", said)]
    kind = "WPA2 with a password for each person" if posture.enterprise else "WPA2, sound with a strong passphrase"
    do = "" if posture.enterprise else "WPA2/WPA3 mixed, where the router has it, protects newer devices better"
    return [Finding(Grade.FINE, where, "encryption", kind, do)]


def _protection(posture: Posture) -> list[Finding]:
    encrypted = posture.encryption and not posture.encryption & {Encryption.OPEN, Encryption.WEP}
    if not encrypted or posture.frame_protection is None:
        return []
    if posture.frame_protection == "off":
        says = "management frames are not protected: anyone nearby can disconnect devices"
        do = "set protected management frames to optional, or to required where every device can do it"
        return [Finding(Grade.MEDIUM, posture.where, "frame protection", says, do)]
    return [Finding(Grade.FINE, posture.where, "frame protection", posture.frame_protection)]


def _wps(posture: Posture) -> list[Finding]:
    if posture.wps is None:
        return []
    if posture.wps:
        says = "WPS is on: a PIN of a few digits, or a moment at the button, opens the network"
        return [Finding(Grade.MEDIUM, posture.where, "WPS", says, "switch it off; type the passphrase instead")]
    return [Finding(Grade.FINE, posture.where, "WPS", "off")]


def _passphrase(posture: Posture) -> list[Finding]:
    kinds = posture.encryption
    if posture.enterprise or (kinds is not None and not kinds & {Encryption.WPA1, Encryption.WPA2, Encryption.WPA3}):
        return []
    if posture.passphrase is None:
        return [Finding(Grade.UNKNOWN, posture.where, "passphrase", "not known here, so its strength was not judged")]
    power = strength(posture.passphrase, [posture.ssid])
    do = "change it: scopion wifi passphrase proposes one, and lists the devices that need it"
    if power < STRONG and kinds == frozenset({Encryption.WPA3}):
        says = f"not strong (about 10^{power:.0f} guesses), though with WPA3 each guess has to be tried on the air"
        return [Finding(Grade.LOW, posture.where, "passphrase", says, do)]
    if power < WEAK:
        says = f"weak: guessed within hours from one recorded connection (about 10^{power:.0f} guesses)"
        return [Finding(Grade.HIGH, posture.where, "passphrase", says, do)]
    if power < STRONG:
        says = f"could be guessed with effort (about 10^{power:.0f} guesses)"
        return [Finding(Grade.MEDIUM, posture.where, "passphrase", says, do)]
    return [Finding(Grade.FINE, posture.where, "passphrase", "strong")]


def _name(posture: Posture, around: Surroundings) -> list[Finding]:
    found = []
    ssid = posture.ssid
    words = {word.casefold() for word in re.findall(r"[^\W\d_]{4,}", ssid)}
    people = {word.casefold() for name in around.names for word in re.findall(r"[^\W\d_]{4,}", name)}
    makers = {word.casefold() for name in around.makers for word in re.findall(r"[^\W\d_]{4,}", name)[:1]}
    if ssid and (_DEFAULT_LOOKING.fullmatch(ssid) or words & makers):
        says = "looks like the name that the router came with, which tells strangers which router to attack"
        found.append(Finding(Grade.LOW, posture.where, "SSID", says, "give it a name of your own"))
    elif _PERSONAL.search(ssid) or words & people:
        says = "tells anyone in the street whose network this is"
        found.append(Finding(Grade.LOW, posture.where, "SSID", says, "choose a name that says nothing about you"))
    if posture.hidden:
        says = "hidden, which protects nothing: devices that know it call its name wherever they are"
        found.append(Finding(Grade.LOW, posture.where, "SSID", says, "let it be seen"))
    return found


def _lists(posture: Posture, around: Surroundings) -> list[Finding]:
    found = []
    if around.mode is ListMode.OFF:
        if around.entries:
            says = f"{around.entries} on its lists, but the mode is off: they have no effect"
            found.append(Finding(Grade.LOW, posture.where, "lists", says, "scopion wifi mode switches one on"))
        return found
    if posture.encryption is not None and Encryption.OPEN in posture.encryption:
        says = "a list on an open network only seems to protect: addresses can be read off the air and copied"
        found.append(Finding(Grade.HIGH, posture.where, "lists", says, "encrypt the network"))
    if posture.list_mode is not None and posture.list_mode is not around.mode and around.mode is ListMode.ALLOW:
        says = f"after a restart its mode would be {posture.list_mode}, not {around.mode}: then the list does nothing"
        do = "set macaddr_acl=1 in the configuration file, or let the watch push it again"
        found.append(Finding(Grade.MEDIUM, posture.where, "lists", says, do))
    if around.unpushed:
        where = spoken_bands(around.unpushed)
        says = f"no list was put on {where}, which a refused device can use"
        found.append(Finding(Grade.MEDIUM, posture.where, "lists", says, "scopion wifi push"))
    if around.mode is ListMode.DENY:
        says = "a deny list keeps out only devices that keep their address; a phone can take another one with two taps"
        found.append(Finding(Grade.LOW, posture.where, "lists", says, "change the passphrase to keep a device out"))
    return found


def _socket(posture: Posture) -> list[Finding]:
    if posture.socket_mode is None:
        return []
    mode, group = posture.socket_mode
    if mode & 0o002:
        says = "every account on the access point may change its lists and read its settings"
        do = "set ctrl_interface_group to a group of administrators"
        return [Finding(Grade.HIGH, posture.where, "control socket", says, do)]
    who = f"group {group}" if mode & 0o020 else "its owner only"
    return [Finding(Grade.FINE, posture.where, "control socket", f"open to {who}")]


def strength(passphrase: str, known: Sequence[str]) -> float:
    """Return how many guesses a passphrase takes, as a power of ten; ``known`` are words that an
    attacker tries first.
    """
    from zxcvbn import zxcvbn  # its lists of words take a while to load

    # The estimator is slow with long texts, and a passphrase has at most 63 characters.
    return float(zxcvbn(passphrase[:63], user_inputs=list(known))["guesses_log10"])


def propose_passphrase() -> str:
    """Return a new passphrase: six groups of two syllables, 29 characters (WPA takes 8 to 63)."""
    syllables = [secrets.choice(_CONSONANTS) + secrets.choice(_VOWELS) for _ in range(_SYLLABLES)]
    return "-".join("".join(syllables[at : at + _GROUP]) for at in range(0, _SYLLABLES, _GROUP))
