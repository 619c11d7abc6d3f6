"""Makes what answers access points, from the settings of a site and their secrets."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

from scopion.model.errors import InvalidSettings
from scopion.model.week import Local
from scopion.operations.folder.read_secret import read_secret
from scopion.wireless.enforcer_settings import EnforcerSettings
from scopion.wireless.radius.answer import Answer
from scopion.wireless.radius.asking_points import Secrets
from scopion.wireless.radius.radius_settings import SHORTEST_SECRET, AskingSettings, RadiusSettings
from scopion.wireless.radius.responder import Memory, Responder


def radius_lists(enforcers: Iterable[EnforcerSettings]) -> list[RadiusSettings]:
    """Return the enforcers whose lists are asked for by RADIUS."""
    return [each for each in enforcers if isinstance(each, RadiusSettings)]


def secrets_of(settings: RadiusSettings, asking: AskingSettings, folder: Path) -> Secrets:
    """Return what an access point and this machine share. Raises InvalidSettings."""
    what = f"the RADIUS secret of {asking.name!r}"
    if not asking.secret:
        raise InvalidSettings(f"{what} is empty: write env:NAME, file:PATH or credential:NAME")
    secret = read_secret(asking.secret, folder, what)
    if len(secret) < SHORTEST_SECRET:
        raise InvalidSettings(
            f"{what} has {len(secret)} characters: with fewer than {SHORTEST_SECRET} it can be found out from a single "
            f"packet; scopion wifi radius {settings.network!r} makes one up"
        )
    password = read_secret(asking.password, folder, f"the password of {asking.name!r}") if asking.password else ""
    return Secrets(secret, password)


def make_responder(
    lists: list[RadiusSettings],
    folder: Path,
    local: Local,
    memory: Memory,
    note: Callable[[Answer], None],
    *,
    told: Callable[[str], None],
    before: Mapping[tuple[str, str], Secrets],
) -> Responder:
    """Return what answers for these lists.

    A secret that cannot be read is ``told``. The one of before is used then; without one, its access point is left out.
    """
    secrets: dict[tuple[str, str], Secrets] = {}
    kept: list[RadiusSettings] = []
    for settings in lists:
        asking = []
        for each in settings.access_point:
            key = (settings.name, each.name)
            try:
                secrets[key] = secrets_of(settings, each, folder)
            except InvalidSettings as error:
                told(str(error))
                if key not in before:
                    continue
                secrets[key] = before[key]
            asking.append(each)
        kept.append(settings.with_access_points(tuple(asking)))
    return Responder(kept, secrets, local, memory, note)
