"""The sensors of a made-up site: what they would have told by now, without a broker.

Each sweeps the segment of its own place, by the same scan as a real one, and keeps what it saw in the same file; the
batches are folded at once.
"""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from tempfile import TemporaryDirectory

from scopion import __version__
from scopion.model.batch import Folded, ScanFacts, SensorClocks, SensorState
from scopion.model.observation import Observation
from scopion.operations.scan.prepare_scan import ScanRequest, prepare_scan
from scopion.operations.scan.run_scan import run_prepared
from scopion.operations.sensors.enrol_sensor import FOLDER
from scopion.operations.sensors.fold_batch import fold_batch
from scopion.operations.sensors.load_sensor import FILE as SENSOR_FILE
from scopion.operations.sensors.load_sensor import load_sensor
from scopion.operations.sensors.sensor_site import SensorSite
from scopion.operations.site.open_site import Site
from scopion.operations.site.site_places import settle_home
from scopion.roster.sensors import hear_sensor, note_state
from scopion.roster.spool.spool import Spool
from scopion.scenes.attachment import SceneAttachment
from scopion.scenes.scene import SceneBranch
from scopion.wire.sensor_documents import batch_from_json

_BOOTED_BEFORE = timedelta(days=1)  # its machine was started so long before the branch had it


class _Spooled:
    """Implements ``Relay``: keeps each step in the sensor's file."""

    def __init__(self, spool: Spool, clocks: SensorClocks) -> None:
        self._spool, self._clocks = spool, clocks

    def note(self, seen: Sequence[Observation], scan: ScanFacts | None, *, apart: bool, news: bool) -> None:
        """Keep one step."""
        self._spool.note(seen, scan, self._clocks, apart=apart)


def report_made_up(site: Site, at: datetime | None = None, *, names: bool = True) -> None:
    """Let each enrolled sensor of a made-up site report what is in its place at a moment, by default the story's.

    Raises InvalidSettings, StorageFailed.
    """
    story = site.story
    if story is None:
        return
    enrolled = {each.name: each for each in site.settings.sensor}
    if enrolled:
        settle_home(site, site.roster)  # as the watch does when it begins
    for branch in story.scene.branches:
        is_set_up = (site.folder / FOLDER / branch.sensor / SENSOR_FILE).exists()
        if branch.sensor in enrolled and is_set_up and (at or story.at) >= branch.since:
            _report(site, branch, enrolled[branch.sensor].place, at or story.at, names=names)


def _report(site: Site, branch: SceneBranch, place: str, at: datetime, *, names: bool) -> None:
    story = site.story
    assert story is not None
    folder = site.folder / FOLDER / branch.sensor
    there = replace(
        story.scene, interfaces=(branch.interface,), hosts=branch.hosts, access_point=None, asking_points=(), page=None
    )
    with ExitStack() as opened:
        memory = Path(opened.enter_context(TemporaryDirectory(prefix="scopion-sensor-")))
        sensing = SensorSite(memory, load_sensor(folder))
        opened.callback(sensing.close)
        attachment = SceneAttachment(there, at)
        sensing.__dict__ |= {"attachment": attachment, "clock": attachment.clock}
        spool = Spool.open(folder, branch.sensor, place, __version__)
        opened.callback(spool.close)
        began = branch.since - _BOOTED_BEFORE
        clocks = SensorClocks(at, "made-up", (at - began).total_seconds())
        sensing.relay = _Spooled(spool, clocks)
        run_prepared(sensing, prepare_scan(sensing, ScanRequest(no_names=not names)))
        ended = attachment.clock.now()
        own = [branch.interface.mac] if branch.interface.mac is not None else []
        spool.close_batch(replace(clocks, at=ended, seconds=(ended - began).total_seconds()), own)
        # The story stands still while its sensors sweep: they have begun that much earlier.
        before = at - ended
        for number, octets in spool.batches(spool.last_folded, 100):
            fold_batch(site, batch_from_json(octets), before)
            spool.folded(Folded(spool.life, number))
        hear_sensor(site.roster, branch.sensor, place, at)
        address = str(branch.interface.addresses[0].ip)
        note_state(site.roster, SensorState(branch.sensor, True, place=place, program=__version__, address=address),
                   timedelta())  # fmt: skip
