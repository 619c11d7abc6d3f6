"""Forgets a sensor that is not enrolled any more, and the key for its orders. Its place, and what it told, stay."""

from __future__ import annotations

from scopion.model.errors import NotFound, Refused
from scopion.operations.site.open_site import Site
from scopion.operations.site.reach_machine import order_key
from scopion.roster import sensors


def forget_sensor(site: Site, name: str) -> None:
    """Forget a sensor. Raises NotFound; Refused while ``site.toml`` names it."""
    if name in {each.name for each in site.settings.sensor}:
        raise Refused(
            f"{name!r} is enrolled: take its [[sensor]] out of site.toml first, and its account from the broker"
        )
    if not sensors.forget_sensor(site.roster, name):
        raise NotFound(f"no sensor {name!r} was ever heard: scopion sensors lists them")
    (site.folder / order_key(name)).unlink(missing_ok=True)
