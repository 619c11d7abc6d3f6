"""The story of the made-up site: it is put into a folder, moved on, and its days are played at once."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import closing
from datetime import datetime, timedelta
from pathlib import Path

from scopion.model.errors import NotFound, UsageError
from scopion.operations.pages.held_by import pages_of
from scopion.operations.pages.typed_lists import last_published
from scopion.operations.scan.prepare_scan import ScanRequest, prepare_scan
from scopion.operations.scan.run_scan import run_prepared
from scopion.operations.sensors.made_up_sensors import report_made_up
from scopion.operations.site.edit_settings import with_settings
from scopion.operations.site.load_settings import FILE as SETTINGS_FILE
from scopion.operations.site.open_site import Site, prepare_folder
from scopion.roster.store.write_files import make_folder, write_atomically
from scopion.scenes.router_page import HTML, TypedList, copied, page_at
from scopion.scenes.scene import Chapter, Rounds, SceneMoment, StoryStep, load_scene
from scopion.scenes.story import Story

SCENE = "kilnhaven"
_LISTENING_S = 60.0
_NAMES_EVERY = 3  # hours: names change seldom, and asking takes most of a scan's computing


def begin_story(folder: Path) -> Story:
    """Put the made-up site into an empty or new folder, at the story's beginning. Raises UsageError."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(f"{folder} is not empty: give a new folder for the made-up site")
    make_folder(folder)
    story = Story.begin(folder, SCENE)
    prepare_folder(folder)
    _add_settings(folder, story.scene.settings)
    for name, written in story.scene.files:
        place = folder / name.lstrip("/")
        make_folder(place.parent, like=folder)
        write_atomically(place, written.encode())
    return story


def chapters() -> tuple[Chapter, ...]:
    """Return the parts in which the story is told."""
    return load_scene(SCENE).chapters


def next_moment(folder: Path, *, looking: bool = False) -> SceneMoment:
    """Move the clock of a kept story on. Raises NotFound at its end, or if there is no story.

    With ``looking`` the time until then passes with scans, if the moment says so, as when the story is told.
    """
    story = _kept(folder)
    coming = story.scene.moments[story.moment + 1 : story.moment + 2]
    if looking and coming and coming[0].looks_h:
        every = timedelta(hours=coming[0].looks_h)
        at = story.at.replace(minute=0, second=0, microsecond=0)
        while (at := at + every) <= coming[0].at:
            _scan(folder, at, ScanRequest(no_names=True))
    moment = _onward(_kept(folder))
    if moment is None:
        raise NotFound("the story has come to its end: scopion demo --begin makes a new one")
    page_text(folder)
    return moment


def page_text(folder: Path) -> str:
    """Return the text of the made-up router's page as it is now, as a person copies it; empty without one.

    What was said to be typed in is what the page holds. The page is kept in the folder, for a browser.
    """
    story = _kept(folder)
    page = story.scene.page
    if page is None:
        return ""
    site = Site(folder)
    typed: dict[str, TypedList] = {}
    try:
        for settings in pages_of(site, page.ssid):
            held = last_published(site.roster_for_reading(), page.ssid, settings.name)
            typed |= {radio: TypedList(str(each.mode), each.allow | each.deny) for radio, each in held.items()}
    finally:
        site.close()
    shown = page_at(page, story.at, typed)
    write_atomically(folder / HTML, shown.encode())
    return copied(shown)


def play_rounds(folder: Path, run: Callable[[StoryStep], None], on_day: Callable[[datetime], None]) -> SceneMoment:
    """Play a kept story to the end of its rounds: a scan each hour, and the steps of its moments in between.

    Returns the last moment. Raises NotFound if the story has no rounds.
    """
    story = _kept(folder)
    rounds = story.scene.rounds
    if rounds is None:
        raise NotFound("this story has no rounds to play")
    at = story.at.replace(minute=0, second=0, microsecond=0)
    while (at := at + rounds.every) <= rounds.until:
        if at.date() != (at - rounds.every).date():
            on_day(at)
        _look(folder, at, rounds)
        for moment in _due(folder, at):
            for step in moment.steps:
                run(step)
    story = _kept(folder)
    while _onward(story) is not None:
        pass
    return story.told


def _due(folder: Path, at: datetime) -> list[SceneMoment]:
    """Return the moments that have come, each reached only now."""
    found = []
    story = _kept(folder)
    while story.moment + 1 < len(story.scene.moments) and story.scene.moments[story.moment + 1].at <= at:
        moment = _onward(story)
        assert moment is not None
        found.append(moment)
    return found


def _onward(story: Story) -> SceneMoment | None:
    """Move a story on to its next moment, with what has come into its settings; None at its end."""
    moment = story.next()
    if moment is not None:
        _add_settings(story.folder, moment.settings)
        with closing(Site(story.folder)) as site:
            report_made_up(site)
    return moment


def _add_settings(folder: Path, settings: str) -> None:
    """Write settings (TOML) into the commented file of a site, if there are any."""
    if settings:
        path = folder / SETTINGS_FILE
        write_atomically(path, with_settings(path.read_text(encoding="utf-8"), settings).encode())


def _look(folder: Path, at: datetime, rounds: Rounds) -> None:
    """Scan at a moment, and listen if it is time for that."""
    requests = [(at, ScanRequest(no_names=at.hour % _NAMES_EVERY != 0))]
    for listening in rounds.listen_at:
        moment = datetime.combine(at.date(), listening, at.tzinfo)
        if at <= moment < at + rounds.every:
            requests.append((moment, ScanRequest(method="listen", listen_s=_LISTENING_S)))
    for moment, request in requests:
        _scan(folder, moment, request)


def _scan(folder: Path, at: datetime, request: ScanRequest) -> None:
    """Scan at a moment, in this process."""
    _kept(folder).passed(at)
    site = Site(folder)
    try:
        run_prepared(site, prepare_scan(site, request))
        report_made_up(site, names=not request.no_names)
    finally:
        site.close()


def _kept(folder: Path) -> Story:
    story = Story.of(folder)
    if story is None:
        raise NotFound(f"{folder} keeps no made-up site: scopion demo --begin {folder} makes one")
    return story
