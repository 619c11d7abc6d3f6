"""Lists for a second server: the first one signs and sends them, the second one takes them."""

from __future__ import annotations

from datetime import datetime

from scopion.attachment.ports import Program
from scopion.model.clock import spoken_span
from scopion.model.errors import EnforcerUnreachable, NotFound, Refused
from scopion.model.text import clean
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.folder.read_secret import read_secret
from scopion.operations.radius.ask_server import radius_settings_of
from scopion.operations.site.open_site import Site
from scopion.operations.site.reach_machine import ssh_access
from scopion.wireless.radius.radius_settings import RadiusSettings, StandbySettings, radius_lists
from scopion.wireless.radius.standby_list import StandbyList, read_signed, signed_text


def export_list(site: Site, ssid: str) -> str:
    """Return the signed list of a network, for its second server. Raises NotFound, InvalidSettings."""
    settings = radius_settings_of(site, ssid)
    return _signed(site, settings, _standby_of(settings))


def send_list(site: Site, settings: RadiusSettings) -> bool:
    """Send the list of a network to its second server over SSH; False if it has none that is reached so.

    Raises EnforcerUnreachable, InvalidSettings.
    """
    standby = settings.standby
    if standby is None or standby.ssh is None:
        return False
    shell = site.shells.open(ssh_access(site.folder, standby.ssh))
    (ran,) = shell.carry_out([Program(standby.command, _signed(site, settings, standby))])
    if ran.code != 0:
        lines = (ran.errors.strip() or ran.output.strip()).splitlines()
        said = clean(lines[-1], 160) if lines else f"exit code {ran.code}"
        raise EnforcerUnreachable(f"the standby at {standby.address} does not take the list: {said}")
    return True


def take_list(site: Site, text: str) -> StandbyList:
    """Take a signed list, here on the second machine. Raises NotFound, Refused, DamagedRoster, InvalidSettings.

    One that is older than the list here is refused: it may be replayed.
    """
    waiting = [each for each in radius_lists(site.settings.enforcer) if each.stands_in is not None]
    if not waiting:
        raise NotFound("no list here stands in for a first server: set stands_in in site.toml")
    what = "the key of the standby"
    keys = {each.network: read_secret(each.stands_in.key, site.folder, what) for each in waiting if each.stands_in}
    problem: Refused | None = None
    for key in dict.fromkeys(keys.values()):
        try:
            taken = read_signed(text, key)
            break
        except Refused as error:
            problem = error
    else:
        assert problem is not None
        raise problem
    if keys.get(taken.network) != key:
        raise NotFound(f"no list here stands in for {taken.network!r}")
    files = RadiusFiles(site.folder)
    before = files.standby_sent(taken.network)
    if before is not None and taken.sent < before:
        old = spoken_span(before - taken.sent)
        raise Refused(f"this list of {taken.network!r} is {old} older than the one here: the newer one stays")
    if taken.text:
        files.write(files.list_of(taken.network), taken.text)
    else:
        files.list_of(taken.network).unlink(missing_ok=True)
    files.note_standby(taken.network, taken.sent)
    return taken


def standing_in(site: Site) -> list[tuple[str, datetime | None]]:
    """Return the networks for whose first server this machine stands in, and when that sent the list; None: never."""
    files = RadiusFiles(site.folder)
    lists = [each for each in radius_lists(site.settings.enforcer) if each.stands_in is not None]
    return [(each.network, files.standby_sent(each.network)) for each in lists]


def _signed(site: Site, settings: RadiusSettings, standby: StandbySettings) -> str:
    files = RadiusFiles(site.folder)
    key = read_secret(standby.key, site.folder, "the key of the standby")
    text = files.read(files.list_of(settings.network)) or ""
    return signed_text(StandbyList(settings.network, site.clock.now(), text), key)


def _standby_of(settings: RadiusSettings) -> StandbySettings:
    if settings.standby is None:
        raise NotFound(f"{settings.name} has no standby: set it in site.toml, with the key that signs its list")
    return settings.standby
