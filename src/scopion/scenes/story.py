"""The position of a kept scene in its story: a small file in the site's folder that commands and people move on."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path

from scopion.model.errors import InvalidSettings
from scopion.roster.store.write_files import write_atomically
from scopion.scenes import STORY_FILE
from scopion.scenes.scene import Scene, SceneMoment, load_scene


class Story:
    """A scene and the moment at which it stands, kept in a folder."""

    def __init__(self, folder: Path, scene: Scene, at: datetime, moment: int) -> None:
        self.folder = folder
        self.scene = scene
        self.at = at
        self.moment = moment  # the number of the moment that was reached last

    @classmethod
    def begin(cls, folder: Path, scene_name: str) -> Story:
        """Put a scene at its first moment into a folder."""
        scene = load_scene(scene_name)
        story = cls(folder, scene, scene.moments[0].at, 0)
        story.save()
        return story

    @classmethod
    def of(cls, folder: Path) -> Story | None:
        """Return the story that a folder keeps, or None. Raises InvalidSettings if it is damaged."""
        path = folder / STORY_FILE
        try:
            kept = json.loads(path.read_text(encoding="utf-8"))
            at = datetime.fromisoformat(kept["at"]).astimezone(UTC)
            return cls(folder, load_scene(str(kept["scene"])), at, int(kept["moment"]))
        except FileNotFoundError:
            return None
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise InvalidSettings(f"{path} is damaged ({error}): start again with scopion demo --keep") from None

    @property
    def told(self) -> SceneMoment:
        """Return the moment that was reached last."""
        return self.scene.moments[self.moment]

    def next(self) -> SceneMoment | None:
        """Move on to the next moment and save it; None at the end of the story."""
        if self.moment + 1 >= len(self.scene.moments):
            return None
        self.moment += 1
        self.at = max(self.at, self.told.at)
        self.save()
        return self.told

    def passed(self, now: datetime) -> None:
        """Note that a command has taken its (virtual) time."""
        if now > self.at:
            self.at = now
            self.save()

    def save(self) -> None:
        """Write the file whole or not at all."""
        kept = {"scene": self.scene.name, "at": self.at.isoformat(), "moment": self.moment}
        write_atomically(self.folder / STORY_FILE, (json.dumps(kept) + "\n").encode())
