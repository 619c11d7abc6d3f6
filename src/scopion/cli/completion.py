"""What bash, which knows less of words than other shells, needs to complete labels with blanks and MAC addresses.

Bash takes a colon for the end of a word, and inserts what it is offered as it stands. So the line is read here as it
was typed, and each candidate is offered quoted, without what bash takes for earlier words. Only completion needs this.
"""

from __future__ import annotations

import os
import re

from click.shell_completion import BashComplete, CompletionItem, add_completion_class, split_arg_string

_SOURCE = """\
%(complete_func)s() {
    local response type value
    response=$(env COMP_LINE="$COMP_LINE" COMP_POINT="$COMP_POINT" COMP_WORDBREAKS="$COMP_WORDBREAKS" \\
        %(complete_var)s=bash_complete "$1")
    COMPREPLY=()
    while IFS=, read -r type value; do
        case $type in
            dir) compopt -o dirnames ;;
            file) compopt -o default ;;
            plain) COMPREPLY+=("$value") ;;
        esac
    done <<< "$response"
}
complete -o nosort -F %(complete_func)s %(prog_name)s
"""
# What no shell takes for anything but itself.
_PLAIN = re.compile(r"[\w./:@%+=,-]", re.ASCII)
_IN_DOUBLE = re.compile(r'[\\"$`!]')


class Bash(BashComplete):
    """Completion for bash 4.4 and later."""

    source_template = _SOURCE

    def get_completion_args(self) -> tuple[list[str], str]:
        """The whole words before the cursor, and the one that is being typed."""
        line = _line()
        words = split_arg_string(line)
        if not _current(line):
            return words[1:], ""
        return words[1:-1], words[-1]

    def format_completion(self, item: CompletionItem) -> str:
        """A candidate as bash is to insert it, in one line."""
        typed = _current(_line())
        quote = typed[0] if typed[:1] in ("'", '"') else ""
        value = " ".join(item.value.splitlines())
        offered = quoted(value, quote)
        breaks = os.environ.get("COMP_WORDBREAKS", ":")
        at = typed.rfind(":") + 1 if ":" in breaks and not quote else 0
        # Only as far as both agree: what was typed in another case is replaced as a whole where it can be.
        return f"{item.type},{offered[at:] if offered[:at].casefold() == typed[:at].casefold() else offered}"


def quoted(text: str, quote: str = "") -> str:
    """A text as bash takes it for itself: behind an opening quote, or with a backslash before what is special."""
    if quote == "'":
        return text.replace("'", "'\\''")
    if quote == '"':
        return _IN_DOUBLE.sub(r"\\\g<0>", text)
    return "".join(each if _PLAIN.match(each) or each.isalnum() else f"\\{each}" for each in text)


def _line() -> str:
    """The line up to the cursor; bash counts octets."""
    line = os.environ.get("COMP_LINE", "").encode("utf-8", "surrogateescape")
    point = os.environ.get("COMP_POINT", "")
    return line[: int(point) if point.isdecimal() else None].decode("utf-8", "replace")


def _current(line: str) -> str:
    """The word that is being typed, as it stands: with its quote and backslashes; empty after a blank."""
    start, quote, escaped = 0, "", False
    for at, each in enumerate(line):
        if escaped:
            escaped = False
        elif quote:
            quote = "" if each == quote else quote
            escaped = each == "\\" and quote == '"'
        elif each == "\\":
            escaped = True
        elif each in "'\"":
            quote = each
        elif each.isspace():
            start = at + 1
    return line[start:]


def register() -> None:
    """Let Click use this for bash."""
    add_completion_class(Bash)
