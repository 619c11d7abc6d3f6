"""Who is associated, as access points report by accounting (RFC 2866), and who was let in without a report.

Reports may come twice, late, or in another order: counts never go back, and what was reported as ended stays ended,
until it begins again. What ended because no report came goes on when one comes.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

from scopion.model.mac import MacAddress
from scopion.roster.store.stored_values import as_written
from scopion.wire.radius import RadiusMessage

START, STOP, INTERIM, ON, OFF = 1, 2, 3, 7, 8  # Acct-Status-Type (RFC 2866, 5.1)
# An access point has some hundred stations at most; a made-up session for each packet gets no further.
_MOST = 4_096
# What has ended stays for so long: the watch takes it in meanwhile.
_ENDED_STAY = timedelta(days=1)
# An access point that asks about the same device again and again says nothing new.
_FRESH = timedelta(seconds=10)
# Reports that fail to come so many times in a row: the access point is off, or has forgotten the session.
_MISSED = 3
_LONGEST_S = 10 * 366 * 86_400


@dataclass(frozen=True, slots=True)
class Session:
    """A device on an access point, from its beginning."""

    mac: MacAddress
    network: str
    access_point: str
    number: str  # as the access point calls it; empty: it was let in, and nothing is reported
    written: str  # the device, as this access point writes it
    address: str  # of the access point: several may have one name
    since: datetime
    seen: datetime
    received: int = 0  # octets from the device
    sent: int = 0  # octets to it
    reports: bool = False  # it was reported on between beginning and end
    ended: datetime | None = None
    silent: bool = False  # it ended because no report came
    stamp: int = 0  # the access point's clock at its last report, in seconds since 1970; 0: it tells none
    other_vlan: bool = False  # it was let into the VLAN of devices that are on no list

    @property
    def key(self) -> tuple[str, str, MacAddress, str]:
        """Return what tells sessions apart."""
        return self.access_point, self.network, self.mac, self.number

    @property
    def departure(self) -> tuple[str, str, MacAddress]:
        """Return what an access point is told when the device is to leave it."""
        return self.access_point, self.network, self.mac


class Sessions:
    """All that are known; bounded."""

    def __init__(self, kept: Iterable[Session] = ()) -> None:
        self._by_key = {each.key: each for each in kept}
        self.count = 0  # of changes

    def __iter__(self) -> Iterator[Session]:
        return iter(self._by_key.values())

    def is_new(self, access_point: str, network: str, mac: MacAddress, now: datetime, *, other_vlan: bool) -> bool:
        """Tell whether it says anything new that a device is let in."""
        before = self._by_key.get((access_point, network, mac, ""))
        if before is None or before.ended is not None or before.other_vlan is not other_vlan:
            return True
        return abs(now - before.seen) > _FRESH  # clocks also go back

    def grant(self, session: Session) -> None:
        """Note that a device was let in; what is reported of it by accounting counts more."""
        before = self._by_key.get(session.key)
        since = before.since if before is not None and before.ended is None else session.since
        self._put(replace(session, since=since))

    def report(self, message: RadiusMessage, session: Session) -> None:
        """Take in a report; ``session`` says which device it is about, as seen now."""
        kind, now = message.number("Acct-Status-Type"), session.seen
        if kind not in (START, STOP, INTERIM):
            return
        lasted, stamp = message.number("Acct-Session-Time") or 0, message.number("Event-Timestamp") or 0
        since = now - timedelta(seconds=lasted) if lasted <= _LONGEST_S else now
        before = self._by_key.get(session.key)
        if before is not None and before.ended is not None and kind == START and stamp >= before.stamp:
            # hostapd gives a station that comes back the number that it had.
            del self._by_key[before.key]
            self._put(replace(before, number=f"{before.number}/{before.since.isoformat()}"))
            before = None
        granted = self._by_key.pop((*session.key[:3], ""), None)
        before = before if before is not None else replace(session, since=since)
        over = before.ended if not before.silent else None
        self._put(
            replace(
                before,
                seen=before.seen if over else now,
                written=session.written,
                address=session.address,
                received=max(before.received, _octets(message, "Input")),
                sent=max(before.sent, _octets(message, "Output")),
                reports=before.reports or kind == INTERIM,
                ended=over or (now if kind == STOP else None),
                silent=False,
                stamp=max(stamp, before.stamp),
                other_vlan=granted.other_vlan if granted is not None else before.other_vlan,
            )
        )

    def end(self, which: Iterable[Session], at: datetime) -> None:
        """Note that sessions have ended without a report."""
        for each in list(which):
            if each.key in self._by_key:
                self._by_key[each.key] = replace(each, ended=at)

    def end_all_of(self, access_point: str, at: datetime) -> None:
        """Note that an access point has started again (Accounting-On, Accounting-Off): all that it had are over."""
        self.end((each for each in self if each.access_point == access_point and each.ended is None), at)

    def settle(self, now: datetime, report_s: Mapping[str, float], longest_s: Mapping[str, float]) -> None:
        """End what is no longer reported, and drop what ended long ago; limits are by network, in seconds."""
        for each in list(self):
            if each.ended is not None:
                if now - each.ended > _ENDED_STAY:
                    del self._by_key[each.key]
                continue
            silent = _MISSED * report_s.get(each.network, 0) if each.reports else longest_s.get(each.network, 0)
            if (now - each.seen).total_seconds() > silent:
                self._by_key[each.key] = replace(each, ended=each.seen, silent=True)

    def _put(self, session: Session) -> None:
        self.count += 1
        self._by_key[session.key] = session
        if len(self._by_key) > _MOST:
            oldest = min(self._by_key.values(), key=lambda each: (each.ended is None, each.seen))
            del self._by_key[oldest.key]


def present(sessions: Iterable[Session]) -> list[Session]:
    """Return who is associated by accounting, once each: on the access point that reported last."""
    found: dict[tuple[str, MacAddress], Session] = {}
    for each in sorted(sessions, key=lambda each: each.seen):
        if each.ended is None and each.number:
            found[each.network, each.mac] = each
    return list(found.values())


def _octets(message: RadiusMessage, way: str) -> int:
    """Return a count of octets, with its upper half (RFC 2869, 5.1 and 5.2)."""
    return ((message.number(f"Acct-{way}-Gigawords") or 0) << 32) + (message.number(f"Acct-{way}-Octets") or 0)


def session_document(session: Session) -> dict[str, Any]:
    """Return it as JSON."""
    return {
        "mac": str(session.mac),
        "network": session.network,
        "access_point": session.access_point,
        "number": session.number,
        "written": session.written,
        "address": session.address,
        "since": session.since.isoformat(),
        "seen": session.seen.isoformat(),
        "received": session.received,
        "sent": session.sent,
        "reports": session.reports,
        "ended": session.ended.isoformat() if session.ended is not None else None,
        "silent": session.silent,
        "stamp": session.stamp,
        "other_vlan": session.other_vlan,
    }


@as_written("a session by RADIUS")
def read_session(document: Mapping[str, Any]) -> Session:
    """Return a session that was kept."""
    return Session(
        MacAddress.parse(document["mac"]),
        str(document["network"]),
        str(document["access_point"]),
        str(document["number"]),
        str(document["written"]),
        str(document["address"]),
        datetime.fromisoformat(document["since"]),
        datetime.fromisoformat(document["seen"]),
        int(document["received"]),
        int(document["sent"]),
        bool(document["reports"]),
        datetime.fromisoformat(document["ended"]) if document["ended"] is not None else None,
        bool(document["silent"]),
        int(document["stamp"]),
        bool(document["other_vlan"]),
    )
