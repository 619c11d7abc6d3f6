"""Makes what answers access points, from the settings of a site and their secrets."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from scopion.model.errors import InvalidSettings
from scopion.model.week import Local
from scopion.operations.folder.read_secret import read_secret
from scopion.wireless.radius.answer import Answer
from scopion.wireless.radius.asking_points import Secrets
from scopion.wireless.radius.radius_settings import SHORTEST_SECRET, AskingSettings, RadiusSettings
from scopion.wireless.radius.responder import Memory, Responder
from scopion.wireless.refusals import quoted


def missing_secret(asking: AskingSettings, folder: Path) -> Path | None:
    """Return the file that is to have an access point's secret, if it is not there yet."""
    kind, _, name = asking.secret.partition(":")
    if kind != "file":
        return None
    try:
        (folder / name).stat()
    except FileNotFoundError:
        return folder / name
    except OSError:  # there, or not, it says why when it is read
        pass
    return None


def secrets_of(settings: RadiusSettings, asking: AskingSettings, folder: Path) -> Secrets:
    """Return what an access point and this machine share. Raises InvalidSettings."""
    what = f"the RADIUS secret of {asking.name!r}"
    if not asking.secret:
        raise InvalidSettings(f"{what} is empty: write env:NAME, file:PATH or credential:NAME")
    word = quoted(settings.network)
    if (path := missing_secret(asking, folder)) is not None:
        raise InvalidSettings(f"{what} is missing: scopion wifi radius {word} --make-secrets makes one up, in {path}")
    secret = read_secret(asking.secret, folder, what)
    if len(secret) < SHORTEST_SECRET:
        raise InvalidSettings(
            f"{what} has {len(secret)} characters: with fewer than {SHORTEST_SECRET} it can be found out from a single "
            f"packet; without its file, scopion wifi radius {word} --make-secrets makes one up"
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
