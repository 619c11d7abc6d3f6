"""What ``site.toml`` says of enforcers: how each is reached, and what it holds. Plain values, validated elsewhere."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated, Literal

from annotated_types import Ge, Le, MaxLen, MinLen, Predicate

from scopion.model.mac import Notation
from scopion.model.secret import Secret
from scopion.model.settings_table import settings_table

_INTERFACE = re.compile(r"[\w.:-]{1,15}", re.ASCII)


def _is_name(text: str) -> bool:
    return bool(re.fullmatch(r"[\w][\w -]{0,39}", text))


def _is_path(text: str) -> bool:
    return text.startswith("/") and "\0" not in text and "\n" not in text


def _is_interface(text: str) -> bool:
    return bool(_INTERFACE.fullmatch(text))


def _is_page_address(text: str) -> bool:
    return not text or bool(re.fullmatch(r"(https?://)?[\w.-]+(:\d{1,5})?(/[\w./~%-]*)?", text, re.ASCII))


def _is_each_once(bands: Sequence[str]) -> bool:
    return len(set(bands)) == len(bands)


Name = Annotated[str, Predicate(_is_name)]
AbsolutePath = Annotated[str, Predicate(_is_path)]
Interface = Annotated[str, Predicate(_is_interface)]
Radio = Literal["2.4", "5", "6"]
Ssid = Annotated[str, MinLen(1), MaxLen(32)]
Capacity = Annotated[int, Ge(1), Le(100_000)]
# A reply of hostapd has 4096 octets, and a longer list is cut silently: no more entries can be read back.
HOSTAPD_READABLE = 140


@settings_table
class SshSettings:
    """How to log in to the machine that holds a list."""

    host: Annotated[str, MinLen(1), MaxLen(255)]
    port: Annotated[int, Ge(1), Le(65_535)] = 22
    user: Annotated[str, MinLen(1), MaxLen(64)] = "root"
    key: str = ""  # a file, in the site's folder if it has no path
    password: Secret = ""
    known_hosts: str = ""


@settings_table
class EnforcerSettings:
    """What the settings of every enforcer have; each type adds its own."""

    type: str
    name: Name
    network: Ssid  # whose list it holds
    capacity: Capacity | None = None
    ssh: SshSettings | None = None  # how to reach the machine that holds the list; None: it is this machine
    via: str = ""  # the sensor that carries its steps, as seen from there; empty: this machine does

    @property
    def is_here(self) -> bool:
        """Tell whether it is this machine that holds the list."""
        return self.ssh is None and not self.via

    @property
    def holds(self) -> int | None:
        """Return how many entries each radio takes; None: not known."""
        return self.capacity

    @property
    def radios(self) -> tuple[str, ...]:
        """Return the bands, in GHz, that have a table of their own; empty: only the enforcer itself tells."""
        return tuple(getattr(self, "radio", ()))


@settings_table
class HostapdRadio:
    """One BSS of the daemon: its control socket, and the files that make its lists last."""

    socket: AbsolutePath
    accept_file: AbsolutePath | Literal[""] = ""
    deny_file: AbsolutePath | Literal[""] = ""
    config: AbsolutePath | Literal[""] = ""


@settings_table
class HostapdSettings(EnforcerSettings):
    """The access point daemon hostapd, by its control sockets."""

    type: Literal["hostapd"]
    radio: Annotated[dict[Radio, HostapdRadio], MinLen(1)]

    @property
    def holds(self) -> int | None:
        """Return how many entries each radio takes; None: not known."""
        return min(self.capacity or HOSTAPD_READABLE, HOSTAPD_READABLE)


@settings_table
class BridgePort:
    """The wireless interface of one radio, as a port of a bridge."""

    interface: Interface


@settings_table
class NftablesSettings(EnforcerSettings):
    """The bridge firewall of a Linux router or access point."""

    type: Literal["nftables"]
    radio: Annotated[dict[Radio, BridgePort], MinLen(1)]


@settings_table
class UciSettings(EnforcerSettings):
    """The wireless configuration of a router's firmware, as a file of UCI."""

    type: Literal["uci"]
    file: str = "/etc/config/wireless"
    reload: Annotated[tuple[str, ...], MaxLen(8)] = ("wifi", "reload")  # the command that puts it in force; empty: none


@settings_table
class PageSettings(EnforcerSettings):
    """A router that has nothing but a web page: a person types what a sheet says."""

    type: Literal["page"]
    ssh: None = None  # nothing is reached
    via: Literal[""] = ""
    page: Annotated[str, MaxLen(255), Predicate(_is_page_address)] = (
        ""  # its address, to open in a browser; empty: as the network's router
    )
    notation: Notation = Notation.COLON  # what the page accepts
    bands: Annotated[tuple[Radio, ...], MinLen(1), MaxLen(3), Predicate(_is_each_once)] = (
        "2.4",
        "5",
    )  # in GHz, each with a list of its own
    modes: bool = True  # its lists can be switched to off, allow or deny; false: what is on its list is denied
    timetable: bool = False  # it keeps hours itself, so that they are typed once
    refuses: bool = True  # false: a denied device stays associated, and its traffic is dropped

    @property
    def radios(self) -> tuple[str, ...]:
        """Return the bands, in GHz, of which its sheet has a part."""
        return self.bands


@settings_table
class WirelessSettings:
    """How wireless lists are looked after."""

    stations_s: Annotated[float, Ge(5), Le(86_400)] = 60  # how often the watch reads the associated stations
    # A refused device that asks again is told again after this.
    attempts_again_s: Annotated[float, Ge(60), Le(366 * 86_400)] = 86_400


def enforcer_problem(enforcers: Sequence[EnforcerSettings]) -> str:
    """Return what does not fit together among enforcers; empty if all does."""
    names = [each.name for each in enforcers]
    twice = next((name for name in names if names.count(name) > 1), None)
    return f"two enforcers are called {twice!r}" if twice else ""
