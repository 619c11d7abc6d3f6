"""Shell completion: candidates are quoted for each shell, so that a name stays one word. Only completion needs this
file.

Candidates come from the network, and some shells insert what they are offered as it stands: ``printer$(id)`` would run
a program. Bash and PowerShell are offered quoted names; zsh and fish quote by themselves. Bash also takes a colon for
the end of a word, so the line is read here as it was typed, and what bash takes for earlier words is left out. The
library's fish script cuts a candidate at a comma.
"""

from __future__ import annotations

import os
import re

from click.shell_completion import (
    BashComplete,
    CompletionItem,
    FishComplete,
    PowerShellComplete,
    ZshComplete,
    add_completion_class,
    split_arg_string,
)

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
_FISH_SOURCE = """\
function %(complete_func)s;
    set -l response (env %(complete_var)s=fish_complete COMP_WORDS=(commandline -cp) \
COMP_CWORD=(commandline -t) %(prog_name)s);
    for completion in $response;
        set -l parts (string split --max 1 "," -- $completion);
        switch $parts[1];
            case dir;
                __fish_complete_directories $parts[2];
            case file;
                __fish_complete_path $parts[2];
            case plain;
                echo $parts[2];
        end;
    end;
end;
complete --no-files --command %(prog_name)s --arguments "(%(complete_func)s)";
"""
# Characters that no shell treats as special.
_PLAIN = re.compile(r"[\w./:@%+=,-]", re.ASCII)
_IN_DOUBLE = re.compile(r'[\\"$`!]')


class Bash(BashComplete):
    """Completion for bash 4.4 and later."""

    source_template = _SOURCE

    def get_completion_args(self) -> tuple[list[str], str]:
        """Return the whole words before the cursor, and the one that is being typed."""
        line = _line()
        words = split_arg_string(line)
        if not _current(line):
            return words[1:], ""
        return words[1:-1], words[-1]

    def format_completion(self, item: CompletionItem) -> str:
        """Return a candidate as bash is to insert it, in one line."""
        typed = _current(_line())
        quote = typed[0] if typed[:1] in ("'", '"') else ""
        value = " ".join(item.value.splitlines())
        offered = quoted(value, quote)
        breaks = os.environ.get("COMP_WORDBREAKS", ":")
        at = typed.rfind(":") + 1 if ":" in breaks and not quote else 0
        # Only as far as both agree: a word that was typed in another case is replaced as a whole where possible.
        return f"{item.type},{offered[at:] if offered[:at].casefold() == typed[:at].casefold() else offered}"


class Zsh(ZshComplete):
    """Completion for zsh, which quotes by itself, and reads a backslash before it does."""

    def format_completion(self, item: CompletionItem) -> str:
        """Return a candidate with each backslash doubled where a description follows."""
        value = item.value.replace("\\", "\\\\") if item.help else item.value
        return super().format_completion(CompletionItem(value, item.type, item.help))


class Fish(FishComplete):
    """Completion for fish, which quotes by itself: candidates with commas stay whole."""

    source_template = _FISH_SOURCE


class PowerShell(PowerShellComplete):
    """Completion for PowerShell, which inserts a candidate as it stands: it is offered as a quoted text."""

    def format_completion(self, item: CompletionItem) -> str:
        """Return a candidate in single quotes unless it is plain; only the quotes themselves are
        special within them.
        """
        value = " ".join(item.value.splitlines())
        # PowerShell takes curved quotes for straight ones.
        inside = re.sub(r"(['\u2018-\u201b])", r"\1\1", value)
        plain = all(_PLAIN.match(each) and each not in "@,%" for each in value)
        shown = value if plain else f"'{inside}'"
        return super().format_completion(CompletionItem(shown, item.type, item.help))


def quoted(text: str, quote: str = "") -> str:
    """Return a text as bash takes it literally: inside an opening quote, or with a backslash before
    special characters.
    """
    if quote == "'":
        return text.replace("'", "'\\''")
    if quote == '"':
        return _IN_DOUBLE.sub(r"\\\g<0>", text)
    return "".join(each if _PLAIN.match(each) or each.isalnum() else f"\\{each}" for each in text)


def _line() -> str:
    """Return the line up to the cursor; bash counts octets."""
    line = os.environ.get("COMP_LINE", "").encode("utf-8", "surrogateescape")
    point = os.environ.get("COMP_POINT", "")
    return line[: int(point) if point.isdecimal() else None].decode("utf-8", "replace")


def _current(line: str) -> str:
    """Return the word that is being typed, as it stands: with its quote and backslashes; empty after a blank."""
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
    """Register these classes with Click."""
    for each in (Bash, Zsh, Fish, PowerShell):
        add_completion_class(each)
