"""Which jobs an enforcer ever asks for: a sensor does these for its settings, and no other, whatever it is ordered."""

from __future__ import annotations

import json
import re
from typing import Any

from scopion.attachment.ports import Control, EveryStation, Job, Program, ReadFile, ReadLog, WriteFile
from scopion.wireless.enforcer_settings import HostapdSettings, NftablesSettings, UciSettings
from scopion.wireless.enforcers.bridge import table_name
from scopion.wireless.refused_attempts import WORDS

_MAC = r"[0-9a-f]{2}(:[0-9a-f]{2}){5}"
_COMMANDS = re.compile(
    rf"STATUS|GET_CONFIG|(ACCEPT|DENY)_ACL (SHOW|(ADD|DEL)_MAC {_MAC})|SET macaddr_acl [01]|DEAUTHENTICATE {_MAC}"
)
_KINDS = ("table", "chain", "set", "rule")


def of_hostapd(settings: HostapdSettings, job: Job) -> bool:
    """Tell whether it is about a socket or a file of the settings, and a command of ours."""
    radios = settings.radio.values()
    if isinstance(job, Control):
        return job.socket in {each.socket for each in radios} and bool(_COMMANDS.fullmatch(job.command))
    if isinstance(job, EveryStation):
        return job.socket in {each.socket for each in radios}
    if isinstance(job, ReadFile | WriteFile):
        return job.path in {path for each in radios for path in (each.accept_file, each.deny_file, each.config) if path}
    return isinstance(job, ReadLog) and job.words == WORDS


def of_nftables(settings: NftablesSettings, job: Job) -> bool:
    """Tell whether it asks about an interface of the settings, or is about our own table of the bridge family."""
    if not isinstance(job, Program):
        return False
    table = table_name(settings.name)
    links = [("ip", "-j", "-d", "link", "show", "dev", each.interface) for each in settings.radio.values()]
    if job.command in (*links, ("nft", "-j", "list", "table", "bridge", table)):
        return not job.stdin
    return job.command == ("nft", "-j", "-f", "-") and _is_about(table, job.stdin)


def of_uci(settings: UciSettings, job: Job) -> bool:
    """Tell whether it is about the file of the settings, or their command that puts it in force."""
    if isinstance(job, Program):
        return bool(settings.reload) and job.command == tuple(settings.reload) and not job.stdin
    return isinstance(job, ReadFile | WriteFile) and job.path == settings.file


def _is_about(table: str, ruleset: str) -> bool:
    """Tell whether all commands of a ruleset (libnftables-json(5)) add to a table, or delete it whole."""
    try:
        commands: Any = json.loads(ruleset)["nftables"]
        return isinstance(commands, list) and all(_is_on(table, each) for each in commands)
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return False


def _is_on(table: str, command: Any) -> bool:
    ((verb, what),) = command.items()
    ((kind, thing),) = what.items()
    own = thing["family"] == "bridge" and thing["name" if kind == "table" else "table"] == table
    return own and kind in _KINDS and (verb == "add" or (verb, kind) == ("delete", "table"))
