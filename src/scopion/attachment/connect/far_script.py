"""Jobs of a shell as one script for another machine, and its output as what came of each: one way there and back.

The script is for any POSIX shell, a router's busybox among them. It is one compound command, so that a part of it that
arrives is no command at all. After each job it prints a mark, which no program can know beforehand, with the code and
what was said on standard error.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from pathlib import PurePosixPath

from scopion.attachment.ports import (
    CHANGED,
    NO_FILE,
    Control,
    EveryStation,
    Job,
    Program,
    Ran,
    ReadFile,
    ReadLog,
    WriteFile,
)
from scopion.model.errors import EnforcerUnreachable
from scopion.model.text import clean

_NOT_WHOLE = 74  # EX_IOERR of sysexits(3)
_NO_PROGRAM = 127
# What the other side does with a file ($1), its text ($2), how many octets that has ($3), and what it replaces ($4).
# The draft gets the mode of the file that it replaces before it has any content, and takes its place if it is whole.
# The old file stays beside it until the new one was read back.
PUT = f"""\
put() (
  umask 077
  file=$(readlink -f "$1" 2>/dev/null) || file=$1
  draft=$file.scopion
  if [ -e "$file" ]; then now=$(cat "$file"; printf .); else now=.; fi
  if [ "$now" != "$4." ]; then exit {CHANGED}; fi
  rm -f "$draft"
  if [ -e "$file" ]; then cp -p "$file" "$draft" || exit 1; fi
  printf %s "$2" > "$draft" || exit 1
  if [ "$(wc -c < "$draft")" -ne "$3" ]; then rm -f "$draft"; exit {_NOT_WHOLE}; fi
  sync
  if [ -e "$file" ]; then cp -p "$file" "$file.scopion-old" || exit 1; fi
  mv "$draft" "$file" || exit 1
  if [ "$(cat "$file"; printf .)" != "$2." ]; then exit {_NOT_WHOLE}; fi
  rm -f "$file.scopion-old"
)
"""


def script_of(jobs: Sequence[Job], mark: str) -> str:
    """Return the script; ``mark`` is a word that cannot be guessed."""
    said = f'e=\nsaid() {{ printf \'\\n%s %s\\n%s\\n%s.\\n\' {mark} "$1" "$e" {mark}; e=; }}\n'
    put = PUT if any(isinstance(job, WriteFile) for job in jobs) else ""
    sockets = list(dict.fromkeys(job.socket for job in jobs if isinstance(job, Control | EveryStation)))
    return f"{{\n{said}{put}{''.join(_lines(job, sockets) for job in jobs)}}}\n"


def log_script(words: Sequence[str]) -> str:
    """Return the script that prints the last lines with one of some words of the first log that has any."""
    wanted = " ".join(f"-e {shlex.quote(word)}" for word in words)
    return (
        "for log in logread 'journalctl -q -n 20000 --no-pager -o cat' 'cat /var/log/messages /var/log/syslog'; do "
        f"found=$($log 2>/dev/null </dev/null | grep -F {wanted} | tail -n 2000); "
        'if [ -n "$found" ]; then printf \'%s\\n\' "$found"; break; fi; done'
    )


def results_of(output: str, mark: str) -> list[Ran]:
    """Return what came of the jobs, as far as their marks have arrived."""
    found = []
    pattern = rf"(.*?)\n{re.escape(mark)} (\d+)\n(.*?)\n{re.escape(mark)}\.\n"
    at = 0
    for each in re.finditer(pattern, output, re.DOTALL):
        if each.start() != at:
            break
        at = each.end()
        found.append(Ran(int(each[2]), each[1], each[3]))
    return found


def understood(job: Job, ran: Ran) -> Ran:
    """Return what came of a job with its problem in a sentence. Raises EnforcerUnreachable if a program is missing."""
    if isinstance(job, Program) and ran.code == _NO_PROGRAM:
        raise EnforcerUnreachable(f"{job.command[0]} is not installed on the access point")
    if ran.code == 0 or isinstance(job, Program | ReadLog) or (isinstance(job, ReadFile) and ran.code == NO_FILE):
        return ran
    lines = (ran.errors.strip() or ran.output.strip()).splitlines()
    said = clean(lines[-1], 160) if lines else ""
    if isinstance(job, Control | EveryStation):
        if ran.code == _NO_PROGRAM:
            return Ran(ran.code, "", "hostapd_cli is not installed on the access point, and is needed over SSH")
        if isinstance(job, EveryStation) and ran.output:
            return Ran(0, ran.output, "")  # it ends with an error once there is no further station
        return Ran(ran.code, "", f"{job.socket} on the access point: {said or 'no answer'}")
    if isinstance(job, WriteFile):
        known = {
            CHANGED: "was changed by another program meanwhile",
            _NOT_WHOLE: "does not hold what was written into it",
        }
        why = known.get(ran.code, f"cannot be written: {said}")
        return Ran(ran.code, "", f"{job.path} {why}")
    return Ran(ran.code, "", f"{job.path} cannot be read: {said}")


def _lines(job: Job, sockets: Sequence[str]) -> str:
    if isinstance(job, Control) and job.must:
        must = shlex.quote(job.must)
        return (
            f'r=$({_client(job.socket, "raw", *job.command.split(" "))} 2>&1 </dev/null); c=$?; printf %s "$r"\n'
            f'said "$c"; [ "$c" = 0 ] && [ "$r" = {must} ] || exit 0\n'
        )
    if isinstance(job, Control):
        return _unless_silent(job, sockets, f"{_client(job.socket, 'raw', *job.command.split(' '))} </dev/null")
    if isinstance(job, EveryStation):
        return _unless_silent(job, sockets, f"{_client(job.socket, 'all_sta')} </dev/null")
    if isinstance(job, ReadFile):
        path = shlex.quote(job.path)
        return _run(f"if [ -e {path} ]; then cat {path} </dev/null; else (exit {NO_FILE}); fi")
    if isinstance(job, WriteFile):
        octets = len(job.text.encode("utf-8", "surrogateescape"))
        return _run(f"{shlex.join(['put', job.path, job.text, str(octets), job.instead_of])} </dev/null")
    if isinstance(job, ReadLog):
        return _run(log_script(job.words))
    source = f"printf %s {shlex.quote(job.stdin)} |" if job.stdin else ""
    return _run(f"{source} {shlex.join(job.command)}{'' if source else ' </dev/null'}")


def _client(socket: str, *words: str) -> str:
    path = PurePosixPath(socket)
    return shlex.join(["hostapd_cli", "-p", str(path.parent), "-i", path.name, *words])


def _run(command: str) -> str:
    return f'{_kept(command)}; said "$c"\n'


def _kept(command: str) -> str:
    """Standard output goes out as it comes, standard error is kept for after the mark."""
    return f"{{ e=$( {{ {command}; }} 2>&1 >&3 ); c=$?; }} 3>&1"


def _unless_silent(job: Control | EveryStation, sockets: Sequence[str], command: str) -> str:
    """A daemon that has not answered once is not asked again: its client waits for many seconds each time."""
    code = f"q{sockets.index(job.socket)}"
    note = "" if isinstance(job, EveryStation) else f'; [ "$c" = 0 ] || {code}=$c'
    return f'if [ -n "${{{code}-}}" ]; then c=${code}; else {_kept(command)}{note}; fi; said "$c"\n'
