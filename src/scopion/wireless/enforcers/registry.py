"""The types of enforcers. One entry says all that the rest of the program asks about a type.

A new type is a settings class, an enforcer and an entry here: ``docs/extending.md`` has one from beginning to end. What
an entry needs of an enforcer's own file is imported when it is called, so that reading settings stays quick.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from scopion.wireless.enforcer_settings import (
    EnforcerSettings,
    HostapdSettings,
    NftablesSettings,
    PageSettings,
    UciSettings,
)
from scopion.wireless.radius.radius_settings import RadiusSettings

if TYPE_CHECKING:
    from scopion.attachment.ports import Job, Shell
    from scopion.wireless.enforcers.enforcer import Enforcer, Held
    from scopion.wireless.enforcers.radius import Answering
    from scopion.wireless.judge_posture import Finding
    from scopion.wireless.posture import Posture


def _no_server() -> Answering:
    raise NotImplementedError("this site has no server that access points ask")


@dataclass(frozen=True, slots=True)
class Reach:
    """How to reach what holds a list: this machine, another over SSH, a person, a server. Nothing is opened before a
    call.
    """

    open_shell: Callable[[], Shell]  # its programs, files and control sockets
    typed: Callable[[], Mapping[str, Held]] = dict  # by band in GHz, what a person last said was typed in
    answering: Callable[[], Answering] = _no_server  # the server of this site that access points ask


def _nothing(settings: Any) -> Sequence[str]:
    return ()


def _no_sockets(settings: Any) -> Mapping[str, str]:
    return {}


def _no_posture(enforcer: Any, settings: Any) -> Iterator[Posture]:
    return iter(())


def _nothing_permitted(settings: Any, job: Any) -> bool:
    return False


def _no_findings(enforcer: Any, settings: Any) -> Iterator[Finding]:
    return iter(())


@dataclass(frozen=True, slots=True)
class EnforcerType:
    """One type of enforcer. The callables are given the settings of one enforcer of this type."""

    name: str  # ``type`` in site.toml
    settings: type  # the dataclass that its table in site.toml is read into
    open: Callable[[Any, Reach], Enforcer]
    writes: Callable[[Any], Sequence[str]] = _nothing  # files that it writes; relative: to the site's folder
    # By radio, sockets of its machine that the account must be able to use, and that say who was turned away.
    sockets: Callable[[Any], Mapping[str, str]] = _no_sockets
    socket_advice: str = ""  # what to do where such a socket is closed to the account
    capabilities: tuple[str, ...] = ()  # that it needs on this machine, as capabilities(7) calls them
    needs: str = ""  # what these are for, in a few words
    postures: Callable[[Any, Any], Iterator[Posture]] = _no_posture  # what an audit can read of its networks
    findings: Callable[[Any, Any], Iterator[Finding]] = _no_findings  # what else an audit has to say
    by_hand: bool = False  # a person takes the steps: nothing is sent to it
    # Whether a job is one that such an enforcer asks for: a sensor does no other. None at all: it has no hands there.
    permits: Callable[[Any, Job], bool] = _nothing_permitted

    @property
    def by_order(self) -> bool:
        """Tell whether a sensor can carry its steps."""
        return self.permits is not _nothing_permitted


_TYPES: dict[str, EnforcerType] = {}


def register(entry: EnforcerType) -> None:
    """Add a type, before the settings of a site are first read."""
    _TYPES[entry.name] = entry


def enforcer_types() -> tuple[EnforcerType, ...]:
    """Return all types."""
    return tuple(_TYPES.values())


def type_of(settings: EnforcerSettings) -> EnforcerType:
    """The entry of an enforcer's type. Settings of a type that has no entry cannot be read at all."""
    return _TYPES[settings.type]


def _open_hostapd(settings: HostapdSettings, reach: Reach) -> Enforcer:
    from scopion.wireless.enforcers.hostapd import Hostapd

    return Hostapd(settings, reach.open_shell)


def _hostapd_permits(settings: HostapdSettings, job: Job) -> bool:
    from scopion.wireless.enforcers import permitted_jobs

    return permitted_jobs.of_hostapd(settings, job)


def _hostapd_postures(enforcer: Any, settings: HostapdSettings) -> Iterator[Posture]:
    """Yield radio by radio its own network, and all others that the access point carries beside it."""
    from scopion.wireless.posture import Posture, bss_of_hostapd, of_control, of_hostapd

    for radio, of_radio in settings.radio.items():
        where = f"{enforcer.name}, {radio} GHz"
        mode, own = enforcer.mode_of(of_radio.socket), of_radio.socket.rpartition("/")[2]
        text = enforcer.read_file(of_radio.config) if of_radio.config else None
        if text is None:
            yield of_control(where, enforcer.configuration(radio), mode)
            yield from (Posture(where, each) for each in enforcer.others(radio))
            continue
        yield of_hostapd(where, text, own, mode)
        yield from (of_hostapd(where, text, each) for each in bss_of_hostapd(text) if each != own)


def _open_nftables(settings: NftablesSettings, reach: Reach) -> Enforcer:
    from scopion.wireless.enforcers.bridge import BridgeFirewall

    return BridgeFirewall(settings, reach.open_shell)


def _nftables_permits(settings: NftablesSettings, job: Job) -> bool:
    from scopion.wireless.enforcers import permitted_jobs

    return permitted_jobs.of_nftables(settings, job)


def _open_uci(settings: UciSettings, reach: Reach) -> Enforcer:
    from scopion.wireless.enforcers.uci import UciFile

    return UciFile(settings, reach.open_shell)


def _uci_permits(settings: UciSettings, job: Job) -> bool:
    from scopion.wireless.enforcers import permitted_jobs

    return permitted_jobs.of_uci(settings, job)


def _uci_postures(enforcer: Any, settings: UciSettings) -> Iterator[Posture]:
    """Yield every network of the file."""
    from scopion.wireless.enforcers.uci import access_points
    from scopion.wireless.posture import of_uci

    for radio, section in access_points(enforcer.read_file(settings.file) or ""):
        yield of_uci(f"{enforcer.name}, {radio} GHz", section)


def _open_page(settings: PageSettings, reach: Reach) -> Enforcer:
    from scopion.wireless.enforcers.page import Page

    return Page(settings, reach.typed)


def _open_radius(settings: RadiusSettings, reach: Reach) -> Enforcer:
    from scopion.wireless.enforcers.radius import RadiusList

    return RadiusList(settings, reach.answering)


def _radius_findings(enforcer: Any, settings: RadiusSettings) -> Iterator[Finding]:
    from scopion.wireless.radius.judge_radius import judge_radius

    return judge_radius(enforcer.facts())


for _entry in (
    EnforcerType(
        "hostapd",
        HostapdSettings,
        _open_hostapd,
        writes=lambda settings: [
            path
            for radio in settings.radio.values()
            for path in (radio.accept_file, radio.deny_file, radio.config)
            if path
        ],
        sockets=lambda settings: {radio: each.socket for radio, each in settings.radio.items()},
        socket_advice="set ctrl_interface_group in hostapd's configuration",
        postures=_hostapd_postures,
        permits=_hostapd_permits,
    ),
    EnforcerType(
        "nftables",
        NftablesSettings,
        _open_nftables,
        capabilities=("CAP_NET_ADMIN",),
        needs="lists in the firewall",
        permits=_nftables_permits,
    ),
    EnforcerType(
        "uci",
        UciSettings,
        _open_uci,
        writes=lambda settings: [settings.file],
        postures=_uci_postures,
        permits=_uci_permits,
    ),
    EnforcerType("radius", RadiusSettings, _open_radius, findings=_radius_findings),
    EnforcerType("page", PageSettings, _open_page, by_hand=True),
):
    register(_entry)
