"""What ``site.toml`` says of lists by RADIUS: where to listen, and which access points may ask."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_network
from typing import Annotated, Literal

from annotated_types import Ge, Le, MaxLen, MinLen, Predicate

from scopion.model.address import Address
from scopion.model.band import EVERY_RADIO
from scopion.model.secret import Secret
from scopion.model.settings_table import settings_table
from scopion.model.text import joined
from scopion.wire.radius_ports import ACCOUNTING_PORT, AUTHENTICATION_PORT, DISCONNECT_PORT
from scopion.wireless.enforcer_settings import EnforcerSettings, Name, SshSettings

Port = Annotated[int, Ge(1), Le(65_535)]
# A secret can be tried out from a single packet, without the server (RFC 2865, 3 asks for 16 octets at least).
SHORTEST_SECRET = 16
MAC = "{mac}"


def _is_template(text: str) -> bool:
    return not text or text.count(MAC) == 1


@settings_table
class AskingSettings:
    """One access point that asks, or several of the same kind in a subnet of their own."""

    name: Name
    address: IPv4Address | IPv6Address | IPv4Network | IPv6Network
    secret: Secret
    disconnect_port: Annotated[int, Ge(0), Le(65_535)] = DISCONNECT_PORT  # 0: it cannot be told to disconnect
    remembers_s: Annotated[float, Ge(0), Le(86_400)] = 30  # how long it goes by a decision without asking
    # How it writes the device into User-Name; empty: only Calling-Station-Id has it.
    user_name: Annotated[str, MaxLen(80), Predicate(_is_template)] = MAC
    password: Secret = ""  # a fixed password that its page wants; empty: MAC address, secret or none
    says_network: bool = True  # False: it asks for this network only, and does not say so
    signs: bool = True  # False: an old one that sends no Message-Authenticator
    unreachable: Literal["refuses", "admits", "own list"] = "refuses"  # what it does while no server answers

    @property
    def range(self) -> IPv4Network | IPv6Network:
        """Return the addresses from which it asks."""
        return ip_network(self.address)

    def asks_from(self, address: Address) -> bool:
        """Tell whether an address is its own."""
        return address in self.range


@settings_table
class StandbySettings:
    """The second server, on another machine: access points ask it when this one does not answer."""

    address: IPv4Address | IPv6Address
    key: Secret  # signs its list; the same as there
    ssh: SshSettings | None = None  # how to send the list; None: a person, or a program of theirs, carries it
    command: Annotated[tuple[str, ...], MinLen(1), MaxLen(16)] = ("scopion", "wifi", "radius", "take", "-")  # run there


@settings_table
class StandInSettings:
    """This machine is the second server: its list comes from the first one."""

    key: Secret  # the first one's list is signed with it


@settings_table
class RadiusSettings(EnforcerSettings):
    """Access points of any make that ask by RADIUS whether a device may associate."""

    type: Literal["radius"]
    ssh: None = None  # nothing is reached: access points ask
    via: Literal[""] = ""
    access_point: Annotated[tuple[AskingSettings, ...], MinLen(1), MaxLen(256)]
    listen: IPv4Address | IPv6Address | None = None  # None: every address of this machine
    port: Port = AUTHENTICATION_PORT
    accounting_port: Port = ACCOUNTING_PORT
    longest_s: Annotated[int, Ge(60), Le(30 * 86_400)] = 86_400  # after this an access point asks again
    report_s: Annotated[int, Ge(60), Le(86_400)] = 300  # how often it is to report octets
    standby: StandbySettings | None = None
    stands_in: StandInSettings | None = None
    others_vlan: Annotated[int, Ge(1), Le(4094)] | None = None  # where devices go that are on no allow list

    @property
    def radios(self) -> tuple[str, ...]:
        """Return the one that stands for every radio of every access point."""
        return (EVERY_RADIO,)

    def with_access_points(self, access_points: tuple[AskingSettings, ...]) -> RadiusSettings:
        """Return the same with others of its access points."""
        return replace(self, access_point=access_points)


def radius_lists(enforcers: Iterable[EnforcerSettings]) -> list[RadiusSettings]:
    """Return the enforcers whose lists are asked for by RADIUS."""
    return [each for each in enforcers if isinstance(each, RadiusSettings)]


def unanswered(settings: RadiusSettings) -> str:
    """Return what access points do while no server answers, in a sentence without its full stop."""
    does: dict[str, list[str]] = {"refuses": [], "admits": [], "own list": []}
    for each in settings.access_point:
        does[each.unreachable].append(each.name)
    refuse, admit, own = (joined(does[each]) for each in ("refuses", "admits", "own list"))
    said = [
        f"{refuse} {_verb(does['refuses'], 'refuse')} every device that associates then" if refuse else "",
        f"{own} {_verb(does['own list'], 'go')} by a list of {'their' if len(does['own list']) > 1 else 'its'} own"
        if own
        else "",
        f"{admit} {_verb(does['admits'], 'admit')} every device" if admit else "",
    ]
    return f"{without_answer(settings)}, {'; '.join(filter(None, said))}"


def without_answer(settings: RadiusSettings) -> str:
    """Return when that is, in a clause: there may be two servers."""
    if settings.standby is not None:
        return "while neither this machine nor the second server answers"
    if settings.stands_in is not None:
        return "while neither the first server nor this machine answers"
    return "while this machine does not answer"


def _verb(names: Sequence[str], verb: str) -> str:
    return verb if len(names) > 1 else f"{verb}es" if verb == "go" else f"{verb}s"


def radius_problem(enforcers: Sequence[EnforcerSettings]) -> str:
    """Return what does not fit together among lists by RADIUS; empty if all does."""
    asking: list[tuple[RadiusSettings, AskingSettings]] = []
    networks: set[str] = set()
    for settings in enforcers:
        if not isinstance(settings, RadiusSettings):
            continue
        if settings.network in networks:
            return f"two enforcers of type radius hold {settings.network!r}: one has all its access points"
        networks.add(settings.network)
        if settings.standby is not None and settings.stands_in is not None:
            return f"{settings.name!r} has a standby and is one: leave standby or stands_in out"
        if settings.port == settings.accounting_port:
            return f"{settings.name!r} has one port for questions and for accounting: give each its own"
        for each in settings.access_point:
            for other_settings, other in asking:
                if problem := _clash(settings, each, other_settings, other):
                    return problem
            asking.append((settings, each))
    return ""


def _clash(
    settings: RadiusSettings, each: AskingSettings, other_settings: RadiusSettings, other: AskingSettings
) -> str:
    one, two = each.range, other.range
    if one.version != two.version or not one.overlaps(two):
        return ""
    if settings is other_settings:
        if each.name == other.name:
            return f"{settings.name!r} has two access points called {each.name!r}"
        return f"the access points {other.name!r} and {each.name!r} of {settings.name!r} ask from the same addresses"
    # An access point with several networks stands in each of them: what is said of it has to be the same.
    same = (one, each.name, each.secret, each.signs) == (two, other.name, other.secret, other.signs)
    if not same:
        return (
            f"{settings.name!r} and {other_settings.name!r} say different things of the access point at "
            f"{each.address}: name, address, secret and signs have to be the same"
        )
    if not each.says_network and not other.says_network and settings.port == other_settings.port:
        return (
            f"the access point {each.name!r} says no network, and stands in {settings.name!r} and "
            f"{other_settings.name!r}: give one of them another port"
        )
    return ""
