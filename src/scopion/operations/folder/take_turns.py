"""What only one process at a time may do at a site: watch it, push to its enforcers, and answer by RADIUS."""

from __future__ import annotations

from pathlib import Path

from scopion.roster.store.file_lock import FileLock, holder_of

WATCH_FILE, PUSH_FILE, SERVER_FILE, SENSOR_FILE = "watch.lock", "push.lock", "radius.lock", "sensor.lock"
_WATCH_PATIENCE_S = 0.25
# A push over SSH to a slow router with a full list takes half a minute; three of them in a row are a mistake.
PUSH_PATIENCE_S = 120.0


def only_watch(folder: Path) -> FileLock:
    """Return a lock for the watch of a site: a second watch would tell everything twice. It raises Refused."""

    def refusal(process: int | None) -> str:
        by = f" by process {process}" if process else ""
        return f"{folder} is watched already{by}: scopion status says how it does; end that one first"

    return FileLock(folder / WATCH_FILE, _WATCH_PATIENCE_S, refusal)


def only_push(folder: Path, patience_s: float = PUSH_PATIENCE_S) -> FileLock:
    """Return a lock for changing what a site's enforcers hold; the next push waits. It raises Refused."""
    text = "another push to this site's enforcers is running: try again when it has ended"
    return FileLock(folder / PUSH_FILE, patience_s, lambda _: text)


def only_server(folder: Path) -> FileLock:
    """Return a lock for the RADIUS server of a site. It raises Refused."""

    def refusal(process: int | None) -> str:
        by = f", process {process}," if process else ""
        return f"a RADIUS server{by} answers for {folder} already"

    return FileLock(folder / SERVER_FILE, _WATCH_PATIENCE_S, refusal)


def only_sensor(folder: Path) -> FileLock:
    """Return a lock for the sensor of a folder: two would number their batches alike. It raises Refused."""

    def refusal(process: int | None) -> str:
        by = f", process {process}," if process else ""
        return f"a sensor{by} runs from {folder} already"

    return FileLock(folder / SENSOR_FILE, _WATCH_PATIENCE_S, refusal)


def serving_process(folder: Path) -> int | None:
    """Return the number of the process that answers by RADIUS for a site; None if none does."""
    return holder_of(folder / SERVER_FILE)


def watching_process(folder: Path) -> int | None:
    """Return the number of the process that watches a site; None if none does."""
    return holder_of(folder / WATCH_FILE)
