"""What a push must not do: lock out this machine or an essential device, or write more entries than a radio holds."""

from __future__ import annotations

from dataclasses import replace

from scopion.model.band import at_band, spoken_band
from scopion.model.errors import Refused
from scopion.operations.wifi.load_policy import refuse_too_long
from scopion.operations.wifi.network_context import NetworkContext
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.order_steps import refused_on_the_way
from scopion.wireless.plan_radio import RadioPlan
from scopion.wireless.refusals import INSIST, quoted


def require_harmless(context: NetworkContext, plan: RadioPlan) -> None:
    """Raise Refused for a plan that would lock out this machine or an essential device, now or on the way."""
    ssid, name = context.ssid, {mac: device for device in context.devices for mac in device.macs}
    if plan.target.mode is ListMode.ALLOW and not plan.target.allow:
        raise Refused(f"the allow list of {ssid!r} would be empty, so no device could associate: {INSIST}")
    own, sensors = context.own(), context.sensors()
    here = {each.mac for each in plan.stations}
    for mac in context.protected():
        # This machine's adapter needs an entry only where it is used: not on cable or on another network.
        if mac in own and plan.traits.reads_stations and mac not in here:
            continue
        device = name.get(mac)
        if mac in sensors and mac not in here and (device is None or not device.essential):
            continue
        if not plan.target.admits(mac):
            who = (
                f"this machine's own wireless adapter {mac}"
                if mac in own
                else f"{device.called if device else mac}, the sensor by which it is reached,"
                if mac in sensors
                else f"{device.called if device else mac}, by which you are logged in,"
                if device is None or not device.essential
                else f"{device.called}, which is essential,"
            )
            raise Refused(
                f"{who} would be refused on {ssid!r} ({at_band(plan.enforcer, plan.radio)}): "
                f"scopion wifi allow {quoted(ssid)} {mac} first, or {INSIST}"
            )
    on_the_way = refused_on_the_way(plan.held, plan.steps, [mac for mac in here & set(name) if plan.target.admits(mac)])
    if on_the_way:
        raise Refused(
            f"{on_the_way[0]} would be refused on {spoken_band(plan.radio)} for a moment: that is an error in Scopion"
        )


def require_room(context: NetworkContext, plan: RadioPlan) -> None:
    """Raise Refused for more entries than a radio holds."""
    if plan.capacity is None or plan.target.entries <= plan.capacity:
        return
    foreign = plan.foreign.entries
    also = f", {foreign} of them not yours (wifi push --drop-foreign removes those)" if foreign else ""
    limited = replace(context.network, capacity=min(context.network.capacity or plan.capacity, plan.capacity))
    refuse_too_long(context.site, limited, context.roster, context.devices, plan.wanted.mode)
    raise Refused(
        f"{plan.enforcer} holds {plan.capacity} entries on {spoken_band(plan.radio)}, {plan.target.entries} are "
        f"needed{also}"
    )
