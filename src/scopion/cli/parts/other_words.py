"""Words that people type for commands of other names, each with the command that does it.

A word that several commands might do names the one that a person tries first. ``%`` stands for ``scopion``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

_ANYWHERE = {
    "% await": "wait appear",
    "% scan": "discover sweep probe arp ping hosts explore",
    "% scan --method listen": "listen sniff",
    "% here": "ip ifconfig interfaces interface ip-address network whereami subnet gateway router",
    "% spare": "free available unused",
    "% vendor MAC": "oui mac manufacturer maker lookup whois",
    "% map": "grid addresses",
    "% devices": "list ls who all inventory find search filter connected online present computers phones",
    "% show DEVICE": "info details describe identify view",
    "% label DEVICE NAME": "name rename tag alias nickname note comment owner edit",
    "% mark DEVICE known": "trust approve accept known",
    "% mark DEVICE guest --until DATE": "guest visitor",
    "% mark DEVICE unwanted": "unwanted stranger suspicious distrust",
    "% review": "unknown new unreviewed pending",
    "% same DEVICE DEVICE": "merge join link combine",
    "% forget DEVICE": "delete remove rm del erase",
    "% events": "log logs history timeline journal",
    "% changes": "diff delta compare-scans since",
    "% undo": "back rollback reset",
    "% import FILE": "load leases",
    "% export FILE": "save write dump csv",
    "% export --site FILE": "backup archive",
    "% roster": "database db sqlite",
    "% roster restore": "restore recover",
    "% where DEVICE": "locate socket port cable jack wall switch",
    "% usage": "traffic bandwidth top talkers slow speed throughput",
    "% rescue": "locked locked-out lockout stuck sos emergency",
    "% roster compact": "compact vacuum shrink clean cleanup prune",
    "% watch": "monitor daemon run start live",
    "% service install": "install autostart systemd boot",
    "% service remove": "uninstall stop",
    "% alerts": "alert notifications notify notification mail email messages",
    "% alerts test CHANNEL": "test-mail test-alert",
    "% alerts mute DEVICE": "mute silence snooze ignore quiet",
    "% status": "health ok state check doctor diagnose",
    "% report": "summary stats statistics weekly overview",
    "% block DEVICE": "ban kick disconnect refuse lock kill cut blacklist blocklist kick-out throw-out deny-device",
    "% block DEVICE --for 2h": "pause timeout suspend",
    "% block DEVICE --hours HOURS": "bedtime parental night",
    "% unblock DEVICE": "unlock unban readmit release resume permit admit",
    "% wifi stations": "stations clients wireless associated signal",
    "% wifi allow SSID DEVICE": "allow whitelist allowlist",
    "% wifi deny SSID DEVICE": "deny denylist",
    "% wifi drop SSID DEVICE": "drop",
    "% wifi entries": "entries blocked denied refused lists",
    "% wifi mode SSID": "mode",
    "% wifi hours DEVICE": "hours schedule times",
    "% wifi timetable": "timetable timetables",
    "% wifi ssids": "ssid ssids wlan networks wifis",
    "% wifi preview SSID": "preview dry-run plan",
    "% wifi push SSID": "push apply sync send deploy",
    "% wifi verify SSID": "verify works proof",
    "% wifi revert SSID": "revert",
    "% wifi sheet SSID": "sheet print instructions steps",
    "% wifi done SSID": "done typed",
    "% wifi audit": "audit security secure harden",
    "% wifi passphrase": "passphrase password passwd key psk",
    "% setup": "init configure config settings begin first wizard",
    "% demo": "example tutorial sample try tour",
    "% --help": "help man commands",
    "% --version": "version",
}  # fmt: skip
_ADDRESS = re.compile(r"\d+(\.\d+){3}|([0-9a-f]{2}[:-]){5}[0-9a-f]{2}|([0-9a-f]{4}\.){2}[0-9a-f]{4}")
_RANGE = re.compile(r"\d+(\.\d+){3}/\d+")
# What a word means below a family of its own.
_BELOW = {
    "wifi": {
        "% wifi ssids": "list ls show",
        "% wifi stations": "who",
        "% wifi drop SSID DEVICE": "remove delete rm forget",
        "% wifi entries": "devices",
        "% wifi push SSID": "set update",
    },
    "alerts": {
        "% alerts add": "new create set setup channel channels",
        "% alerts remove CHANNEL": "delete rm drop",
        "% alerts list": "ls all log history",
        "% alerts mute DEVICE": "ignore",
        "% alerts retry": "resend again send",
        "% alerts test CHANNEL": "try",
        "% alerts learning": "learn",
    },
    "roster": {"% roster check": "verify status test", "% roster restore": "copies backups list"},
    "service": {"% service unit": "show print", "% service install": "start enable", "% service remove": "disable"},
}


def meant_by(path: str, word: str, commands: Sequence[str], everywhere: Sequence[str]) -> str:
    """Return the command that is meant by a word below ``path`` (``scopion wifi``); empty if none is known.

    ``commands`` are those below it, ``everywhere`` those of the program: one may be mistyped, or of another family.
    """
    from difflib import get_close_matches

    typed = word.casefold()
    if _RANGE.fullmatch(typed):
        return f"scopion scan {word}"
    if _ADDRESS.fullmatch(typed):
        return f"scopion show {word}"
    own = {f"% {each}": each for each in everywhere}  # a command of its own, typed below a family
    for table in (_BELOW.get(path.partition(" ")[2], {}), own, _ANYWHERE):
        for command, words in table.items():
            if typed in words.split():
                return command.replace("%", "scopion")
    return next((f"{path} {near}" for near in get_close_matches(typed, commands, 1, 0.7)), "")


def every_word() -> dict[tuple[str, str], str]:
    """Return each word by the family below which it is typed (empty: none), with its command."""
    found = {("", word): command for command, words in _ANYWHERE.items() for word in words.split()}
    for family, table in _BELOW.items():
        found |= {(family, word): command for command, words in table.items() for word in words.split()}
    return {each: command.replace("%", "scopion") for each, command in found.items()}
