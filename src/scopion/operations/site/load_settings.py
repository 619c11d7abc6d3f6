"""Reads and checks ``site.toml``: a mistake is told with file, line and key.

Pydantic is imported only when there is something to read. A new site gets the commented ``site-template.toml``.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from scopion.alerts.alert_settings import TERMINAL, unknown_channel
from scopion.alerts.channels.registry import channel_types, type_of
from scopion.model.errors import InvalidSettings
from scopion.model.text import clean, controls, joined
from scopion.model.toml_text import parse_toml
from scopion.operations.folder import find_folder as folders
from scopion.operations.site.site_settings import Settings
from scopion.wireless.enforcer_settings import enforcer_problem
from scopion.wireless.enforcers.registry import enforcer_types
from scopion.wireless.radius.radius_settings import radius_problem

if TYPE_CHECKING:
    from pydantic import TypeAdapter

_T = TypeVar("_T")
FILE = folders.SETTINGS
TEMPLATE = Path(__file__).parent / "site-template.toml"


def load_settings(folder: Path) -> Settings:
    """Return the settings of a site's folder, the defaults if it has none. Raises InvalidSettings."""
    path = folder / FILE
    text = text_of(path)
    return read_settings(path, text) if text is not None else Settings()


def read_settings(path: Path, text: str) -> Settings:
    """Return the settings that a text means; ``path`` names it in what is wrong. Raises InvalidSettings."""
    document = document_of(path, text)
    # A new site's file has headings and no setting: nothing to validate, and no need to load what validates.
    return _validated(path, text, document) if any(document.values()) else Settings()


def text_of(path: Path) -> str | None:
    """Return the text of a file of settings; None if it is not there. Raises InvalidSettings."""
    try:
        return path.read_text(encoding="utf-8")
    except (FileNotFoundError, NotADirectoryError):
        return None
    except OSError as error:
        raise InvalidSettings(f"{path} cannot be read: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise InvalidSettings(f"{path} is not UTF-8 text at byte {error.start}") from None


def document_of(path: Path, text: str) -> dict[str, Any]:
    """Return what a file of settings has, not yet checked. Raises InvalidSettings."""
    try:
        document = parse_toml(text)
    except ValueError as error:
        raise InvalidSettings(f"{path}: {error}") from None
    if control := _control_character(document):
        raise InvalidSettings(f"{_place(path, text, control)}: a control character stands in it: no setting has one")
    return document


def checked(reads: TypeAdapter[_T], path: Path, text: str, document: dict[str, Any]) -> _T:
    """Return a document as settings. Raises InvalidSettings for the first mistake, with its line and how many more."""
    from pydantic import ValidationError

    try:
        return reads.validate_python(document)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        more = error.error_count() - 1
        also = f" (and {more} more)" if more else ""
        where = _place(path, text, _written_location(first["loc"]))
        raise InvalidSettings(f"{where}: {_said(first)}{also}") from None


@cache
def adapter() -> TypeAdapter[Settings]:
    """Return what reads a document into settings; making it takes a tenth of a second."""
    from pydantic import TypeAdapter

    return TypeAdapter(Settings)


def _validated(path: Path, text: str, document: dict[str, Any]) -> Settings:
    settings = checked(adapter(), path, text, document)
    problems = (
        _place_problem(settings),
        _channel_problem(settings),
        unknown_channel(settings.channel, settings.report.channels, "the weekly report"),
        unknown_channel(settings.channel, settings.remind.channels, "what [remind] is about"),
        enforcer_problem(settings.enforcer),
        radius_problem(settings.enforcer),
        _via_problem(settings),
        _switch_problem(settings),
    )
    if problem := next(filter(None, problems), ""):
        raise InvalidSettings(f"{path}: {problem}")
    return settings


def _switch_problem(settings: Settings) -> str:
    """Return what does not fit together among switches, meters and limits; empty if all does."""
    names = [each.name.casefold() for each in settings.switch]
    twice = next((each.name for each in settings.switch if names.count(each.name.casefold()) > 1), None)
    if twice is not None:
        return f"two switches are called {twice!r}: give each a name of its own"
    meters = [each.name.casefold() for each in settings.meter]
    twice = next((each.name for each in settings.meter if meters.count(each.name.casefold()) > 1), None)
    if twice is not None:
        return f"two meters are called {twice!r}: give each a name of its own"
    if any(each.mb is None and each.times is None for each in settings.much):
        return "a [[much]] says neither mb nor times: when does a device use too much"
    return ""


def _via_problem(settings: Settings) -> str:
    """Return which enforcer says a sensor that is not enrolled; empty if none does."""
    names = [each.name for each in settings.sensor]
    wrong = next((each for each in settings.enforcer if each.via and each.via not in names), None)
    if wrong is None:
        return ""
    there = f"those are {joined(names)}" if names else "scopion sensor enrol makes one"
    return f"the enforcer {wrong.name!r} is reached via {wrong.via!r}, which is no sensor: {there}"


def _place_problem(settings: Settings) -> str:
    """Return what does not fit together among places; empty if all does."""
    written: dict[str, str] = {}
    others = [*(each.place for each in settings.subnet), *(each.place for each in settings.sensor)]
    for name in (settings.place, *others):
        if name and written.setdefault(name.casefold(), name) != name:
            return f"the place {name!r} is written {written[name.casefold()]!r} elsewhere: write it always the same"
    if not settings.place and written:
        return (
            'it names other places, and this machine\'s place has no name: write place = "shop" at the top, with its '
            "own name"
        )
    for what, values in (
        ("two sensors are called {!r}: give each a name of its own", [each.name for each in settings.sensor]),
        ("two sensors report about {!r}: each place has one", [each.place for each in settings.sensor]),
    ):
        twice = next((each for each in values if values.count(each) > 1), None)
        if twice is not None:
            return what.format(twice)
    if settings.place and settings.place in [each.place for each in settings.sensor]:
        return f"the place {settings.place!r} is this machine's own, which needs no sensor"
    if settings.sensor and settings.broker is None:
        return "it names sensors and no broker by which they report: write [broker]"
    return ""


def _channel_problem(settings: Settings) -> str:
    """Return what does not fit together among channels and rules; empty if all does."""
    names = [each.name for each in settings.channel]
    for each in settings.channel:
        if names.count(each.name) > 1:
            return f"two channels are called {each.name!r}: give each a name of its own"
        if problem := type_of(each).lacks(each):
            return f"channel {each.name!r} {problem}"
    for number, rule in enumerate(settings.rule, 1):
        if problem := unknown_channel(settings.channel, rule.channels, f"rule {number}", TERMINAL.name):
            return problem
        second = (rule.second,) if rule.second is not None else ()
        if problem := unknown_channel(settings.channel, second, f"the second way of rule {number}"):
            return problem
    return ""


def _place(path: Path, text: str, location: Sequence[int | str]) -> str:
    """Return the file, the line and the key of a setting, as messages name it."""
    key = ".".join(str(part + 1) if isinstance(part, int) else clean(part, 80) for part in location)
    line = line_of(text, location)
    return f"{path}, line {line}: {key}" if line else f"{path}: {key}"


def _control_character(value: Any, location: tuple[int | str, ...] = ()) -> tuple[int | str, ...] | None:
    """Return where a document has a text or key with a control character that no line may have; None: nowhere."""
    if isinstance(value, str):
        # The body of a webhook is a template, of several lines if need be, and is no part of any other syntax.
        lines = location[:1] == ("channel",) and location[-1:] == ("body",)
        return location if controls(re.sub(r"[\r\n\t]", "", value) if lines else value) else None
    if isinstance(value, dict):
        for key, each in value.items():
            found = (*location, key) if controls(key) else _control_character(each, (*location, key))
            if found:
                return found
    elif isinstance(value, list):
        for number, each in enumerate(value):
            if found := _control_character(each, (*location, number)):
                return found
    return None


def _written_location(location: tuple[int | str, ...]) -> tuple[int | str, ...]:
    """Return the location in the file: without the type by which a channel's class was chosen."""
    return location[:2] + location[3:] if location[0] in ("channel", "enforcer") else location


# What a wrong text should have been, by the setting; all others of this kind are secrets.
_EXPECTED = {
    ("dhcp_pool", "reserved"): "write ranges as 192.0.2.100-192.0.2.199, not {given!r}",
    ("place", "places"): "{given!r} is not the name of a place: up to 40 characters, none of @ / + # , and ;",
    ("timezone",): "{given!r} is not a time zone: write it as Europe/Lisbon",
    ("hours", "night"): "write hours as 22:00-06:30, or mon-fri 08:00-18:00, not {given!r}",
    ("digest_at",): "write a time of day as 08:00, not {given!r}",
    ("to", "sender"): "{given!r} is not a mail address: write it as owner@kilnhaven.example, without a name",
    ("name", "channels"): "{given!r} is not a name: letters, digits, - and _",
    (
        "socket",
        "accept_file",
        "deny_file",
        "config",
    ): "{given!r} is not a path from the root, as /run/hostapd/wlan0",
    ("interface",): "{given!r} is not an interface's name",
    ("weekly",): "write a weekday and a time as monday 07:00, not {given!r}",
    ("content_type",): "{given!r} is not a media type: write it as text/plain",
    ("bands",): "write each band once, not {given!r}",
    ("user_name",): "{given!r} does not say where the device stands: write it as {{mac}}, or cafe-{{mac}}",
    ("page",): "{given!r} is not the address of a page: write 203.0.113.1, router.example or http://router/",
}


def _said(error: Any) -> str:
    if error["type"] == "predicate_failed":
        if error["loc"][0] == "switch" and error["loc"][-1] == "name":
            return f"{error.get('input')!r} is not the name of a switch: up to 60 characters, none of them /"
        fitting = [said for keys, said in _EXPECTED.items() if {*keys} & {*error["loc"]}]
        secret = (
            'a secret does not stand here: write "env:NAME" for a variable of the environment, "file:PATH", '
            'or "credential:NAME" for one that the service manager hands over'
        )
        return fitting[0].format(given=error.get("input")) if fitting else secret
    if error["type"] in ("unexpected_keyword_argument", "extra_forbidden", "none_required"):
        return "there is no such setting; the commented file of a new site lists all"
    if error["type"] in ("union_tag_invalid", "union_tag_not_found"):
        given = error.get("ctx", {}).get("tag")
        known = enforcer_types() if error["loc"][0] == "enforcer" else channel_types()
        types = joined([each.name for each in known], "or")
        return f"there is no type {given!r}: {types}" if given else f"it needs a type: {types}"
    if error["type"] == "string_type":  # never shown: a number may be a password
        return "a text is needed: write it in quotes"
    message = str(error["msg"])
    given = error.get("input")
    said = message[0].lower() + message[1:]
    return said if isinstance(given, dict | list) else f"{said}, not {given!r}"


def line_of(text: str, location: Sequence[int | str]) -> int | None:
    """Return the line of a key, given as the parts of its path; its table's line if the key is missing."""
    wanted = [part for part in location if isinstance(part, str)]
    nth = next((part for part in location if isinstance(part, int)), 0)
    table: list[str] = []
    seen = -1
    best: int | None = None
    for number, line in enumerate(text.splitlines(), 1):
        if heading := re.match(r"\s*\[(\[?)([^\]]+)\]", line):
            table = [part.strip().strip("\"'") for part in heading[2].split(".")]
            seen += 1 if heading[1] and table == wanted[: len(table)] else 0
            if table == wanted[: len(table)] and (not heading[1] or seen == nth):
                best = number
        elif assignment := re.match(r"\s*([\w.\"'-]+)\s*=", line):
            path = table + [part.strip("\"'") for part in assignment[1].split(".")]
            if path == wanted[: len(path)] and (seen == nth or seen < 0 or not table):
                return number
    return best
