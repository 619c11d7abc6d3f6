"""The unit by which the system's service manager runs a sensor: shut in as the watch is, in a folder of its own."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from scopion.operations.site.broker_settings import SensorFile
from scopion.watching.service.service_unit import (
    Installation,
    command_word,
    credential_lines,
    kept_running,
    references,
    rights,
    sandbox,
    unit_word,
)

SENSOR_UNIT = "scopion-sensor.service"
SENSOR_FOLDER = Path("/var/lib/scopion-sensor")
# Its main loop turns every five seconds, and its file may be on a slow card.
_WATCHDOG_S = 90
# It takes less than 60 MB; a subnet of 65,536 addresses takes more while it is swept.
_MEMORY = "192M"


def sensor_unit_text(file: SensorFile, installation: Installation, folder: Path = SENSOR_FOLDER) -> str:
    """Return the unit's file."""
    return "\n".join(_lines(file, installation, folder)) + "\n"


def _lines(file: SensorFile, installation: Installation, folder: Path) -> Iterator[str]:
    arguments = map(command_word, ["--site", str(folder), "sensor", "run"])
    command = " ".join([unit_word(str(installation.program)), *arguments])
    own = folder == SENSOR_FOLDER
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
        *credential_lines(references([file.broker.password])),
        "",
        *rights(file.method in ("auto", "arp"), {}),
        "",
        *sandbox((installation.program, *installation.parts, folder), [] if own else [folder], _MEMORY),
        "",
        "[Install]",
        "WantedBy=multi-user.target",
    )
