"""The settings of a wireless network that decide how safe it is, as hostapd and UCI configurations have them.

Pure: texts go in. A passphrase is held only while it is judged; it is never shown, and never stored.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from scopion.model.text import whole_number
from scopion.roster.wifi.lists import ListMode
from scopion.wireless.enforcers.uci import Section


class Encryption(StrEnum):
    """How the air is protected."""

    OPEN = "open"
    OWE = "owe"  # encrypted without a passphrase (RFC 8110)
    WEP = "wep"
    WPA1 = "wpa1"
    WPA2 = "wpa2"
    WPA3 = "wpa3"


@dataclass(frozen=True, slots=True)
class Posture:
    """What is known of one network on one radio; None: not told."""

    where: str
    ssid: str
    encryption: frozenset[Encryption] | None = None
    tkip: bool | None = None
    enterprise: bool = False  # every person has an own password (IEEE 802.1X)
    frame_protection: str | None = None  # off, optional, required (IEEE 802.11w)
    wps: bool | None = None
    hidden: bool | None = None
    passphrase: str | None = field(default=None, repr=False)
    list_mode: ListMode | None = None  # as the configuration has it, which a restart would use
    socket_mode: tuple[int, str] | None = None  # mode bits and group of the control socket


def bss_of_hostapd(text: str) -> list[str]:
    """Return the interfaces of all BSS in a configuration file of hostapd, in their order."""
    found = []
    for line in text.splitlines():
        key, mark, value = line.strip().partition("=")
        if mark and key in ("interface", "bss") and value not in found:
            found.append(value)
    return found


def of_hostapd(where: str, text: str, interface: str, socket_mode: tuple[int, str] | None = None) -> Posture:
    """Return the posture of the BSS on an interface, from a configuration file of hostapd."""
    options = _bss(text, interface)
    wpa = _number(options.get("wpa"))
    methods = options.get("wpa_key_mgmt", "WPA-PSK").split()
    found: set[Encryption] = set()
    if any(key.startswith("wep_key") for key in options):
        found.add(Encryption.WEP)
    if wpa & 1:
        found.add(Encryption.WPA1)
    if wpa & 2:
        found |= _of_methods(methods)
    ciphers = f"{options.get('wpa_pairwise', '')} {options.get('rsn_pairwise', '')}".split()
    enterprise = any("EAP" in method for method in methods) and bool(wpa)
    mode = {"0": ListMode.OFF, "1": ListMode.ALLOW}.get(options.get("macaddr_acl", "0"))
    if mode is ListMode.OFF and options.get("deny_mac_file"):
        mode = ListMode.DENY
    return Posture(
        where=where,
        ssid=options.get("ssid") or options.get("ssid2", "").strip('"'),
        encryption=frozenset(found or {Encryption.OPEN}),
        tkip="TKIP" in ciphers or (bool(wpa & 1) and not ciphers),
        enterprise=enterprise,
        frame_protection={"1": "optional", "2": "required"}.get(options.get("ieee80211w", "0"), "off"),
        wps=options.get("wps_state", "0") not in ("0", ""),
        hidden=options.get("ignore_broadcast_ssid", "0") not in ("0", ""),
        passphrase=options.get("sae_password", "").split("|")[0] or options.get("wpa_passphrase"),
        list_mode=mode,
        socket_mode=socket_mode,
    )


def of_control(where: str, told: Mapping[str, str], socket_mode: tuple[int, str] | None = None) -> Posture:
    """Return it from the daemon's answer on its control socket (GET_CONFIG), which has less than its file."""
    wpa = _number(told.get("wpa"))
    methods = told.get("key_mgmt", "").split()
    found: set[Encryption] = {Encryption.WPA1} if wpa & 1 else set()
    if wpa & 2:
        found |= _of_methods(methods)
    ciphers = f"{told.get('rsn_pairwise_cipher', '')} {told.get('wpa_pairwise_cipher', '')}".split()
    return Posture(
        where=where,
        ssid=told.get("ssid", ""),
        encryption=frozenset(found or {Encryption.OPEN}),
        tkip="TKIP" in ciphers,
        enterprise=any("EAP" in method for method in methods),
        wps=told.get("wps_state", "disabled") != "disabled",
        socket_mode=socket_mode,
    )


def of_uci(where: str, section: Section) -> Posture:
    """Return it from a section of a UCI wireless configuration."""
    options = section.options
    kind, *ciphers = options.get("encryption", "none").casefold().split("+")
    found = _UCI.get(kind.partition("-")[0] if kind.startswith("wep") else kind, frozenset({Encryption.OPEN}))
    pmf = {"1": "optional", "2": "required"}.get(options.get("ieee80211w", ""))
    if pmf is None:
        pmf = "required" if found == {Encryption.WPA3} else "optional" if Encryption.WPA3 in found else "off"
    return Posture(
        where=where,
        ssid=options.get("ssid", ""),
        encryption=found,
        tkip="tkip" in ciphers,
        enterprise=kind.startswith("wpa"),
        frame_protection=pmf,
        wps=options.get("wps_pushbutton", "0") == "1" or options.get("wps_label", "0") == "1",
        hidden=options.get("hidden", "0") == "1",
        passphrase=options.get("key") if found & {Encryption.WPA1, Encryption.WPA2, Encryption.WPA3} else None,
        list_mode={"allow": ListMode.ALLOW, "deny": ListMode.DENY}.get(options.get("macfilter", ""), ListMode.OFF),
    )


_UCI: Mapping[str, frozenset[Encryption]] = {
    "none": frozenset({Encryption.OPEN}),
    "owe": frozenset({Encryption.OWE}),
    "wep": frozenset({Encryption.WEP}),
    "psk": frozenset({Encryption.WPA1}),
    "psk-mixed": frozenset({Encryption.WPA1, Encryption.WPA2}),
    "psk2": frozenset({Encryption.WPA2}),
    "sae-mixed": frozenset({Encryption.WPA2, Encryption.WPA3}),
    "sae": frozenset({Encryption.WPA3}),
    "wpa": frozenset({Encryption.WPA1}),
    "wpa-mixed": frozenset({Encryption.WPA1, Encryption.WPA2}),
    "wpa2": frozenset({Encryption.WPA2}),
    "wpa3-mixed": frozenset({Encryption.WPA2, Encryption.WPA3}),
    "wpa3": frozenset({Encryption.WPA3}),
    "wpa3-192": frozenset({Encryption.WPA3}),
}


def _of_methods(methods: list[str]) -> set[Encryption]:
    """Return the encryption of key management methods (IEEE Std 802.11-2020, 9.4.2.24.3)."""
    found = set()
    for method in methods or ["WPA-PSK"]:
        if "SAE" in method or "SUITE-B" in method:
            found.add(Encryption.WPA3)
        elif "OWE" in method:
            found.add(Encryption.OWE)
        else:
            found.add(Encryption.WPA2)
    return found


def _bss(text: str, interface: str) -> dict[str, str]:
    """Return the options of one BSS: those below its name; the first BSS is the interface's own."""
    options: dict[str, str] = {}
    current = ""
    common: dict[str, str] = {}
    for line in text.splitlines():
        key, mark, value = line.strip().partition("=")
        if not mark or key.startswith("#"):
            continue
        if key in ("interface", "bss"):
            current = value
        if not current:
            common[key] = value
        elif current == interface:
            options[key] = value
    return common | options


def _number(text: str | None) -> int:
    return max(0, whole_number(text, 2**31) or 0)
