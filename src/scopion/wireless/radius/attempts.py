"""Who was refused and asked all the same, by network: how often, and where last."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from scopion.model.mac import MacAddress
from scopion.roster.store.stored_values import as_written
from scopion.roster.watch_record import Attempt, HeardAttempts
from scopion.wireless.refused_attempts import MOST


class Attempts:
    """Counts, bounded by network: a device that takes another address each time removes older ones."""

    def __init__(self, kept: Mapping[str, HeardAttempts] | None = None) -> None:
        self._since = {network: heard.since for network, heard in (kept or {}).items()}
        self._by_network = {network: dict(heard.by_mac) for network, heard in (kept or {}).items()}

    def count(self, network: str, access_point: str, mac: MacAddress, at: datetime) -> None:
        """Count one."""
        self._since.setdefault(network, at)
        of_network = self._by_network.setdefault(network, {})
        before = of_network.pop(mac, None)  # so that the order is that of the last attempt
        of_network[mac] = Attempt(before.times + 1 if before is not None else 1, at, access_point)
        if len(of_network) > MOST:
            del of_network[next(iter(of_network))]

    def of(self, network: str) -> HeardAttempts | None:
        """Return those of a network; None if there was none yet."""
        if network not in self._since:
            return None
        return HeardAttempts(self._since[network], dict(self._by_network[network]))

    def all(self) -> dict[str, HeardAttempts]:
        """Return all, by network."""
        return {
            network: HeardAttempts(since, dict(self._by_network[network])) for network, since in self._since.items()
        }


def attempts_document(attempts: Mapping[str, HeardAttempts]) -> list[Any]:
    """Return them as JSON."""
    return [
        [network, heard.since.isoformat(), [attempt_document(mac, each) for mac, each in heard.by_mac.items()]]
        for network, heard in attempts.items()
    ]


@as_written("attempts by RADIUS")
def read_attempts(document: Any) -> dict[str, HeardAttempts]:
    """Return attempts that were kept."""
    return {
        str(network): HeardAttempts(datetime.fromisoformat(since), dict(map(read_attempt, by_mac)))
        for network, since, by_mac in document
    }


def attempt_document(mac: MacAddress, attempt: Attempt) -> list[Any]:
    """Return one as JSON."""
    return [str(mac), attempt.times, attempt.last.isoformat(), attempt.access_point]


def read_attempt(document: Any) -> tuple[MacAddress, Attempt]:
    """Return one that was kept."""
    mac, times, last, access_point = document
    return MacAddress.parse(mac), Attempt(int(times), datetime.fromisoformat(last), str(access_point))
