"""Reads a pasted client list, whatever its layout: several ways of taking it apart, of which the best is kept.

No layout is known. What cannot be mistaken is anchored: MAC addresses, addresses in the site's subnets, and what
repeats at the same distance from them; words only help to tell names from the rest.
"""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from scopion.discovery.client_lists.clients import Client, Clients, Presence, clients_of, granted, usual_lease
from scopion.discovery.client_lists.group_lines import records_of
from scopion.discovery.client_lists.headings import sections_of
from scopion.discovery.client_lists.pieces import Record, contents_of
from scopion.discovery.client_lists.reshape_text import joined_strings, one_a_line, side_by_side, upright
from scopion.discovery.client_lists.split_lines import choose_splitter, clean_lines
from scopion.discovery.client_lists.tree_records import records_in_tree
from scopion.discovery.client_lists.trees import Node, page_lines, parse_page, parse_script
from scopion.discovery.client_lists.words import Field, heading_field
from scopion.discovery.records.reading import Reading, RecordContext, RecordKind
from scopion.discovery.said import host_name
from scopion.model.mac import MacAddress, mac_spans
from scopion.model.observation import Medium, Source

_PAGE = re.compile(r"</[a-z]|<(?:t[dr]|li|br|p)[\s>]", re.I)
_SCRIPT = re.compile(r"[\[{(]\s*[\[{(\"']|=\s*[\"'\[]|\"\s*:\s*[\"\[{\d]|:\s*[\"']")
# No page lists so many; each takes about a millisecond.
_MOST_CLIENTS = 10_000
# What counts if two lists of one paste say different things of a client.
_BY_WEIGHT = (Presence.AWAY, Presence.HERE, Presence.UNSAID, Presence.RESERVED)


@dataclass(frozen=True, slots=True)
class _Understood:
    """One way of taking a text apart, and what came of it."""

    form: str
    lists: tuple[Clients, ...]
    shown: str  # the text that was taken apart: what a page shows
    structured: bool = False  # a page's or a script's structure told what belongs together

    @property
    def rows(self) -> list[Client]:
        return [row for each in self.lists for row in each.rows]

    @property
    def worth(self) -> float:
        """Return how much was understood: MAC addresses with their own address and their own name."""
        macs = {row.mac for row in self.rows}
        addresses = {row.address for row in self.rows if row.address}
        names = Counter(row.name for row in self.rows if row.name)
        said = sum(row.presence is not Presence.UNSAID or row.medium is not Medium.UNKNOWN for row in self.rows)
        unclear = sum(len(each.unclear) for each in self.lists)
        structured = len(self.rows) if self.structured else 0
        return structured + 3.0 * len(macs) + 2.0 * len(addresses) + len(names) + 0.3 * said - 3.0 * unclear


def read_client_list(text: str, context: RecordContext) -> Reading:
    """Read the clients of a pasted list, text or a page's source. It never raises."""
    perhaps = not any(mac_spans(text))
    whole, text = text, _bounded(text, perhaps=perhaps)
    found = [each for each in _ways(text, context, perhaps=perhaps) if each.lists]
    reading = Reading(RecordKind.CLIENT_LIST)
    if not found:
        reading.about = "a client list without any MAC address"
        return reading
    best = max(found, key=lambda each: each.worth)
    if whole != text:
        reading.trouble("the rest", f"more than {_MOST_CLIENTS:,} MAC addresses: that is not a page's list")
    _take(reading, best, context)
    _tell_unread(reading, best, perhaps=perhaps)
    return reading


def _bounded(text: str, *, perhaps: bool) -> str:
    """Return a text up to the last MAC address that is read."""
    over = next(itertools.islice(mac_spans(text, perhaps=perhaps), _MOST_CLIENTS, None), None)
    return text[: over[0]] if over is not None else text


def looks_like_markup(text: str) -> bool:
    """Tell whether a text is a page's source, or data of a script."""
    return bool(_PAGE.search(text) or _SCRIPT.search(text))


def _ways(text: str, context: RecordContext, *, perhaps: bool) -> Iterator[_Understood]:
    """Yield what comes of each way of taking the text apart that its content allows."""
    if _PAGE.search(text):
        page, scripts = parse_page(text)
        shown = page_lines(page)
        if any(mac_spans(shown, perhaps=perhaps)):
            yield from _of_tree(page, shown, "a page's source", context, perhaps=perhaps)
            return
        text = scripts
    if _SCRIPT.search(text):
        tree = parse_script(text)
        for leaf in tree.leaves():  # data in a string of a script
            if len(list(mac_spans(leaf.text, perhaps=perhaps))) > 1 and _SCRIPT.search(leaf.text):
                inner = parse_script(leaf.text)
                yield from _of_tree(inner, page_lines(inner), "a script's data", context, perhaps=perhaps)
        yield from _of_tree(
            tree, joined_strings(page_lines(tree), perhaps=perhaps), "a script's data", context, perhaps=perhaps
        )
    yield _of_text(text, "", context, perhaps=perhaps)


def _of_tree(tree: Node, shown: str, form: str, context: RecordContext, *, perhaps: bool) -> Iterator[_Understood]:
    records = records_in_tree(tree, perhaps=perhaps)
    if records:
        yield _Understood(form, (_clients(records, context, perhaps=perhaps),), shown, True)
    yield _of_text(shown, form, context, perhaps=perhaps)


def _of_text(text: str, form: str, context: RecordContext, *, perhaps: bool) -> _Understood:
    one_below_the_other = side_by_side(upright(text, perhaps=perhaps), perhaps=perhaps)
    lines = clean_lines(one_a_line(one_below_the_other, perhaps=perhaps))
    lists, forms = [], []
    for section in sections_of(lines, perhaps=perhaps):
        with_mac = [line for line in section.lines if any(mac_spans(line[1], perhaps=perhaps))]
        if not with_mac:
            continue
        splitter = choose_splitter(with_mac, perhaps=perhaps)
        headings = splitter.split(section.heading) if section.heading and splitter.columns else ()
        section.headings = _aligned(headings, splitter.split(with_mac[0][1]), perhaps=perhaps)
        records = records_of(section, splitter, context.subnets, perhaps=perhaps)
        lists.append(_clients(records, context, perhaps=perhaps))
        single = all(len({cell.row for cell in each.cells}) == 1 for each in records)
        forms.append(splitter.form if single else "several lines a client")
    return _Understood(form or ", ".join(dict.fromkeys(forms)), tuple(lists), text)


def _clients(records: Sequence[Record], context: RecordContext, *, perhaps: bool) -> Clients:
    contents = [contents_of(each, perhaps=perhaps) for each in records]
    return clients_of([each for each in contents if each.macs], context.subnets, context.as_of)


def _aligned(headings: tuple[str, ...], cells: tuple[str, ...], *, perhaps: bool) -> tuple[str, ...]:
    """Return headings moved so that the one of the MAC addresses stands over them: a check box may have none."""
    named = [at for at, heading in enumerate(headings) if heading_field(heading) is Field.MAC]
    held = [at for at, cell in enumerate(cells) if any(mac_spans(cell, perhaps=perhaps))]
    if not named or not held or held[0] in named:
        return headings
    shift = held[0] - named[0]
    return ("",) * shift + headings if shift > 0 else headings[-shift:]


def _take(reading: Reading, best: _Understood, context: RecordContext) -> None:
    """Put what was understood into a reading."""
    rows = _each_once(best.rows)
    lease_s = usual_lease([line for line in best.shown.splitlines() if not any(mac_spans(line))])
    says_state = any(row.presence in (Presence.HERE, Presence.AWAY) for row in rows)
    placed = sum(row.address is not None for row in rows)
    for row in rows:
        if row.says_nothing and placed * 2 >= len(rows):
            reading.trouble(f"line {row.line}", "a MAC address alone", str(row.mac))
            continue
        at, undated = _when(row, says_state, lease_s, context.as_of)
        trait = host_name(row.name, Source.CLIENT_LIST) if row.name else None
        if row.presence is Presence.AWAY or (row.ago_s is not None and row.presence is not Presence.HERE):
            reading.absent.add(row.mac)
        if reading.add(at.astimezone(UTC), Source.CLIENT_LIST, row.mac, row.address, (trait,), row.medium, undated):
            reading.clients[row.mac] = row
        else:
            reading.trouble(f"line {row.line}", "no MAC address of a host", str(row.mac))
    told = [f"a client list, {best.form}" if best.form else "a client list"]
    names = list(dict.fromkeys(each.name_from for each in best.lists if each.name_from))
    told += [f"names from {' and '.join(names)}"] if names else []
    reading.about = ", ".join(told)


def _each_once(rows: Sequence[Client]) -> list[Client]:
    """Return each client once: in two lists of one paste, what one of them leaves out is in the other."""
    found: dict[MacAddress, Client] = {}
    for row in rows:
        first = found.get(row.mac)
        if first is None:
            found[row.mac] = row
            continue
        both = {first.presence, row.presence}
        # One that is on a list of reservations and on one of clients is a client.
        presence = next((each for each in _BY_WEIGHT if each in both), Presence.UNSAID)
        found[row.mac] = replace(
            first,
            address=first.address or row.address,
            name=first.name or row.name,
            medium=first.medium if first.medium is not Medium.UNKNOWN else row.medium,
            band=first.band or row.band,
            ssid=first.ssid or row.ssid,
            interface=first.interface or row.interface,
            presence=presence,
            state=first.state or row.state,
            lease=first.lease or row.lease,
            signal=first.signal if first.signal is not None else row.signal,
            connected_s=first.connected_s if first.connected_s is not None else row.connected_s,
        )
    return list(found.values())


def _when(row: Client, says_state: bool, lease_s: float | None, as_of: datetime) -> tuple[datetime, bool]:
    """Return when a client was there last, and whether its row leaves that open."""
    if row.presence is Presence.HERE and row.ago_s is None and not row.doubtful:
        return as_of, False
    if row.ago_s is not None:
        return as_of - timedelta(seconds=row.ago_s), False
    if row.seen is not None:
        return row.seen, False
    if row.presence is not Presence.UNSAID or says_state or row.doubtful:
        return as_of, True
    since = granted(row, lease_s, as_of)
    if since is not None:
        return since, False
    live = row.address is not None or row.medium is not Medium.UNKNOWN or row.signal is not None
    return as_of, not live


def _tell_unread(reading: Reading, best: _Understood, *, perhaps: bool) -> None:
    """Note every line that holds a MAC address which was not read, and what was unclear."""
    for each in best.lists:
        for at, why in each.unclear:
            reading.trouble(f"line {at}", why)
    read = {row.mac for row in best.rows} | {mac for each in best.lists for mac in each.others}
    told = {problem.where for problem in reading.problems}
    for number, line in enumerate(best.shown.splitlines(), 1):
        macs = {mac for _, _, mac in mac_spans(line, perhaps=perhaps)}
        if macs - read and f"line {number}" not in told:
            reading.trouble(f"line {number}", "not understood", line)
