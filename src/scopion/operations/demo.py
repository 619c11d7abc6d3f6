"""The story of the made-up site: how a folder comes to keep it, and how it moves on."""

from __future__ import annotations

from pathlib import Path

from scopion.model.errors import NotFound, UsageError
from scopion.operations.site import prepare_folder
from scopion.roster.files import make_folder
from scopion.scenes.scene import Moment
from scopion.scenes.story import Story

SCENE = "kilnhaven"


def begin_story(folder: Path) -> Story:
    """Put the made-up site into an empty or new folder, at the story's beginning. Raises UsageError."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(f"{folder} is not empty: give a new folder for the made-up site")
    make_folder(folder)
    story = Story.begin(folder, SCENE)
    prepare_folder(folder)
    return story


def next_moment(folder: Path) -> Moment:
    """Move the clock of a kept story on. Raises NotFound at its end, or if there is no story."""
    story = Story.of(folder)
    if story is None:
        raise NotFound(f"{folder} keeps no made-up site: scopion demo --begin {folder} makes one")
    moment = story.next()
    if moment is None:
        raise NotFound("the story has come to its end: scopion demo --begin makes a new one")
    return moment
