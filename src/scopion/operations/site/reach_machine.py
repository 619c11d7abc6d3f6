"""How to reach another machine, from settings: over SSH, where a key's file is private, or by a sensor there."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from scopion.attachment.ports import SnmpAccess, SshAccess
from scopion.model.errors import InvalidSettings
from scopion.operations.folder.read_secret import read_secret, require_private
from scopion.operations.site.broker_settings import BrokerSettings, Topics, broker_access, topics_of
from scopion.operations.site.snmp_settings import SnmpSettings
from scopion.wireless.enforcer_settings import SshSettings

if TYPE_CHECKING:
    from scopion.attachment.orders.order_line import OrderLine


def ssh_access(folder: Path, ssh: SshSettings) -> SshAccess:
    """Return the access; files without a path are in the site's ``folder``. Raises InvalidSettings."""
    key = str(_beside(folder, ssh.key)) if ssh.key else ""
    if key:
        require_private(Path(key), folder, f"the key of {ssh.user} on {ssh.host}")
    known = str(_beside(folder, ssh.known_hosts)) if ssh.known_hosts else ""
    what = f"the password of {ssh.user} on {ssh.host}"
    password = read_secret(ssh.password, folder, what) if ssh.password else ""
    return SshAccess(ssh.host, ssh.port, ssh.user, key, password, known)


def snmp_access(folder: Path, settings: SnmpSettings, what: str, *, has_secrets: bool = True) -> SnmpAccess:
    """Return how to read a machine over SNMP; ``what`` names it in messages. Raises InvalidSettings."""
    where = f"the {{}} of {what}"
    if settings.version == "2c":
        if not settings.community and has_secrets:
            raise InvalidSettings(f"the {what} needs a community in site.toml (env:NAME or file:PATH)")
        community = read_secret(settings.community, folder, where.format("community")) if has_secrets else ""
        return SnmpAccess(settings.address, settings.port, "2c", community)
    if not settings.user:
        raise InvalidSettings(f"the {what} needs a user in site.toml for SNMP version 3")

    def key(reference: str, protocol: str, what: str) -> tuple[str, str] | None:
        return (protocol, read_secret(reference, folder, where.format(what))) if reference and has_secrets else None

    return SnmpAccess(
        settings.address,
        settings.port,
        "3",
        user=settings.user,
        authentication=key(settings.authentication_key, settings.authentication, "authentication key"),
        privacy=key(settings.privacy_key, settings.privacy, "privacy key"),
    )


def order_line(folder: Path, broker: BrokerSettings | None, site: str, sensor: str) -> OrderLine:
    """Return the way by which a sensor is ordered; nothing is reached yet. Raises InvalidSettings."""
    from scopion.attachment.orders.order_line import OrderLine, SensorAccess
    from scopion.attachment.orders.seal import Seal

    if broker is None:
        raise InvalidSettings("site.toml has no [broker], by which sensors are reached")
    key = order_key(sensor)
    if not (folder / key).exists():
        raise InvalidSettings(f"{sensor} takes no orders yet: scopion sensor orders {sensor} says what to do")
    topics = Topics(topics_of(broker, site))
    seal = Seal(read_secret(f"file:{key}", folder, f"the key for orders to {sensor}"), topics.begins, sensor)
    access = broker_access(broker, folder, "scopion")
    return OrderLine(SensorAccess(sensor, access, topics.orders(sensor), topics.answers(sensor), seal))


def order_key(sensor: str) -> str:
    """Return the file, in the site's folder, with the key for orders to a sensor."""
    return f"orders-{sensor}.key"


def _beside(folder: Path, name: str) -> Path:
    path = Path(name).expanduser()
    return path if path.is_absolute() else folder / path
