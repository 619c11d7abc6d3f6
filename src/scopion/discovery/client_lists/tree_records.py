"""Finds the records in a tree: for each MAC address the largest part of the page that holds no other one.

The parts of most clients have the same element, so that the page around a single client is not taken for it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from scopion.discovery.client_lists.headings import bare_title, title_of
from scopion.discovery.client_lists.pieces import Cell, Record, anchors_in
from scopion.discovery.client_lists.trees import Node
from scopion.discovery.client_lists.words import heading_field
from scopion.model.mac import MacAddress, mac_spans

_ROWS = frozenset({"tr", "li", "object", "array", "dl"})


def records_in_tree(root: Node, *, perhaps: bool) -> list[Record]:
    """Return the records of a page or of a script's data; empty if its structure does not tell them apart."""
    columns = _from_columns(root, perhaps=perhaps)
    if columns:
        return columns
    within: dict[int, set[MacAddress]] = {}  # the MAC addresses in each node, by its identity
    leaves = [leaf for leaf in root.leaves() if any(mac_spans(leaf.text, perhaps=perhaps))]
    for leaf in leaves:
        macs = {mac for _, _, mac in mac_spans(leaf.text, perhaps=perhaps)}
        if len(macs) > 1 and leaf.tag == "value":
            return []  # a list in one string: its lines tell
        node: Node | None = leaf
        while node is not None:
            within.setdefault(id(node), set()).update(macs)
            node = node.parent
    shared = _shared(leaves, perhaps=perhaps)
    parts = list(
        {id(part): part for part in (_largest(leaf, within, shared) for leaf in leaves) if part is not None}.values()
    )
    if not parts:
        return []
    usual = Counter(part.tag for part in parts).most_common(1)[0][0]
    parts = list({id(part): part for part in (_of_tag(each, usual, perhaps=perhaps) for each in parts)}.values())
    paths: dict[tuple[object, ...], int] = {}
    tables: dict[int, list[str]] = {}  # the headings of each table, by its identity
    return [_record(part, root, paths, tables, perhaps=perhaps) for part in parts]


def _shared(leaves: list[Node], *, perhaps: bool) -> set[MacAddress]:
    """Return the MAC addresses that many rows have beside their own: an access point's."""
    counts = Counter(mac for leaf in leaves for _, _, mac in mac_spans(leaf.text, perhaps=perhaps))
    return {mac for mac, count in counts.items() if count > 2} if len(counts) > 1 else set()


def _largest(leaf: Node, within: dict[int, set[MacAddress]], shared: set[MacAddress]) -> Node | None:
    own = {mac for _, _, mac in mac_spans(leaf.text)} or within[id(leaf)]
    if own <= shared:
        return None
    node = leaf
    while node.parent is not None and len(within[id(node.parent)] - shared) <= 1:
        node = node.parent
    return node


def _of_tag(part: Node, usual: str, *, perhaps: bool) -> Node:
    """Return a part, or what of it holds its MAC address and is an element as with most clients: not a whole table."""
    node = part
    while node.tag != usual or usual == "page" or (node.tag not in _ROWS and _only_child(node)):
        following = next(
            (each for each in node.children if any(any(mac_spans(x.text, perhaps=perhaps)) for x in each.leaves())),
            None,
        )
        if following is None or not following.children:
            return part if node.tag != "page" else node
        if node.tag in _ROWS and following.tag not in _ROWS and usual == "page":
            return node
        node = following
    return node


def _only_child(node: Node) -> bool:
    return len(node.children) == 1 and bool(node.children[0].children)


def _record(
    part: Node, root: Node, paths: dict[tuple[object, ...], int], tables: dict[int, list[str]], *, perhaps: bool
) -> Record:
    table = _table_of(part)
    if id(table) not in tables:
        tables[id(table)] = _headings_of(table) if table is not None else []
    headings = tables[id(table)]
    cells = []
    line = part.line
    for leaf in part.leaves():
        path, top = _path(leaf, part)
        column = paths.setdefault(path, len(paths))
        label = _label(leaf, part) or (headings[top] if top < len(headings) else "")
        cells.append(Cell(leaf.text, 0, column, label))
        if any(mac_spans(leaf.text, perhaps=perhaps)):
            line = leaf.line or line
    return Record(line, tuple(_with_terms(cells, part)), tuple(_titles(part, root, perhaps=perhaps)))


def _path(leaf: Node, part: Node) -> tuple[tuple[object, ...], int]:
    """Return where a leaf stands in its part, by kinds of elements and their order, and in which of its children."""
    found: list[object] = []
    node, top = leaf, 0
    while node is not part and node.parent is not None:
        siblings = node.parent.children
        same = [each for each in siblings if (each.tag, each.label) == (node.tag, node.label)]
        found.append((node.tag, node.label, next(at for at, each in enumerate(same) if each is node)))
        top = node.at
        node = node.parent
    return tuple(found), top


def _label(leaf: Node, part: Node) -> str:
    """Return the key, or the class that names a field, of the element that is nearest to a leaf."""
    node: Node | None = leaf
    while node is not None and node is not part:
        if node.label and (node.tag == "value" or heading_field(node.label) is not None):
            return node.label
        node = node.parent
    return ""


def _table_of(part: Node) -> Node | None:
    """Return the table or array that a row belongs to; None if it is no row."""
    if part.tag == "array":
        return part.parent
    node: Node | None = part if part.tag == "tr" else None
    while node is not None and node.tag not in ("table", "page"):
        node = node.parent
    return node


def _headings_of(table: Node) -> list[str]:
    """Return the headings above the first client of a table or an array of arrays; empty if it has none."""
    for row in _rows(table):
        texts = [" ".join(leaf.text for leaf in cell.leaves()).strip() for cell in row.children]
        if any(any(mac_spans(text)) for text in texts):
            return []
        if len({field for field in map(heading_field, texts) if field is not None}) > 1:
            return texts
    return []


def _rows(node: Node) -> Iterator[Node]:
    for child in node.children:
        if child.tag in ("tr", "array"):
            yield child
        elif child.tag in ("thead", "tbody", "tfoot"):
            yield from _rows(child)


def _with_terms(cells: list[Cell], part: Node) -> list[Cell]:
    """Return cells in which a term (``dt``, or a text that is nothing but a label) is the label of the next one."""
    found: list[Cell] = []
    label = ""
    for cell in cells:
        plain = cell.text.strip(" :")
        is_label = heading_field(plain) is not None and (part.tag == "dl" or cell.text.rstrip().endswith(":"))
        if is_label and not any(anchors_in(plain, perhaps=False)):
            label = plain
            continue
        found.append(Cell(cell.text, 0, cell.column, label or cell.label))
        label = ""
    return found


def _titles(part: Node, root: Node, *, perhaps: bool) -> Iterator[str]:
    """Yield the titles above a part: the latest before it among its own and its parents' siblings."""
    node = part
    while node is not root and node.parent is not None:
        for at in range(node.at - 1, -1, -1):
            each = node.parent.children[at]
            text = " ".join(leaf.text for leaf in each.leaves()).strip()
            if any(anchors_in(text, perhaps=perhaps)):
                if len(each.children) > 1 or each.tag in ("table", "tbody", "ul"):
                    break  # another list: what is above it is its own
                continue
            if 0 < len(text) <= 60 and title_of(text, alone=True):
                yield bare_title(text) or text
                break
        node = node.parent


def _from_columns(root: Node, *, perhaps: bool) -> list[Record]:
    """Return records of a script that has an array for each column: ``macs = [...]``, ``names = [...]``."""
    arrays = [node for node in _all_arrays(root) if node.children and not any(each.children for each in node.children)]
    macs = [
        node for node in arrays
        if len(node.children) > 1 and all(any(mac_spans(leaf.text, perhaps=perhaps)) for leaf in node.children)
    ]  # fmt: skip
    if len(macs) != 1:
        return []
    columns = [node for node in arrays if len(node.children) == len(macs[0].children)]
    if len(columns) < 2:
        return []
    return [
        Record(
            macs[0].children[at].line,
            tuple(Cell(node.children[at].text, 0, column, node.label) for column, node in enumerate(columns)),
        )
        for at in range(len(macs[0].children))
    ]


def _all_arrays(root: Node) -> Iterator[Node]:
    waiting = [root]
    while waiting:
        node = waiting.pop()
        if node.tag in ("array", "call"):
            yield node
        waiting.extend(reversed(node.children))
