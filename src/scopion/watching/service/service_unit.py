"""The unit by which the system's service manager runs the watch: with no more rights than the site's settings need.

Pure: settings go in, texts come out. systemd.exec(5) says what each line forbids the service.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from scopion.alerts.channels import registry as channels
from scopion.model.errors import UsageError
from scopion.operations.folder.find_folder import SYSTEM_FOLDER
from scopion.operations.site.site_settings import Settings
from scopion.wireless.enforcers import registry as enforcers

NAME = "scopion.service"
ACCOUNT = "scopion"
CREDENTIALS = Path("/etc/scopion")  # where the service manager reads credentials from
# The main loop turns every five seconds; a locked roster holds it for ten, a slow disk somewhat longer.
_WATCHDOG_S = 90
_HOMES = ("/home", "/root")


@dataclass(frozen=True, slots=True)
class Installation:
    """What the service starts, and what of the machine it has to reach."""

    program: Path
    parts: tuple[Path, ...] = ()  # where its interpreter and its code are, if elsewhere
    groups: tuple[str, ...] = ()  # groups whose files it reads: lease files are often closed to others


def unit_text(settings: Settings, installation: Installation, folder: Path = SYSTEM_FOLDER) -> str:
    """Return the unit's file."""
    return "\n".join(_lines(settings, installation, folder)) + "\n"


def needs_raw_frames(settings: Settings) -> bool:
    """Tell whether the service is to send and hear frames; without, it finds hosts by harmless datagrams."""
    return settings.scan.method in ("auto", "arp")


def warnings(settings: Settings) -> list[str]:
    """Return what of the settings a service cannot do."""
    return [
        f"channel {each.name!r} needs a desktop session, which a service has not: run scopion watch in one for that"
        for each in settings.channel
        if channels.type_of(each).needs_session
    ]


def _lines(settings: Settings, installation: Installation, folder: Path) -> Iterator[str]:
    arguments = map(command_word, ["--site", str(folder), "watch"])
    command = " ".join([unit_word(str(installation.program)), *arguments])  # in the first word, no variable is replaced
    yield from (
        "# Made by scopion service from the settings of the site; scopion service install makes it again.",
        "[Unit]",
        "Description=Scopion looks after the local network",
        "After=network.target",
        "# However often it fails: nothing else watches the network.",
        "StartLimitIntervalSec=0",
        "",
        *kept_running(command, watchdog_s=_WATCHDOG_S, reloads=True),
    )
    yield from groups_line(installation)
    yield from own_folder(folder)
    yield from credential_lines(secret_references(settings))
    raw = needs_raw_frames(settings)
    yield from ("", *rights(raw, capabilities(settings)), "", *_sandbox(settings, installation, folder))
    yield from ("", "[Install]", "WantedBy=multi-user.target")


def kept_running(
    command: str, *, watchdog_s: int, reloads: bool = False, again_after: str = "10", stop_s: int = 20
) -> Iterator[str]:
    """Yield the lines by which a program is run by our account, tells that it is well, and is started again."""
    yield from ("[Service]", "Type=notify", "NotifyAccess=main", f"ExecStart={command}")
    if reloads:
        yield "ExecReload=/bin/kill -HUP $MAINPID"
    yield from ("Restart=always", f"RestartSec={again_after}", f"WatchdogSec={watchdog_s}")
    yield from (f"TimeoutStopSec={stop_s}", f"User={ACCOUNT}", f"Group={ACCOUNT}")


def groups_line(installation: Installation) -> Iterator[str]:
    """Yield the line by which a service is in the groups that may use what the settings name."""
    if installation.groups:
        yield f"SupplementaryGroups={' '.join(map(unit_word, installation.groups))}"


def own_folder(folder: Path) -> Iterator[str]:
    """Yield the lines by which a service has the site's folder for itself and its group."""
    if folder == SYSTEM_FOLDER:
        yield "StateDirectory=scopion"
        yield "# Administrators who are members of the group read and change the site with the same commands."
        yield "StateDirectoryMode=2770"
    yield "UMask=0007"


def capabilities(settings: Settings) -> dict[str, str]:
    """Return the capabilities that the enforcers and meters on this machine need, each with its purpose."""
    local = [enforcers.type_of(each) for each in settings.enforcer if each.is_here]
    found = {capability: entry.needs for entry in local for capability in entry.capabilities}
    if any(each.ssh is None for each in settings.meter):
        found.setdefault("CAP_NET_ADMIN", "counters in the firewall")
    return found


def rights(raw: bool, more: Mapping[str, str]) -> list[str]:
    """Return the lines for raw frames, if it needs them, and ``more`` capabilities, each with its purpose."""
    needed = {**({"CAP_NET_RAW": "raw frames"} if raw else {}), **more}
    if not needed:
        return [
            "# No capability at all: the settings ask for a method that needs none.",
            "CapabilityBoundingSet=",
            "AmbientCapabilities=",
            "PrivateUsers=yes",
            "RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK",
        ]
    names, what = " ".join(needed), " and ".join(dict.fromkeys(needed.values()))
    return [
        f"# {what[0].upper()}{what[1:]}, and nothing else.",
        f"CapabilityBoundingSet={names}",
        f"AmbientCapabilities={names}",
        f"RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK{' AF_PACKET' if raw else ''}",
    ]


def _sandbox(settings: Settings, installation: Installation, folder: Path) -> Iterator[str]:
    run = [Path(each) for channel in settings.channel for each in channels.type_of(channel).runs(channel)]
    return sandbox((installation.program, *installation.parts, folder, *run), written_folders(settings, folder))


def sandbox(met: Iterable[Path], written: Iterable[Path], memory: str = "512M") -> Iterator[str]:
    """Yield the lines that shut a service in: ``met`` is what it reads and runs, ``written`` the folders it changes."""
    home = any(path.is_relative_to(each) for path in met for each in _HOMES)
    writable = [unit_word(str(path)) for path in written]
    yield from (
        "NoNewPrivileges=yes",
        "ProtectSystem=strict",
        f"ProtectHome={'read-only' if home else 'yes'}",
        "PrivateTmp=yes",
        "PrivateDevices=yes",
        "DevicePolicy=closed",
        "ProtectProc=invisible",
        "ProcSubset=pid",
        "ProtectKernelTunables=yes",
        "ProtectKernelModules=yes",
        "ProtectKernelLogs=yes",
        "ProtectControlGroups=yes",
        "ProtectClock=yes",
        "ProtectHostname=yes",
        "RestrictNamespaces=yes",
        "RestrictRealtime=yes",
        "RestrictSUIDSGID=yes",
        "LockPersonality=yes",
        "MemoryDenyWriteExecute=yes",
        "RemoveIPC=yes",
        "KeyringMode=private",
        "SystemCallArchitectures=native",
        "SystemCallFilter=@system-service",
        "SystemCallFilter=~@privileged @resources",
        "SystemCallErrorNumber=EPERM",
        f"MemoryMax={memory}",
        "TasksMax=128",
    )
    if writable:
        yield f"ReadWritePaths={' '.join(writable)}"


def written_folders(settings: Settings, folder: Path) -> list[Path]:
    """Return the folders outside of the system's that are written to."""
    files = [folder / path for each in settings.channel for path in channels.type_of(each).writes(each)]
    for each in settings.enforcer:
        if each.is_here:
            files += [folder / path for path in enforcers.type_of(each).writes(each)]
    outside = {path.parent for path in files if folder not in (path.parent, *path.parent.parents)}
    return sorted({*outside, *([folder] if folder != SYSTEM_FOLDER else [])})


def secret_references(settings: Settings) -> Iterator[tuple[str, str]]:
    """Yield the secrets that the settings refer to: the kind (file, env, credential) and the name of each."""
    values: list[str] = []
    for channel in settings.channel:
        values += channels.type_of(channel).secrets(channel)
    values += [each.ssh.password for each in settings.enforcer if each.ssh is not None and not each.via]
    if settings.broker is not None:
        values.append(settings.broker.password)
    values += [each.ssh.password for each in settings.meter if each.ssh is not None]
    for asked in (*settings.router, *settings.switch):
        values += [asked.community, asked.authentication_key, asked.privacy_key]
    yield from references(values)


def references(values: Iterable[str]) -> Iterator[tuple[str, str]]:
    """Yield the kind and the name of each secret that is referred to."""
    for value in values:
        kind, mark, name = value.partition(":")
        if mark and kind in ("file", "env", "credential"):
            yield kind, name


def credential_lines(references: Iterable[tuple[str, str]]) -> Iterator[str]:
    """Yield the lines by which a service is handed its credentials."""
    for name in sorted({name for kind, name in references if kind == "credential"}):
        yield f"LoadCredential={unit_word(f'{name}:{CREDENTIALS / name}')}"


_PLAIN = re.compile(r"[\w./:@+=,-]+", re.ASCII)


def unit_word(text: str) -> str:
    """Return one word of a unit's line, quoted as systemd.syntax(7) says, with specifiers (%) as themselves.

    Raises UsageError for control characters, by which a line could end and another begin.
    """
    if any(not each.isprintable() and each != "\u00a0" for each in text):
        raise UsageError(f"{text!r} has characters that no unit may have: choose another name")
    if _PLAIN.fullmatch(text):
        return text
    quoted = text.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%")
    return f'"{quoted}"'


def command_word(text: str) -> str:
    """Return one argument of a command in a unit: there, variables ($) are replaced, too (systemd.service(5))."""
    return unit_word(text).replace("$", "$$")


def by_hand(settings: Settings, program: Path) -> str:
    """Return how to set it up with another service manager, or none."""
    raw = needs_raw_frames(settings)
    capability = (
        "3. The service needs raw frames, and no other right. Start it as root and drop the rest:\n"
        f"     setpriv --reuid {ACCOUNT} --regid {ACCOUNT} --init-groups --inh-caps=-all,+net_raw \\\n"
        "       --ambient-caps=+net_raw --bounding-set=-all,+net_raw \\\n"
        f"       {shlex.quote(str(program))} --site {SYSTEM_FOLDER} watch\n"
        if raw
        else f"3. The service needs no right at all:\n     su {ACCOUNT} -s /bin/sh -c "
        f"{shlex.quote(f'{shlex.quote(str(program))} --site {SYSTEM_FOLDER} watch')}\n"
    )
    return (
        "As root:\n"
        "1. An account and a group of its own, without a password and without a shell:\n"
        f"     useradd --system --home-dir {SYSTEM_FOLDER} --shell /usr/sbin/nologin {ACCOUNT}\n"
        "2. The site's folder. Members of the group read and change the site with the same commands:\n"
        f"     install -d -m 2770 -o {ACCOUNT} -g {ACCOUNT} {SYSTEM_FOLDER}\n"
        f"     usermod -aG {ACCOUNT} YOUR-ACCOUNT\n"
        f"{capability}"
        "4. Let your service manager start that command after the network, keep it in the foreground, start it again\n"
        "   when it ends, and keep what it writes to standard error. SIGTERM ends it, SIGHUP reads site.toml again.\n"
        "5. Without a service manager, let cron do a round every five minutes:\n"
        f"     */5 * * * *  {ACCOUNT}  {shlex.quote(str(program))} --site {SYSTEM_FOLDER} --quiet watch --once\n"
    )
