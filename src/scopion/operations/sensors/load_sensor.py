"""Reads and checks ``sensor.toml``, the settings of a sensor."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

from scopion.model.errors import InvalidSettings, NotFound
from scopion.operations.site.broker_settings import SensorFile
from scopion.operations.site.load_settings import checked, document_of, text_of

if TYPE_CHECKING:
    from pydantic import TypeAdapter

FILE = "sensor.toml"


@cache
def adapter() -> TypeAdapter[SensorFile]:
    """Return what reads a document into a sensor's settings."""
    from pydantic import TypeAdapter

    return TypeAdapter(SensorFile)


def load_sensor(folder: Path) -> SensorFile:
    """Return the settings of the sensor in a folder. Raises NotFound, InvalidSettings."""
    path = folder / FILE
    text = text_of(path)
    if text is None:
        raise NotFound(f"{path} is not there: scopion sensor enrol, on the machine that keeps the roster, writes it")
    read = checked(adapter(), path, text, document_of(path, text))
    if not read.broker.topics:
        raise InvalidSettings(f"{path}: broker.topics is missing: it is what the topics of the site begin with")
    return read
