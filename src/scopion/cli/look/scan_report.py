"""The output of ``scan`` besides its rows: the JSON document, notes, news and the closing sentence."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from typing import Any

from scopion.alerts.news import tell
from scopion.cli.parts.event_rows import event_row
from scopion.cli.parts.output import row_of
from scopion.cli.parts.session import Session
from scopion.cli.parts.terminal import style
from scopion.discovery.probing import Method
from scopion.model.device import EventKind
from scopion.model.text import closed, counted
from scopion.operations.scan.scan_result import ScanResult, notes


def document(result: ScanResult, rows: list[dict[str, Any]]) -> dict[str, Any]:
    """Return the whole result under its JSON keys, with the rows as they are shown."""
    findings = result.findings
    return {
        "scan": {
            **row_of(result, ("targets", "subnet", "method", "started", "baseline", "memory_lost")),
            "interface": result.choice.interface.name,
            "seconds": round(findings.duration_s, 3),
            **row_of(findings, ("completed", "interruption", "asked", "answered", "requests", "rounds")),
            "loss": round(findings.loss, 3),
            "remembered": result.folded,
            "site": str(result.recognition.verdict),
            "site_reason": result.recognition.reason,
            "frames_heard": findings.heard.frames if findings.heard else None,
        },
        "hosts": rows,
        "events": [event_row(event) for event in result.events],
    }


def tell_result(session: Session, result: ScanResult) -> None:
    """Print the notes, the news and the closing sentence."""
    if result.hosts:
        session.note("")
    for note in notes(result):
        session.note(f"{style('Note:', fg='yellow')} {closed(note)}")
    news = tell(result.events, result.devices, session.site.vendors)
    for piece in news:
        session.note(f"{style(piece.kind + ':', bold=True)} {piece.sentence}.")
    if result.method is Method.TOUCH:
        also = "" if result.calls_ipv6 else ", and hosts that have IPv6 only are not found"
        session.note(
            f"Without raw frames only one of two devices at one address is seen{also}: scopion here says more."
        )
    for remark in _remarks(session, result):
        session.note(remark)
    session.note(_closing(result, Counter(piece.kind for piece in news)))


def _remarks(session: Session, result: ScanResult) -> Iterable[str]:
    """Yield what became of the memory, if that is unusual."""
    if result.memory_lost:
        yield (
            f"The memory of earlier devices was lost: the damaged roster is kept as {result.memory_lost} in "
            f"{session.folder}. This is not a first scan; which devices are new is not known this time."
        )
    elif result.baseline:
        yield f"This is the baseline of {result.subnet}: from now on a scan shows which devices joined and left."
    if not result.recognition.is_site:
        if result.folded:
            yield f"{result.subnet} now belongs to {session.site.name}."
            return
        yield (
            f"Not remembered: this is not one of the networks of {session.site.name}, {result.recognition.reason}. "
            "To make it one of its networks: scopion scan --remember."
        )


def _closing(result: ScanResult, counts: Counter[EventKind]) -> str:
    findings = result.findings
    words = {
        EventKind.GATEWAY_CHANGED: "gateway changed",
        EventKind.UNWANTED_PRESENT: "unwanted",
        EventKind.CONTESTED: "contested",
        EventKind.JOINED: "joined",
        EventKind.READDRESSED: "moved",
        EventKind.RETURNED: "back",
        EventKind.GUEST_OVERSTAYED: "overstayed",
        EventKind.RENAMED: "renamed",
        EventKind.LEFT: "gone",
    }
    lead = ", ".join(f"{counts[kind]} {word}" for kind, word in words.items() if kind in counts)
    if not lead:
        known = result.folded and not result.baseline and not result.memory_lost
        lead = "No change" if known and findings.completed else f"{findings.answered} found"
    partial = "" if findings.completed else "PARTIAL: "
    of_all = "" if findings.completed else f" of {len(result.targets)}"
    if findings.heard is not None:
        heard = findings.heard
        return (
            f"{partial}{style(lead, bold=True)} - heard on {result.choice.interface.name} in "
            f"{findings.duration_s:.0f} s: {counted(heard.frames, 'frame')}, {heard.understood} told something about a "
            "device; no frame was sent, so no device counts as gone."
        )
    return (
        f"{partial}{style(lead, bold=True)} - {result.range} on {result.choice.interface.name}: "
        f"{findings.asked}{of_all} asked, {findings.answered} answered in {findings.duration_s:.1f} s."
    )
