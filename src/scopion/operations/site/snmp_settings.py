"""What ``site.toml`` says of machines that are read over SNMP: routers and switches. Validated elsewhere."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv6Address
from typing import Annotated, Literal

from annotated_types import Ge, Le, MaxLen, Predicate

from scopion.model.secret import Secret
from scopion.model.settings_table import settings_table

Vlan = Annotated[int, Ge(1), Le(4094)]


@settings_table
class SnmpSettings:
    """How a machine is read over SNMP. Secrets are ``env:NAME`` or ``file:PATH``."""

    address: IPv4Address | IPv6Address
    version: Literal["2c", "3"] = "2c"
    port: Annotated[int, Ge(1), Le(65_535)] = 161
    community: Secret = ""
    user: Annotated[str, MaxLen(32)] = ""
    authentication: Literal["md5", "sha", "sha256", "sha512"] = "sha256"
    authentication_key: Secret = ""
    privacy: Literal["des", "aes", "aes256"] = "aes"
    privacy_key: Secret = ""


@settings_table
class RouterSettings(SnmpSettings):
    """A router whose address table pairs the hosts behind it."""


def _is_switch_name(text: str) -> bool:
    return bool(text.strip()) and text == text.strip() and text.isprintable() and len(text) <= 60 and "/" not in text


@settings_table
class SwitchSettings(SnmpSettings):
    """A switch that tells at which of its ports an adapter hangs, and what the ports count."""

    name: Annotated[str, Predicate(_is_switch_name)]
    # VLANs whose forwarding table the switch gives only if it is asked for by name: behind the community (public@10),
    # or as a context of version 3 (vlan-10)
    vlans: Annotated[tuple[Vlan, ...], MaxLen(64)] = ()


@settings_table
class WhereSettings:
    """What is watched of the places of devices."""

    # labels or MACs of devices that do not move: another port or access point is told
    fixed: Annotated[tuple[str, ...], MaxLen(256)] = ()
