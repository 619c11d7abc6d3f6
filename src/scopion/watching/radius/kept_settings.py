"""The settings of the server, read again when they change: with a mistake in them, the last good ones stay in force."""

from __future__ import annotations

from contextlib import suppress
from datetime import tzinfo
from pathlib import Path

from scopion.model.errors import InvalidSettings, NotFound, ScopionError
from scopion.operations.answers.load_lists import Changes
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.site.load_settings import FILE, load_settings, read_settings
from scopion.operations.site.site_clock import zone_named
from scopion.operations.site.site_settings import Settings
from scopion.wireless.radius.radius_settings import RadiusSettings, radius_lists


class KeptSettings:
    """Implements ``SettingsOfServer`` by ``site.toml`` and a copy of it."""

    def __init__(self, folder: Path, files: RadiusFiles) -> None:
        """Read them. Raises InvalidSettings if there are no good ones, NotFound if they have no list by RADIUS."""
        self._path, self._files = folder / FILE, files
        self._folder, self._seen = folder, Changes()
        self.problem = ""
        self._settings = self._read(None)

    @property
    def lists(self) -> list[RadiusSettings]:
        """Return the lists that are answered for."""
        return radius_lists(self._settings.enforcer)

    def zone(self) -> tzinfo | None:
        """Return the time zone that they name."""
        return zone_named(self._settings.timezone)

    def changed(self) -> bool:
        """Tell whether the file was written since it was read."""
        return self._seen.has_changed(self._path)

    def read_again(self) -> bool:
        """Read them again. Returns whether they are others by now."""
        before = self._settings
        try:
            self._settings = self._read(before)
        except ScopionError as error:
            self.problem = f"the settings stay as they were: {error}"
        return self._settings != before

    def _read(self, before: Settings | None) -> Settings:
        self._seen.has_changed(self._path)
        try:
            found = load_settings(self._folder)
            if not radius_lists(found.enforcer):
                if not self._path.exists():
                    raise InvalidSettings(f"{self._path} is gone")
                raise NotFound(f"{self._path} has no [[enforcer]] of type radius: nothing to answer")
            self._keep()
            self.problem = ""
            return found
        except InvalidSettings as error:
            self.problem = f"the settings stay as they were: {error}"
            if before is not None:
                return before
            text = self._files.read(self._files.settings)
            if text is None:
                raise
            return read_settings(self._files.settings, text)

    def _keep(self) -> None:
        text = self._files.read(self._path)
        with suppress(ScopionError, OSError):
            if text is not None and text != self._files.read(self._files.settings):
                self._files.write(self._files.settings, text)
