"""Enrols a sensor: settings on both machines, an account at the broker, and what each account may read and write there.

What goes to other machines is written into a folder of its own below the site's, to be carried there.
"""

from __future__ import annotations

import base64
import hashlib
import os
import secrets
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Network
from pathlib import Path

from scopion.model.errors import InvalidSettings, Refused, UsageError
from scopion.model.place import is_place_name
from scopion.operations.folder.read_secret import read_secret
from scopion.operations.notify.set_channels import change_settings
from scopion.operations.sensors.load_sensor import FILE as SENSOR_FILE
from scopion.operations.site.broker_settings import BrokerSettings, SensorSettings, is_sensor_name, topics_of
from scopion.operations.site.edit_settings import assigned, with_settings
from scopion.operations.site.open_site import Site
from scopion.roster.store.write_files import make_folder, write_atomically

FOLDER = "sensors"  # in the site's folder: for each sensor a folder to carry to it
BROKER_FOLDER = "broker"  # and what goes to the broker
SECRET_FILE = "broker-password"  # in the site's folder, and in each sensor's
MOSQUITTO_FOLDER = "/etc/mosquitto"
ACCOUNT = "scopion"  # the roster's account at the broker, and its user
_LETTERS = "abcdefghijkmnopqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789"
_LENGTH = 24  # 142 bits
# As mosquitto 2.0 has its password files: PBKDF2 with SHA-512, so many rounds, 64 octets. A made-up password of
# 142 bits needs no more rounds.
_ROUNDS, _OCTETS, _SALT_OCTETS = 101, 64, 12


@dataclass(frozen=True, slots=True)
class NewBroker:
    """The broker, where ``site.toml`` names none yet."""

    host: str
    port: int = 8883
    trust: Path | None = None  # a file with the certificates to trust; None: the system's authorities


@dataclass(frozen=True, slots=True)
class Enrolled:
    """A sensor that was enrolled, and where everything is."""

    sensor: SensorSettings
    broker: BrokerSettings
    begins: str  # what all topics begin with
    to_sensor: Path  # the folder for the sensor's machine
    to_broker: Path  # the folder for the broker's
    named_home: str  # the name that this machine's place was given; empty: it had one
    first: bool  # the broker knows nothing of this site yet


def enrol_sensor(
    site: Site,
    name: str,
    place: str,
    *,
    subnets: Sequence[IPv4Network] = (),
    broker: NewBroker | None = None,
    here: str = "",
) -> Enrolled:
    """Enrol a sensor for a place. Raises UsageError, Refused, InvalidSettings, StorageFailed.

    ``broker`` is needed for the first; ``here`` names this machine's place, which needs a name from then on.
    """
    settings = site.settings
    if not is_sensor_name(name):
        raise UsageError(f"{name!r} is not a name for a sensor: small letters, digits and -, at most 31")
    for text in (place, *([here] if here else [])):
        if not is_place_name(text):
            raise UsageError(f"{text!r} is not the name of a place: up to 40 characters, none of @ / + # , and ;")
    if name in {each.name for each in settings.sensor}:
        raise Refused(f"there is a sensor {name!r} already: take its [[sensor]] out of site.toml to enrol it again")
    if settings.broker is None and broker is None:
        raise UsageError("site.toml names no broker yet: say --broker HOST, and --trust FILE with its certificate")
    named_home = "" if settings.place else here or "main"
    blocks = [f"[[sensor]]\n{assigned(name=name, place=place)}"]
    if settings.broker is None and broker is not None:
        blocks.append(_broker_block(site, broker))
    blocks += [f"[[subnet]]\n{assigned(range=str(each), place=place)}" for each in subnets]
    top = f"place = {_quoted(named_home)}\n" if named_home else ""
    make_folder(site.folder)
    rewritten = change_settings(site, lambda text: top + with_settings(text, "\n\n".join(blocks)))
    if settings.broker is None and broker is not None and broker.trust is not None:
        shutil.copyfile(broker.trust, site.folder / "broker-ca.pem")
    _write_secret(site.folder / SECRET_FILE)
    rewritten()
    site.forget_settings()
    return _written(site, name, subnets, named_home, first=len(site.settings.sensor) == 1)


def _broker_block(site: Site, broker: NewBroker) -> str:
    values: dict[str, str | float | list[str] | None] = {"host": broker.host}
    if broker.port != 8883:
        values["port"] = broker.port
    if broker.trust is not None:
        if not broker.trust.is_file():
            raise UsageError(
                f"{broker.trust} is not there: it should hold the broker's certificate, or its authority's"
            )
        values["trust"] = "broker-ca.pem"
    values["password"] = f"file:{SECRET_FILE}"
    begins = topics_of(BrokerSettings(host=broker.host), site.name)
    return f"[broker]\n{assigned(**values, topics=begins)}"


def _written(site: Site, name: str, subnets: Sequence[IPv4Network], named_home: str, *, first: bool) -> Enrolled:
    """Write what goes to the sensor and to the broker."""
    settings = site.settings
    broker = settings.broker
    sensor = next(each for each in settings.sensor if each.name == name)
    assert broker is not None
    begins = topics_of(broker, site.name)
    to_sensor, to_broker = (site.folder.absolute() / FOLDER / each for each in (name, BROKER_FOLDER))
    make_folder(to_sensor)
    make_folder(to_broker)
    write_atomically(to_sensor / SENSOR_FILE, _sensor_text(sensor, broker, begins, subnets).encode())
    if broker.trust:
        shutil.copyfile(site.folder / broker.trust, to_sensor / Path(broker.trust).name)
    _write_secret(to_sensor / SECRET_FILE)
    access = access_control(begins, [each.name for each in settings.sensor], broker.user or ACCOUNT)
    write_atomically(to_broker / "access", access.encode())
    write_atomically(to_broker / "scopion.conf", _configuration(broker.port).encode())
    write_atomically(to_broker / "passwords", _passwords(site, broker).encode(), 0o600)
    return Enrolled(sensor, broker, begins, to_sensor, to_broker, named_home, first)


def access_control(begins: str, sensors: Sequence[str], account: str) -> str:
    """Return mosquitto's access-control file: a sensor writes below its own topics only, and reads what is for it."""
    lines = [
        "# Made by scopion sensor enrol: which account reads and writes what. It is made again with each sensor.",
        f"user {account}",
        f"topic readwrite {begins}/#",
    ]
    for each in sensors:
        lines += [
            "",
            f"user {each}",
            f"topic write {begins}/sensor/{each}/#",
            f"topic read {begins}/folded/{each}",
            f"topic read {begins}/orders/{each}",
        ]
    return "\n".join(lines) + "\n"


def _configuration(port: int) -> str:
    """Return what mosquitto needs besides, where Debian has its folder for such files (mosquitto.conf(5))."""
    return (
        "# Made by scopion sensor enrol, for /etc/mosquitto/conf.d.\n"
        f"listener {port}\n"
        "# Its certificate: with the name, or the address, by which the sensors and the roster reach it.\n"
        "certfile /etc/mosquitto/certs/server.pem\n"
        "keyfile /etc/mosquitto/certs/server.key\n"
        "allow_anonymous false\n"
        f"password_file {MOSQUITTO_FOLDER}/passwords\n"
        f"acl_file {MOSQUITTO_FOLDER}/access\n"
        "# What is on its way survives a restart.\n"
        "persistence true\n"
    )


def _passwords(site: Site, broker: BrokerSettings) -> str:
    """Return mosquitto's password file: for each account a salted hash."""
    lines = []
    if broker.password:
        lines.append(hashed(broker.user or ACCOUNT, read_secret(broker.password, site.folder, "the broker's password")))
    for each in site.settings.sensor:
        folder = site.folder / FOLDER / each.name
        if (folder / SECRET_FILE).exists():
            secret = read_secret(f"file:{SECRET_FILE}", folder, f"the password of {each.name}")
            lines.append(hashed(each.name, secret))
    return "".join(f"{line}\n" for line in lines)


def hashed(account: str, password: str) -> str:
    """Return the line of an account in mosquitto's password file (mosquitto_passwd(1))."""
    salt = os.urandom(_SALT_OCTETS)
    digest = hashlib.pbkdf2_hmac("sha512", password.encode(), salt, _ROUNDS, _OCTETS)
    return f"{account}:$7${_ROUNDS}${base64.b64encode(salt).decode()}${base64.b64encode(digest).decode()}"


def _sensor_text(sensor: SensorSettings, broker: BrokerSettings, begins: str, subnets: Sequence[IPv4Network]) -> str:
    values = assigned(
        host=broker.host,
        port=broker.port if broker.port != 8883 else None,
        trust=Path(broker.trust).name if broker.trust else None,
        password=f"file:{SECRET_FILE}",
        topics=begins,
    )
    listed = list(map(str, subnets)) or None
    return (
        f"# The sensor {sensor.name!r}, made by scopion sensor enrol. scopion sensor run reads it.\n"
        f"{assigned(name=sensor.name, place=sensor.place, subnets=listed)}\n"
        "# interfaces = []   # by default all that lead to a subnet\n"
        "# interval_s = 60   # between sweeps\n"
        "# keep_days = 30    # what could not be told, and at most...\n"
        "# keep_mb = 20      # ...so much of it\n\n"
        f"[broker]\n{values}\n"
    )


def _write_secret(path: Path) -> None:
    """Make up a password, unless the file is there."""
    if path.exists():
        return
    text = "".join(secrets.choice(_LETTERS) for _ in range(_LENGTH))
    write_atomically(path, f"{text}\n".encode(), 0o600)
    if os.name == "posix":
        path.chmod(0o600)


def _quoted(text: str) -> str:
    if any(each in text for each in '"\\'):
        raise InvalidSettings(f"{text!r} is not the name of a place")
    return f'"{text}"'
