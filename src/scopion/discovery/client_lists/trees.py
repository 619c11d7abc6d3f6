"""A page's source, or data of a script, as a tree whose leaves are texts: the structure tells what belongs together."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from scopion.model.mac import mac_spans

_VOID = frozenset({"br", "hr", "img", "input", "meta", "link", "col", "wbr", "area", "source"})
# Elements of pages; others are of XML, and say what they hold.
_HTML = frozenset(
    "html head body div span p a ul ol li dl dt dd table thead tbody tfoot tr td th caption form select option button "
    "h1 h2 h3 h4 h5 h6 header footer main nav section article aside center pre blockquote fieldset legend title "
    "textarea iframe noscript address time".split()
)
# Elements whose text is not shown.
_SILENT = frozenset({"script", "style", "template", "svg"})
# Elements that stand within a line of text: their texts belong to the same cell.
_INLINE = frozenset({"b", "i", "em", "strong", "font", "small", "u", "abbr", "code", "tt", "label", "nobr", "wbr"})
# A new one of these ends an open one before it, which authors often leave open.
_ENDS = {
    "tr": ("td", "th", "tr"),
    "td": ("td", "th"),
    "th": ("td", "th"),
    "li": ("li",),
    "dt": ("dt", "dd"),
    "dd": ("dt", "dd"),
    "option": ("option",),
}
_DEEPEST = 60
# Attributes that carry what is shown, or what it is called.
_LABELS = ("data-label", "data-title", "data-th", "data-column", "headers", "data-field", "class", "id")
_TAG = re.compile(r"<(/?)([A-Za-z][A-Za-z0-9]{0,15})\b([^<>]{0,2000})>|<!--")
_ATTRIBUTE = re.compile(r"([\w-]{1,40})\s{0,4}=\s{0,4}(?:\"([^\"]{0,500})\"|'([^']{0,500})'|([^\s\"'<>]{1,500}))")
_TOKEN = re.compile(
    r'"(?P<double>(?:[^"\\]|\\.)*)"|\'(?P<single>(?:[^\'\\]|\\.)*)\'|(?P<sign>[\[\](){},:;=])|(?P<bare>[^\s\[\](){},:;="\']+)'
)


@dataclass(slots=True)
class Node:
    """An element or a value. ``tag`` and ``label`` tell which: ``td``; ``value`` and the key of an object."""

    tag: str
    label: str = ""
    text: str = ""  # of a leaf
    line: int = 0
    at: int = 0  # among the children of its parent
    children: list[Node] = field(default_factory=list)
    parent: Node | None = field(default=None, repr=False)

    def add(self, child: Node) -> Node:
        """Add a child and return it."""
        child.parent, child.at = self, len(self.children)
        self.children.append(child)
        return child

    def leaves(self) -> Iterator[Node]:
        """Yield the leaves below it, in order; itself if it is one."""
        waiting = [self]
        while waiting:
            node = waiting.pop()
            if not node.children:
                yield node
            waiting.extend(reversed(node.children))


class _PageBuilder:
    """Builds a page's tree, tag by tag."""

    def __init__(self) -> None:
        self.root = self._at = Node("page")
        self._depth = 0

    def begin(self, tag: str, attributes: str, line: int) -> None:
        """Take a tag that begins an element."""
        said = {
            match[1].casefold(): html.unescape(match[2] or match[3] or match[4] or "")
            for match in _ATTRIBUTE.finditer(attributes)
        }
        if tag in _VOID:
            self._void(tag, said, line)
            return
        if tag in _INLINE or self._depth >= _DEEPEST:
            return
        self._end_open(tag)
        label = next((said[name] for name in _LABELS if said.get(name)), "") or ("" if tag in _HTML else tag)
        self._at = self._at.add(Node(tag, label, line=line))
        self._depth += 1
        for name in ("data-mac", "data-ip", "data-name", "data-hostname"):
            if said.get(name):
                self.text(said[name], line, name.removeprefix("data-"))

    def end(self, tag: str) -> None:
        """Take a tag that ends an element, with those in it that are still open."""
        node: Node | None = self._at
        while node is not None and node.tag != tag:
            node = node.parent
        if node is not None and node.parent is not None:
            while self._at is not node.parent:
                self._leave()

    def text(self, text: str, line: int, label: str = "") -> None:
        """Take text; what follows text directly belongs to it."""
        plain = " ".join(text.split())
        if not plain:
            return
        last = self._at.children[-1] if self._at.children else None
        if last is not None and last.tag == "text" and not label and not last.label:
            last.text = f"{last.text} {plain}"
        else:
            self._at.add(Node("text", label, plain, line))

    def _void(self, tag: str, said: dict[str, str], line: int) -> None:
        if tag == "br":
            self._at.add(Node("br", line=line))
        elif tag == "img":
            self.text(said.get("alt") or said.get("title") or "", line)
        elif tag == "input" and said.get("type", "text") in ("text", "hidden", "") and said.get("value"):
            self.text(said["value"], line, said.get("name", ""))

    def _end_open(self, tag: str) -> None:
        """End elements that a new one of this kind ends, up to the table or list that holds both."""
        ends, node = _ENDS.get(tag, ()), self._at
        while ends and node.parent is not None and node.tag not in ("table", "ul", "ol", "dl", "select"):
            if node.tag in ends:
                while self._at is not node.parent:
                    self._leave()
            node = node.parent

    def _leave(self) -> None:
        if self._at.parent is not None:
            self._at = self._at.parent
            self._depth -= 1


def parse_page(text: str) -> tuple[Node, str]:
    """Return a page's tree, and the text of its scripts. It never raises; what is not closed reaches to the end.

    A tag is taken for text if it is longer than any that people write, so that the time stays linear.
    """
    builder = _PageBuilder()
    scripts: list[str] = []
    small = text.casefold() if len(text.casefold()) == len(text) else text
    at, line = 0, 1
    for tag in _TAG.finditer(text):
        if tag.start() < at:
            continue
        if between := html.unescape(text[at : tag.start()]):
            builder.text(between, line)
        line += text.count("\n", at, tag.end())
        at, name = tag.end(), (tag[2] or "").casefold()
        if tag[0].startswith("<!--"):
            end = text.find("-->", at)
            at = end + 3 if end >= 0 else len(text)
        elif tag[1]:
            builder.end(name)
        elif name in _SILENT:
            end = small.find(f"</{name}", at)
            end = end if end >= 0 else len(text)
            if name == "script":
                scripts.append(text[at:end])
            line, at = line + text.count("\n", at, end), end
        else:
            builder.begin(name, tag[3], line)
    builder.text(html.unescape(text[at:]), line)
    return builder.root, "\n".join(scripts)


def parse_script(text: str) -> Node:
    """Return the arrays, objects and strings of a script or of JSON, in whatever it stands; it never raises."""
    root = at = Node("page")
    key, depth, deeper = "", 0, 0
    line, counted = 1, 0
    for token in _TOKEN.finditer(text):
        line += text.count("\n", counted, token.start())
        counted = token.start()
        sign = token["sign"]
        if sign in ("[", "{", "("):
            if depth >= _DEEPEST:
                deeper += 1
                continue
            at = at.add(Node({"[": "array", "{": "object", "(": "call"}[sign], key, line=line))
            if any(mac_spans(key)):  # an object by its MAC address
                at.add(Node("value", "mac", key, line))
            key, depth = "", depth + 1
        elif sign in ("]", "}", ")"):
            if deeper:
                deeper -= 1
            elif at.parent is not None:
                at, depth = at.parent, depth - 1
            key = ""
        elif sign in (":", "="):
            last = at.children[-1] if at.children else None
            if last is not None and last.tag == "value" and not last.label:
                at.children.pop()
                key = last.text
        elif sign is None:
            said = token["double"] if token["double"] is not None else token["single"]
            at.add(Node("value", key, _unescaped(said) if said is not None else token["bare"], line))
            key = ""
    return root


def _unescaped(text: str) -> str:
    if "\\" not in text:
        return text

    def plain(match: re.Match[str]) -> str:
        sign = match[1]
        if len(sign) > 1:
            return chr(int(sign[1:], 16))
        return {"n": "\n", "t": "\t", "r": "\n"}.get(sign, sign)

    return re.sub(r"\\(u[0-9a-fA-F]{4}|x[0-9a-fA-F]{2}|.)", plain, text)


def page_lines(root: Node) -> str:
    """Return a tree as lines of text: the cells of a row with tabs, each other text on a line of its own."""
    found: list[str] = []

    def walk(node: Node) -> None:
        for child in node.children:
            nested = any(each.children for each in child.children)
            if child.tag == "tr" or (child.tag in ("array", "call", "object") and not nested):
                cells = [" ".join(leaf.text for leaf in cell.leaves()).strip() for cell in child.children]
                several = len({mac for cell in cells for _, _, mac in mac_spans(cell)}) > 2
                found.extend(cells if several else ["\t".join(cells)])
            elif child.tag in ("text", "value"):
                found.append(child.text)
            else:
                walk(child)

    walk(root)
    return "\n".join(found)
