"""Reads and checks ``sensor.toml``, the settings of a sensor."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING

from scopion.model.errors import InvalidSettings, NotFound
from scopion.model.toml_text import parse_toml
from scopion.operations.site.broker_settings import SensorFile
from scopion.operations.site.load_settings import first_mistake

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
    from pydantic import ValidationError

    path = folder / FILE
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise NotFound(
            f"{path} is not there: scopion sensor enrol, on the machine that keeps the roster, writes it"
        ) from None
    except OSError as error:
        raise InvalidSettings(f"{path} cannot be read: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise InvalidSettings(f"{path} is not UTF-8 text at byte {error.start}") from None
    try:
        read = adapter().validate_python(parse_toml(text))
    except ValidationError as error:
        raise first_mistake(path, text, error) from None
    except ValueError as error:
        raise InvalidSettings(f"{path}: {error}") from None
    if not read.broker.topics:
        raise InvalidSettings(f"{path}: broker.topics is missing: it is what the topics of the site begin with")
    return read
