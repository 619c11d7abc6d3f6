"""The unit by which the system's service manager runs a sensor: shut in as the watch is, in a folder of its own."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from scopion.operations.site.broker_settings import SensorFile
from scopion.operations.site.site_settings import Settings
from scopion.watching.service.service_unit import (
    Installation,
    capabilities,
    command_word,
    credential_lines,
    groups_line,
    kept_running,
    references,
    rights,
    sandbox,
    secret_references,
    unit_word,
    written_folders,
)

SENSOR_UNIT = "scopion-sensor.service"
SENSOR_FOLDER = Path("/var/lib/scopion-sensor")
# Its main loop turns every five seconds, and its file may be on a slow card.
_WATCHDOG_S = 90
# It takes less than 60 MB; a subnet of 65,536 addresses takes more while it is swept.
_MEMORY = "192M"


def sensor_unit_text(
    file: SensorFile, installation: Installation, folder: Path = SENSOR_FOLDER, hands: Settings | None = None
) -> str:
    """Return the unit's file; ``hands``: settings with the enforcers on which it carries out orders."""
    return "\n".join(_lines(file, installation, folder, hands or Settings())) + "\n"


def _lines(file: SensorFile, installation: Installation, folder: Path, hands: Settings) -> Iterator[str]:
    arguments = map(command_word, ["--site", str(folder), "sensor", "run"])
    command = " ".join([unit_word(str(installation.program)), *arguments])
    own = folder == SENSOR_FOLDER
    written = [each for each in written_folders(hands, folder) if not (own and each == folder)]
    yield from (
        "# Made by scopion service from sensor.toml; scopion service install makes it again.",
        "[Unit]",
        "Description=Scopion looks after this place, and reports it",
        "After=network.target",
        "# However often it fails: nothing else looks after this place.",
        "StartLimitIntervalSec=0",
        "",
        *kept_running(command, watchdog_s=_WATCHDOG_S),
        *((f"StateDirectory={SENSOR_FOLDER.name}", "StateDirectoryMode=0700") if own else ()),
        "UMask=0077",
        *groups_line(installation),
        *credential_lines([*references([file.broker.password]), *secret_references(hands)]),
        "",
        *rights(file.method in ("auto", "arp"), capabilities(hands)),
        "",
        *sandbox((installation.program, *installation.parts, folder), written, _MEMORY),
        "",
        "[Install]",
        "WantedBy=multi-user.target",
    )
