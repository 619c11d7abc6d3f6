"""Reshapes a text so that each client has lines of its own: tables on their side, cards side by side, one long line."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import pairwise

from scopion.discovery.client_lists.pieces import anchors_in
from scopion.model.mac import MacAddress, mac_spans

_MOST_FIELDS = 40  # lines of a table that lies on its side


def upright(text: str, *, perhaps: bool) -> str:
    """Return a table that lies on its side - a client a column - with a client a line; other texts as they are."""
    rows = [re.split(r"\t|\s{2,}|\s*[|;]\s*", line.strip().strip("|")) for line in text.splitlines() if line.strip()]
    with_macs = [row for row in rows if sum(any(mac_spans(cell, perhaps=perhaps)) for cell in row) > 1]
    if len(with_macs) != 1 or not 1 < len(rows) <= _MOST_FIELDS:
        return text
    size = len(with_macs[0])
    beside = [row for row in rows if row is not with_macs[0] and len(row) == size]
    if not any(sum(any(anchors_in(cell, perhaps=perhaps)) for cell in row) > 1 for row in beside):
        return text
    return "\n".join("\t".join(row[at] for row in rows if len(row) == size) for at in range(size))


def side_by_side(text: str, *, perhaps: bool) -> str:
    """Return clients that stand beside each other, in columns of cards, one below the other; else the text."""
    rows = [re.split(r"\t|\s{2,}", line.strip()) for line in text.splitlines() if line.strip()]
    counts = [sum(any(mac_spans(cell, perhaps=perhaps)) for cell in row) for row in rows]
    most = max(counts, default=0)
    if most < 2 or any(
        count and (count != len(row) or len(row) > most) for count, row in zip(counts, rows, strict=True)
    ):
        return text
    found = []
    for begin, end in _bands(counts):
        for at in range(most):
            found += [row[at] for row in rows[begin:end] if at < len(row)]
            found.append("")
    return "\n".join(found)


def _bands(counts: Sequence[int]) -> Iterator[tuple[int, int]]:
    """Yield the rows of each band of cards: as many lines before and after its MAC addresses as in the first one."""
    places = [at for at, count in enumerate(counts) if count]
    size = places[1] - places[0] if len(places) > 1 else len(counts)
    begin = max(0, places[0] - size + 1)
    while begin < len(counts):
        yield begin, begin + size
        begin += size


def one_a_line(text: str, *, perhaps: bool) -> str:
    """Return a text with a line for each client, where a line holds several MAC addresses."""
    found = []
    for line in text.splitlines():
        spans = [each for each in anchors_in(line, perhaps=perhaps) if isinstance(each[2], MacAddress)]
        if len({mac for _, _, mac in spans}) > 2 and not re.search(r"[\t;|]", line):
            found += _broken(line, sorted(spans, key=lambda each: each[0]))
        else:
            found.append(line)
    return "\n".join(found)


def _broken(line: str, spans: Sequence[tuple[int, int, object]]) -> list[str]:
    """Return a line broken after each MAC address, or where the same separator stands between each two of them."""
    between = [line[end:begin] for (_, end, _), (begin, _, _) in pairwise(spans)]
    for sign in ("  ", " / ", ", ", "; "):
        if all(each.count(sign) == 1 for each in between):
            return [part for part in line.split(sign) if part.strip()]
    edges = [0, *(end for _, end, _ in spans[:-1]), len(line)]
    return [line[begin:end].strip(" ,;") for begin, end in pairwise(edges)]


def joined_strings(text: str, *, perhaps: bool) -> str:
    """Return lines in which several clients in one string are on a line each, by the sign that separates them."""
    found = []
    for line in text.splitlines():
        spans = [each for each in anchors_in(line, perhaps=perhaps) if isinstance(each[2], MacAddress)]
        found += _parts(line, len(spans), perhaps=perhaps) if len(spans) > 1 and "\t" not in line else [line]
    return "\n".join(found)


def _parts(line: str, count: int, *, perhaps: bool) -> list[str]:
    for sign in ("\n", ";", "|", "#", "<", ">", "&", "~", "^", "@", "*", "!", ",", " "):
        parts = [part for part in line.split(sign) if part.strip()]
        if sum(any(mac_spans(part, perhaps=perhaps)) for part in parts) == count and len(parts) <= count + 2:
            return parts
    return [line]
