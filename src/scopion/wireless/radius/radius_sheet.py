"""The sheet for lists by RADIUS: what to enter in the page of an access point of any make. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from scopion.model.mac import MacAddress
from scopion.model.text import capitalised, joined
from scopion.wireless.radius.radius_settings import AskingSettings, RadiusSettings, without_answer
from scopion.wireless.refusals import quoted
from scopion.wireless.router_sheet import Sheet, SheetLine, SheetStep

_NAMES = (
    "MAC authentication, RADIUS MAC authentication, MAC-based authentication, MAC access control by RADIUS, "
    "MAC filter: RADIUS, MAC authentication bypass"
)
_LIMITS = (
    "What a list cannot do: a MAC address can be read off the air and copied, so this keeps out the casual visitor "
    "only; encryption (WPA2 or WPA3) and a passphrase changed after it has spread are what protects the network."
)


@dataclass(frozen=True, slots=True)
class RadiusSheetFacts:
    """What is known when the sheet is made."""

    settings: RadiusSettings
    made: str  # when, as a person reads it
    server: str  # the address of this machine; empty: not known
    second: str = ""  # the address of a standby; empty: there is none
    secrets: Mapping[str, str] = field(default_factory=dict, repr=False)  # by access point, those that are to be shown
    essential: Sequence[tuple[MacAddress, str]] = ()


def radius_sheet(facts: RadiusSheetFacts) -> Sheet:
    """Return the sheet for all access points of a network."""
    settings = facts.settings
    points = settings.access_point
    word = quoted(settings.network)
    return Sheet(
        title=f"The list of {settings.network!r} by RADIUS: what to enter",
        about=f"for {joined([each.name for each in points])}; made {facts.made}",
        says=(
            "Each access point asks this machine whether a device may associate. Do all steps on one access point, see "
            "that it works, then go on with the next."
        ),
        steps=tuple(_steps(facts)),
        hours=(),
        hours_say="",
        tail=(
            f"Afterwards, with a device that is on the list and one that is not: scopion wifi radius log {word}",
            _LIMITS,
        ),
    )


def _steps(facts: RadiusSheetFacts) -> Iterator[SheetStep]:
    settings, points = facts.settings, facts.settings.access_point
    word = quoted(settings.network)
    yield SheetStep(
        f"Here: scopion wifi radius test {word}. It says whether the server answers, before any access point asks."
    )
    pages = tuple(SheetLine(str(each.address), each.name) for each in points)
    yield SheetStep("Open the page of the access point, where its wireless network is set up.", pages)
    yield SheetStep(
        f"Leave {settings.network!r} as it is: WPA2 or WPA3 with its passphrase. Do not choose Enterprise or 802.1X: "
        "then the access point asks for persons, which is something else."
    )
    yield SheetStep(
        "Enter the RADIUS server (also called authentication server, or AAA server):",
        tuple(_server(facts, settings.port, points)),
    )
    yield SheetStep(
        f"Switch on MAC authentication for {settings.network!r}, on all bands. It is called: {_NAMES}. Any format of "
        "the MAC address will do, and any password that it offers: the address itself, the secret, or none.",
        then=_peculiar(points),
    )
    yield SheetStep(
        "If there is RADIUS accounting, switch it on: only so it is known which devices are associated.",
        (
            *_server(facts, settings.accounting_port, points),
            SheetLine(str(settings.report_s), "seconds between reports (interim update), if it asks"),
        ),
    )
    told = [each for each in points if each.disconnect_port]
    if told:
        ports = joined(sorted({str(each.disconnect_port) for each in told}))
        yield SheetStep(
            "If there is dynamic authorization (also called RFC 5176, RFC 3576, CoA or Disconnect), switch it on, so "
            "that a device which is refused from now on is disconnected at once:",
            (
                SheetLine(facts.server or "this machine", "its client, from which it takes orders"),
                SheetLine(ports, "its port"),
            ),
            "The secret is the same. Without it a device stays until its session ends, within "
            f"{_span(settings.longest_s)}.",
        )
    if settings.others_vlan is not None:
        yield SheetStep(
            "Let the server assign the VLAN (dynamic VLAN, RADIUS VLAN): a device that is on no list goes into VLAN "
            f"{settings.others_vlan}, which has to lead to the guests' network and nowhere else."
        )
    yield from _without_answer(facts)
    yield SheetStep("Save, and associate with a device that is on the list.")


def _server(facts: RadiusSheetFacts, port: int, points: Sequence[AskingSettings]) -> Iterator[SheetLine]:
    yield SheetLine(facts.server or "?", "address of the server: this machine, which has to keep this address")
    if facts.second:
        yield SheetLine(facts.second, "address of the second server")
    yield SheetLine(str(port), "port")
    for each in points:
        yield SheetLine(facts.secrets.get(each.name, "(the secret)"), f"secret of {each.name}: {_kept(each)}")


def _kept(each: AskingSettings) -> str:
    kind, _, name = each.secret.partition(":")
    return {"file": f"in the file {name}", "env": f"in the variable {name}"}.get(kind, f"the credential {name}")


def _peculiar(points: Sequence[AskingSettings]) -> str:
    fixed = [each.name for each in points if each.password]
    return f"{joined(fixed)} sends a fixed password: the one that site.toml refers to." if fixed else ""


def _without_answer(facts: RadiusSheetFacts) -> Iterator[SheetStep]:
    points = facts.settings.access_point
    lists = [each for each in points if each.unreachable == "own list"]
    lines = tuple(SheetLine(str(mac), name) for mac, name in facts.essential)
    if lists and lines:
        names = joined([each.name for each in lists])
        yield SheetStep(
            f"{names} has a list of its own for the time when no server answers. Enter the essential devices:", lines
        )
    refuse = [each.name for each in points if each.unreachable == "refuses"]
    if refuse:
        alone = facts.settings.standby is None and facts.settings.stands_in is None
        second = " There is no second server." if alone else ""
        yield SheetStep(
            f"{capitalised(without_answer(facts.settings))}, {joined(refuse)} will let no device in; those that are "
            f"associated stay until their session ends.{second} If the page can say what happens then, choose "
            "what suits you, and set unreachable in site.toml to it.",
        )


def _span(seconds: int) -> str:
    hours = seconds / 3_600
    return f"{hours:g} hours" if hours >= 2 else f"{round(seconds / 60)} minutes"
