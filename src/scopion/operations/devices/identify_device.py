"""Looks up the vendor of a device, and guesses its kind."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from scopion.discovery.kinds import Guess, Kinds
from scopion.model.device import Device
from scopion.model.mac import MacAddress
from scopion.model.observation import Source, Trait, TraitKind
from scopion.model.value import value
from scopion.vendors.registry import Vendor, Vendors

YOU_SAID = "you said so"  # the evidence for a kind that a person has given


@value
class Described:
    """A device with its vendors and its guessed kind."""

    device: Device
    vendors: tuple[Vendor, ...]  # of its adapters, in their order
    guess: Guess
    media: tuple[Guess, ...]  # the guessed medium of each adapter, in their order; it holds for that adapter alone
    where: str = ""  # where it is now, in words: a socket, a port, an access point; empty: no one has told
    socket: str = ""  # the socket at which it hangs, if that has a name
    near: str = ""  # how far its MAC address is from that of a sticker, if it was found by that


def described(device: Device, vendors: Vendors, kinds: Kinds) -> Described:
    """Look up the vendors of a device, and guess its kind."""
    adapters = device.adapters
    makers = tuple([vendors.of(adapter.mac) for adapter in adapters])
    traits = [known.trait for known in device.traits]
    mac, maker = (adapters[0].mac, makers[0]) if adapters else (None, None)
    # An address that this machine made up for an interface says nothing about the machine.
    whole = guess(kinds, None if device.own else mac, maker, traits, gateway=device.gateway)
    if len(adapters) == 1:
        return Described(device, makers, whole, (whole,))
    media = [
        guess(
            kinds, None if device.own else adapter.mac, of_it, [known.trait for known in adapter.traits], gateway=False
        )
        for adapter, of_it in zip(adapters, makers, strict=True)
    ]
    return Described(device, makers, whole, tuple(media))


def guess(
    kinds: Kinds, mac: MacAddress | None, vendor: Vendor | None, traits: Sequence[Trait], *, gateway: bool
) -> Guess:
    """Return the guess for an adapter's traits; what people said that it is needs none."""
    said = next((trait.value for trait in traits if trait.kind is TraitKind.KIND), "")
    known = (*traits, Trait(TraitKind.ROLE, "gateway", Source.OWN)) if gateway else traits
    found = kinds.guess(mac, vendor.name if vendor and vendor.organisations else "", known)
    return replace(found, kind=said, evidence=YOU_SAID) if said else found
