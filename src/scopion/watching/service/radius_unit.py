"""The units by which the system's service manager runs the RADIUS server: a socket that keeps the ports, and a service.

The socket is there from early on, and stays while the service starts again: what comes meanwhile waits in it. Pure.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from scopion.model.address import Address
from scopion.operations.folder.find_folder import SYSTEM_FOLDER
from scopion.operations.site.site_settings import Settings
from scopion.watching.service.service_unit import (
    Installation,
    command_word,
    credential_lines,
    kept_running,
    own_folder,
    references,
    sandbox,
    unit_word,
)
from scopion.wireless.radius.radius_settings import radius_lists

SERVICE, SOCKET = "scopion-radius.service", "scopion-radius.socket"
# Its loop turns four times a second; a file on a slow disk is written by a thread.
_WATCHDOG_S = 30
_MADE = "# Made by scopion service from the settings of the site; scopion service install makes it again."


def radius_units(settings: Settings, installation: Installation, folder: Path = SYSTEM_FOLDER) -> dict[str, str]:
    """Return the text of each unit by its name; none without a list by RADIUS."""
    if not radius_lists(settings.enforcer):
        return {}
    return {
        SOCKET: "\n".join(_socket(settings)) + "\n",
        SERVICE: "\n".join(_service(settings, installation, folder)) + "\n",
    }


def radius_secret_references(settings: Settings) -> Iterator[tuple[str, str]]:
    """Yield the secrets that lists by RADIUS refer to: the kind (file, env, credential) and the name of each."""
    points = [point for each in radius_lists(settings.enforcer) for point in each.access_point]
    return references(value for point in points for value in (point.secret, point.password))


def _socket(settings: Settings) -> Iterator[str]:
    places = {
        (each.listen, port): None
        for each in radius_lists(settings.enforcer)
        for port in (each.port, each.accounting_port)
    }
    yield from (
        _MADE,
        "[Unit]",
        "Description=Scopion's ports for access points that ask by RADIUS",
        "",
        "[Socket]",
        *(f"ListenDatagram={_written(address, port)}" for address, port in places),
        "# Before the network is up, the address is not there yet.",
        "FreeBind=yes",
        "ReceiveBuffer=4M",
        "BindIPv6Only=both",
        "",
        "[Install]",
        "WantedBy=sockets.target",
    )


def _service(settings: Settings, installation: Installation, folder: Path) -> Iterator[str]:
    arguments = map(command_word, ["--site", str(folder), "wifi", "radius", "serve"])
    command = " ".join([unit_word(str(installation.program)), *arguments])
    written = [] if folder == SYSTEM_FOLDER else [folder]
    yield from (
        _MADE,
        "[Unit]",
        "Description=Scopion answers access points by RADIUS",
        f"Requires={SOCKET}",
        f"After={SOCKET}",
        "# However often it fails: without it no device gets on the Wi-Fi.",
        "StartLimitIntervalSec=0",
        "",
        *kept_running(command, watchdog_s=_WATCHDOG_S, reloads=True, again_after="100ms", stop_s=15),
        "# A report or a scan that runs beside it takes its time from others.",
        "Nice=-5",
        *own_folder(folder),
        *credential_lines(radius_secret_references(settings)),
        "",
        "# No capability at all: its ports are above 1023, and the socket opens them.",
        "CapabilityBoundingSet=",
        "AmbientCapabilities=",
        "PrivateUsers=yes",
        "RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6",
        "",
        *sandbox((installation.program, *installation.parts, folder), written),
        "",
        "[Install]",
        "WantedBy=multi-user.target",
    )


def _written(address: Address | None, port: int) -> str:
    if address is None:
        return str(port)
    return f"{address}:{port}" if address.version == 4 else f"[{address}]:{port}"
