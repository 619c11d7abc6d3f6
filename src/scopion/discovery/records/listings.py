"""Neighbour listings as systems print them: one address and one MAC address a line, with any words around them.

The documented forms: Linux ``ip neigh`` (ip-neighbour(8)) and ``arp -n``; macOS and the BSDs ``arp -an`` (arp(8)) and
``ndp -an``; Windows ``arp -a`` and ``netsh interface ipv6 show neighbors``. The touch method uses the same reader on
systems whose table can be read in no other way.
"""

from __future__ import annotations

from scopion.attachment.neighbour_text import read_neighbours
from scopion.discovery.records.reading import Reading, RecordContext, RecordKind
from scopion.discovery.said import host_name
from scopion.model.observation import Source


def read_listing(text: str, context: RecordContext) -> Reading:
    """Read every line that pairs an address with a MAC address; failed entries and groups are skipped."""
    reading = Reading(RecordKind.NEIGHBOURS, about="a neighbour listing")
    for entry in read_neighbours(text):
        name = host_name(entry.name, Source.LISTING) if entry.name else None
        reading.add(context.as_of, Source.LISTING, entry.mac, entry.address, (name,))
    return reading
