"""Where a device shows its wireless MAC address, by its kind, and how a person gets into a router or a hidden network.

In general words, because menus change from maker to maker and from year to year. Pure texts.
"""

from __future__ import annotations

from collections.abc import Iterable

_PHONE = (
    "On a phone or tablet, the address is in the settings of Wi-Fi, in the details of the network that it is connected "
    "to; the one among the facts about the device may be another. The same page has a choice for a private (random) "
    "address: set it to fixed, or off, for this network, before the device goes on a list."
)
_COMPUTER = (
    "On a computer, the address is in the network settings, in the properties of the Wi-Fi connection. The socket for "
    "the cable has another one."
)
_PRINTER = (
    "On a printer, the address is on the network page that its own menu prints or shows. Wi-Fi and cable have one each."
)
_SCREEN = (
    "On a television, player or console, the address is in its settings, under network or system information. Wi-Fi "
    "and cable have one each."
)
_ANY = (
    "Phones and computers show their wireless address in the details of the Wi-Fi network that they are connected to; "
    "printers, televisions and consoles under network in their menus; other things on their label or in the app that "
    "set them up, where the last digits may differ from those on the air."
)
_BY_KIND = {
    "phone or tablet": _PHONE, "tablet": _PHONE, "computer": _COMPUTER, "virtual machine": _COMPUTER,
    "laptop": _COMPUTER, "printer": _PRINTER, "scanner": _PRINTER, "television or player": _SCREEN, "display": _SCREEN,
    "console": _SCREEN, "television": _SCREEN,
}  # fmt: skip
PHONE = "phone or tablet"  # the kind that makes up its addresses
LOGIN = (
    "the login is the one that you have set, else the one on the router's label or from your provider; it is not the "
    "passphrase of the Wi-Fi"
)
JOIN_HIDDEN = (
    "To join a network whose name is hidden: in the device's Wi-Fi settings, choose to add another network, type the "
    "name exactly (capitals count), choose the kind of security that the network has, and type the passphrase."
)


def where_to_find(kinds: Iterable[str]) -> list[str]:
    """Return where devices of some kinds show their wireless MAC address, each text once; a kind may be unknown."""
    return list(dict.fromkeys(_BY_KIND.get(kind.casefold(), _ANY) for kind in kinds))
