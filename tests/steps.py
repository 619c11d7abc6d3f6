"""Counts the steps of a backtracking matcher, so that a pattern's cost can be compared for one input and another.

Time tells less: it differs from machine to machine, and from run to run. The matcher does what that of the standard
library does - the first alternative first, as many as possible first, one after the other - on the same parsed pattern.
"""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Iterator, Sequence
from re import _constants as op  # type: ignore[attr-defined]
from re import _parser as parser  # type: ignore[attr-defined]
from typing import Any

Node = tuple[Any, Any]
Then = Callable[[int], bool]
# Of whatever class: one of these is in it, or it is empty.
_SOME = "aA0 _-.:/\n\t\"'\\=;{}[]()<>#@%+,*?!|&~^$€é"
_CATEGORIES = {
    op.CATEGORY_DIGIT: r"\d", op.CATEGORY_NOT_DIGIT: r"\D", op.CATEGORY_SPACE: r"\s", op.CATEGORY_NOT_SPACE: r"\S",
    op.CATEGORY_WORD: r"\w", op.CATEGORY_NOT_WORD: r"\W",
}  # fmt: skip
_REPEATS = (op.MAX_REPEAT, op.MIN_REPEAT, op.POSSESSIVE_REPEAT)
MOST_STEPS = 1_500_000  # far beyond what anything linear takes


class TooManySteps(Exception):
    """It would take for ever."""


class Matcher:
    """Tries one pattern on texts; ``steps`` counts what it has tried."""

    def __init__(self, pattern: re.Pattern[str]) -> None:
        self.flags = pattern.flags
        self.nodes: Sequence[Node] = list(parser.parse(pattern.pattern, pattern.flags))
        self.steps = 0
        self._text = ""
        self._known: dict[tuple[int, str], bool] = {}  # by node and character: asked again and again
        sys.setrecursionlimit(100_000)

    def run(self, text: str, method: str) -> int:
        """The steps that ``method`` of a compiled pattern takes on a text."""
        self.steps, self._text = 0, text
        at, ends = 0, [-1]

        def end(to: int) -> bool:
            ends[0] = to
            return method != "fullmatch" or to == len(text)

        while at <= len(text):
            found = self._all(self.nodes, 0, at, end)
            if method in ("match", "fullmatch") or (found and method == "search"):
                break
            at = max(at + 1, ends[0]) if found else at + 1
        return self.steps

    def _all(self, nodes: Sequence[Node], index: int, at: int, then: Then) -> bool:
        self.steps += 1
        if self.steps > MOST_STEPS:
            raise TooManySteps
        if index == len(nodes):
            return then(at)
        kind, value = nodes[index]

        def rest(to: int) -> bool:
            return self._all(nodes, index + 1, to, then)

        if kind in _REPEATS:
            low, high, body = value
            return self._repeat(kind, low, high, list(body), at, rest)
        if kind is op.BRANCH:
            return any(self._all(list(each), 0, at, rest) for each in value[1])
        if kind is op.SUBPATTERN:
            return self._all(list(value[3]), 0, at, rest)
        if kind in (op.ASSERT, op.ASSERT_NOT):
            way, body = value
            if way < 0:  # behind: its width is fixed
                width = body.getwidth()[0]
                found = at >= width and self._all(list(body), 0, at - width, lambda to: to == at)
            else:
                found = self._all(list(body), 0, at, lambda _: True)
            return found == (kind is op.ASSERT) and rest(at)
        if kind is op.ATOMIC_GROUP:
            ends: list[int] = []
            return self._all(list(value), 0, at, lambda to: not ends.append(to)) and rest(ends[0])  # type: ignore[func-returns-value]
        if kind is op.AT:
            return self._is_at(value, at) and rest(at)
        if kind is op.GROUPREF:
            return rest(at)  # of no matter for the cost of what is before it
        return at < len(self._text) and self._fits(nodes[index], self._text[at]) and rest(at + 1)

    def _repeat(self, kind: Any, low: int, high: Any, body: list[Node], at: int, rest: Then) -> bool:
        most = len(self._text) if high is op.MAXREPEAT else int(high)
        if len(body) == 1 and body[0][0] in (op.LITERAL, op.NOT_LITERAL, op.ANY, op.IN):
            return self._run_of(kind, low, most, body[0], at, rest)

        def more(count: int, where: int) -> bool:
            def again(to: int) -> bool:
                return to > where and more(count + 1, to)

            if count < low:
                return self._all(body, 0, where, lambda to: more(count + 1, to))
            if kind is op.MIN_REPEAT:
                return rest(where) or (count < most and self._all(body, 0, where, again))
            return (count < most and self._all(body, 0, where, again)) or rest(where)

        return more(0, at)

    def _run_of(self, kind: Any, low: int, most: int, node: Node, at: int, rest: Then) -> bool:
        """One character again and again, as the library does it: counted in one go, then given back one by one."""
        count = 0
        if kind is op.MIN_REPEAT:
            while True:
                if count >= low and rest(at + count):
                    return True
                self.steps += 1
                if count >= most or at + count >= len(self._text) or not self._fits(node, self._text[at + count]):
                    return False
                count += 1
        while count < most and at + count < len(self._text) and self._fits(node, self._text[at + count]):
            count += 1
            self.steps += 1
        if kind is op.POSSESSIVE_REPEAT:
            return count >= low and rest(at + count)
        return any(rest(at + each) for each in range(count, low - 1, -1))

    def _is_at(self, where: Any, at: int) -> bool:
        text, lines = self._text, bool(self.flags & re.MULTILINE)
        if where in (op.AT_BEGINNING, op.AT_BEGINNING_STRING):
            return bool(at == 0 or (lines and where is op.AT_BEGINNING and text[at - 1] == "\n"))
        if where is op.AT_END:
            return at == len(text) or (text[at] == "\n" and (lines or at == len(text) - 1))
        if where is op.AT_END_STRING:
            return at == len(text)
        word = [0 <= each < len(text) and re.match(r"\w", text[each]) is not None for each in (at - 1, at)]
        return (word[0] != word[1]) is (where is op.AT_BOUNDARY)

    def _fits(self, node: Node, character: str) -> bool:
        key = id(node), character
        if key not in self._known:
            self._known[key] = fits(node, character, self.flags)
        return self._known[key]


def fits(node: Node, character: str, flags: int) -> bool:
    """Whether a node of one character is that character."""
    kind, value = node
    if flags & re.IGNORECASE and character.swapcase() != character and len(character.swapcase()) == 1:
        plain = flags & ~re.IGNORECASE
        return fits(node, character, plain) or fits(node, character.swapcase(), plain)
    if kind is op.LITERAL:
        return bool(ord(character) == value)
    if kind is op.NOT_LITERAL:
        return bool(ord(character) != value)
    if kind is op.ANY:
        return character != "\n" or bool(flags & re.DOTALL)
    if kind is op.CATEGORY:
        return re.match(_CATEGORIES[value], character, flags & re.ASCII) is not None
    if kind is op.RANGE:
        return bool(value[0] <= ord(character) <= value[1])
    negated = value[0][0] is op.NEGATE
    return bool(any(fits(each, character, flags) for each in value[negated:]) != negated)


def example(nodes: Sequence[Node], flags: int, least: int = 0) -> str:
    """A short text that the nodes match, each repeat at least so often as it may be."""
    return "".join(_example(node, flags, least) for node in nodes)


def _example(node: Node, flags: int, least: int) -> str:
    kind, value = node
    if kind in _REPEATS:
        low, high, body = value
        count = int(max(low, min(least, least if high is op.MAXREPEAT else int(high))))
        return example(list(body), flags, least) * count
    if kind is op.BRANCH:
        return example(list(value[1][0]), flags, least)
    if kind is op.SUBPATTERN:
        return example(list(value[3]), flags, least)
    if kind is op.ATOMIC_GROUP:
        return example(list(value), flags, least)
    if kind is op.LITERAL:
        return str(chr(value))
    if kind in (op.NOT_LITERAL, op.ANY, op.IN):
        ranges = [chr(each[1][0]) for each in value if each[0] is op.RANGE] if kind is op.IN else []
        literals = [chr(each[1]) for each in value if each[0] is op.LITERAL] if kind is op.IN else []
        return next((each for each in (*_SOME, *ranges, *literals) if fits(node, each, flags)), "")
    return ""


def attacks(nodes: Sequence[Node], flags: int, prefix: str = "") -> Iterator[tuple[str, str]]:
    """For each repeat: what leads to it, and a piece that goes on in it, for ever if need be."""
    before = prefix
    for index, node in enumerate(nodes):
        kind, value = node
        inner: list[Sequence[Node]] = []
        if kind in _REPEATS:
            body = list(value[2])
            for least in (0, 1):
                yield before, example(body, flags, least)
            for character in _SOME:
                if len(body) == 1 and body[0][0] in (op.ANY, op.IN, op.NOT_LITERAL) and fits(body[0], character, flags):
                    yield before, character
            inner = [body]
        elif kind is op.BRANCH:
            inner = [list(each) for each in value[1]]
        elif kind is op.SUBPATTERN:
            inner = [list(value[3])]
        for each in inner:
            yield from attacks(each, flags, before)
        before += example([node], flags, 1)
        # What is taken by this repeat, and could be taken by the next.
        if kind in _REPEATS and index + 1 < len(nodes):
            yield before, example(nodes[index : index + 2], flags, 1)
    if prefix == "" and nodes:
        yield "", example(nodes, flags, 1)
        yield "", example(nodes[:-1], flags, 1)
