"""Takes over what enforcers hold already: entries that others have put there become entries of the site's own lists."""

from __future__ import annotations

from scopion.operations.site.open_site import Site
from scopion.operations.wifi.edit_entries import Terms, put_on_list
from scopion.operations.wifi.edit_networks import is_known
from scopion.operations.wifi.open_enforcers import enforcers
from scopion.operations.wifi.read_radios import RadioChoice, chosen_radios
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcers.enforcer import read_radio


def import_foreign(
    site: Site,
    ssid: str,
    *,
    enforcer: str | None = None,
    radios: tuple[str, ...] = (),
    description: str = "",
    insist: bool = False,
) -> dict[ListMode, list[str]]:
    """Put all addresses that the enforcers of a network hold on the site's lists; listed ones stay as they are.

    Returns the names by list. Raises EnforcerUnreachable, Refused.
    """
    held: dict[ListMode, set[str]] = {ListMode.ALLOW: set(), ListMode.DENY: set()}
    with enforcers(site, ssid, enforcer) as opened:
        for each in opened:
            for radio in chosen_radios(each, RadioChoice(enforcer, radios)):
                found = read_radio(each, radio).held
                held[ListMode.ALLOW] |= set(map(str, found.allow))
                held[ListMode.DENY] |= set(map(str, found.deny))
    listed: set[str] = set()
    if is_known(site, ssid):
        from scopion.operations.wifi.edit_entries import entries

        listed = {str(mac) for entry in entries(site, ssid) for mac in entry.macs}
    taken: dict[ListMode, list[str]] = {}
    for which, macs in held.items():
        new = sorted(macs - listed)
        taken[which] = []
        if new:
            terms = Terms(description=description or "found on the access point")
            (done,) = put_on_list(site, [ssid], which, new, terms=terms, insist=insist)
            taken[which] = done.names
    return taken
