"""The broker and the sensors, as ``site.toml`` and a sensor's own ``sensor.toml`` name them."""

from __future__ import annotations

import re
from ipaddress import IPv4Network
from pathlib import Path
from typing import Annotated, Literal

from annotated_types import Ge, Le, MaxLen, Predicate

from scopion.attachment.ports import BrokerAccess
from scopion.model.broker_keys import BrokerKeys
from scopion.model.errors import InvalidSettings
from scopion.model.place import is_place_name
from scopion.model.settings_table import settings_table
from scopion.operations.folder.read_secret import read_secret

_SENSOR = re.compile(r"[a-z0-9][a-z0-9-]{0,30}")
_PREFIX = re.compile(r"[\w.-]+(/[\w.-]+)*", re.ASCII)


def is_sensor_name(text: str) -> bool:
    """Tell whether a text may name a sensor: it is a part of topics, and an account of the broker."""
    return bool(_SENSOR.fullmatch(text))


SensorName = Annotated[str, Predicate(is_sensor_name)]
PlaceName = Annotated[str, Predicate(is_place_name)]


@settings_table
class BrokerSettings(BrokerKeys):
    """The MQTT broker, and the topics below which all is said."""

    user: Annotated[str, MaxLen(64)] = ""  # empty: "scopion", or the sensor's name
    topics: Annotated[str, MaxLen(200), Predicate(lambda text: not text or bool(_PREFIX.fullmatch(text)))] = ""


@settings_table
class SiteBrokerSettings(BrokerSettings):
    """The broker, as ``site.toml`` has it."""

    # what is said there for home automation and scripts: who is here, and events
    publish: Annotated[tuple[Literal["presence", "events"], ...], MaxLen(2)] = ()


@settings_table
class SensorSettings:
    """A sensor that may report into this roster, and its place."""

    name: SensorName
    place: PlaceName
    silent_s: Annotated[float, Ge(30), Le(7 * 86_400)] = 180  # after so long without a word it is lost


@settings_table
class SensorFile:
    """The whole of ``sensor.toml``."""

    name: SensorName
    place: PlaceName
    broker: BrokerSettings
    subnets: Annotated[tuple[IPv4Network, ...], MaxLen(64)] = ()  # empty: those of its interfaces
    interfaces: Annotated[tuple[str, ...], MaxLen(64)] = ()  # empty: all that lead to a subnet
    interval_s: Annotated[float, Ge(5), Le(86_400)] = 60  # between sweeps
    method: Literal["auto", "arp", "touch"] = "auto"
    pace: Annotated[float, Ge(1), Le(50_000)] | None = None
    names: bool = True  # whether new devices are asked for their names
    keep_days: Annotated[float, Ge(0.1), Le(365)] = 30  # what could not be told
    keep_mb: Annotated[float, Ge(1), Le(10_000)] = 20


def topics_of(broker: BrokerSettings, site: str) -> str:
    """Return what all topics of a site begin with: the settings', else ``scopion/`` and the site's name."""
    if broker.topics:
        return broker.topics
    name = re.sub(r"[^a-z0-9]+", "-", site.casefold()).strip("-")
    return f"scopion/{name or 'site'}"


def broker_access(broker: BrokerSettings, folder: Path, user: str) -> BrokerAccess:
    """Return how to reach a broker, with its secret. Raises InvalidSettings."""
    password = read_secret(broker.password, folder, "the broker's password") if broker.password else ""
    for path, what in (
        (broker.trust, "the certificates to trust"),
        (broker.certificate, "the client certificate"),
        (broker.key, "the key of the client certificate"),
    ):
        if path and not (folder / path).is_file():
            raise InvalidSettings(f"{folder / path} should hold {what}, and is not there")
    return BrokerAccess.of(broker, folder, broker.user or (user if password else ""), password)


class Topics:
    """The topics of a site at its broker."""

    def __init__(self, begins: str) -> None:
        self.begins = begins
        self.batches = f"{begins}/sensor/+/batch"
        self.states = f"{begins}/sensor/+/state"

    def batch(self, sensor: str) -> str:
        """Return where a sensor reports."""
        return f"{self.begins}/sensor/{sensor}/batch"

    def state(self, sensor: str) -> str:
        """Return where a sensor says how it does."""
        return f"{self.begins}/sensor/{sensor}/state"

    def orders(self, sensor: str) -> str:
        """Return where a sensor reads what it is ordered."""
        return f"{self.begins}/orders/{sensor}"

    def answers(self, sensor: str) -> str:
        """Return where a sensor says what came of an order."""
        return f"{self.begins}/sensor/{sensor}/answer"

    def folded(self, sensor: str) -> str:
        """Return where a sensor is told what is folded."""
        return f"{self.begins}/folded/{sensor}"

    def presence(self, device: str) -> str:
        """Return where it is kept whether a device is here."""
        return f"{self.begins}/presence/{device}"

    def event(self, kind: str) -> str:
        """Return where events of a kind are said."""
        return f"{self.begins}/event/{kind}"

    def sensor_of(self, topic: str) -> str:
        """Return the sensor that a topic belongs to; empty for another topic."""
        begins, _, last = topic.rpartition("/")
        name = begins.removeprefix(f"{self.begins}/sensor/")
        return name if last in ("batch", "state") and is_sensor_name(name) else ""
