"""Two hundred names that devices, networks and people could have, each of which would do something somewhere.

Shared by the tests of outputs and by the long attack. Each has a tag, so that it can be found again in what comes out.
"""

from __future__ import annotations

from itertools import islice, product

_ESCAPES = (
    "\x1b[2J", "\x1b[35m", "\x1b[8m", "\x1b]0;title\x07", "\x1b]52;c;b3duZWQ=\x07",
    "\x1b]8;;https://kilnhaven.example\x1b\\x",
    "\x1bP+q544e\x1b\\", "\x1bc", "\x1b[?1049h", "\x1b[6n", "\x9b2J", "\x9d52;c;eA==\x9c", "\x90x\x9c", "\x85",
    "\x08\x08\x08",
    "\x07", "\x00", "\x0e", "\x7f", "\x1b",
)  # fmt: skip
_DIRECTIONS = (
    "\u202e", "\u202d", "\u2066", "\u2067", "\u2068", "\u2069", "\u200f", "\u200e", "\u061c", "\u202a", "\u202b",
    "\u202c",
    "\u2028", "\u2029", "\u200b", "\ufeff", "\U000e0041", "\U000e007f", "\ufffb",
)  # fmt: skip
_LINES = ("\n", "\r", "\r\n", "\t", "\x0b", "\x0c", "\x1c", "\x1e")
_FORMULAS = (
    "=1+1",
    "+1",
    "-1",
    "@SUM(1)",
    "\t=1",
    "\r=1",
    "\uff1d1",
    "\uff0b1",
    "\uff0d1",
    "\uff201",
    '=HYPERLINK("x")',
    "=cmd|' /C x'!A0",
)
_SHELLS = (
    "$(id)", "`id`", "; id", "| id", "&& id", "> /tmp/x", "$HOME", "!!", "'; id; '", '"; id; "', "\\", "*",
    "~root", "--yes",
    "-rf", "#x", "{a,b}", "<(id)",
)  # fmt: skip
_HEADERS = (
    "x\r\nBcc: y@kilnhaven.example",
    "x\nSubject: y",
    "x\r\n\r\nbody",
    "=?utf-8?q?x?=",
    "<y@kilnhaven.example>",
    "a,b@kilnhaven.example",
)
_SYNTAXES = (
    "<script>x</script>", "<img src=x onerror=x>", '" onload="x', "' onload='x", "</title>", "]]>", "&lt;",
    "{{ 7 * 7 }}",
    "{% raw %}", "%n%s", "[x](javascript:x)", "option macfilter 'allow'", "' option disabled '1",
    "ssid=x\nignore_broadcast=1",
    "} chain x { accept", "accept; drop", '"; flush ruleset; "', "dhcp-host=x,ignore", "x,192.0.2.1,infinite",
    "1.2.3.4 evil",
    'x" }\n[[channel]]', "[Service]\nExecStart=x", "%h", '"key="value"]', "\\n", "x]y\\", 'a"b', "=", ":", ",",
)  # fmt: skip
_FORMS = ("{0}", "till {0}", "{0} till", "a{0}b{0}c")


def hostile_names(count: int = 200) -> list[str]:
    """So many names, each with a tag of its own at its end: ``~7~``."""
    pieces = (*_ESCAPES, *_DIRECTIONS, *_LINES, *_FORMULAS, *_SHELLS, *_HEADERS, *_SYNTAXES)
    made = (form.format(piece) for form, piece in product(_FORMS, pieces) if not (form == "{0}" and not piece.strip()))
    return [f"{text}~{number}~" for number, text in enumerate(islice(made, count))]
