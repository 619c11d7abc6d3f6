"""No pattern of ours takes more than linear time, whatever stands in the text: twice the text, twice the steps.

Every pattern in the program is found, in whatever file; none is exempt because its input is thought to be short.
"""

from __future__ import annotations

import ast
import importlib
import re
import unittest
from collections.abc import Iterator

from scopion.discovery.records.leases import read_isc_dhcpd
from scopion.discovery.records.reading import RecordContext
from tests.steps import Matcher, TooManySteps, attacks
from tests.support import NOON, ROOT

METHODS = ("match", "fullmatch", "search", "findall", "finditer", "sub", "subn", "split")
# First a few, which is quick; what grows then may still end at a bound of the pattern's own, so it is tried with many.
_FEW, _MANY, _GROWS = 24, 200, 2.6
_END = "\x00"  # what no pattern goes on with


def patterns() -> Iterator[tuple[str, re.Pattern[str], str]]:
    """Every pattern: where it stands, and by which method it is used."""
    for path in sorted((ROOT / "src/scopion").rglob("*.py")):
        text = path.read_text(encoding="utf-8")
        if "re." not in text:
            continue
        where = str(path.relative_to(ROOT / "src/scopion"))
        for call in ast.walk(ast.parse(text)):
            if (
                isinstance(call, ast.Call) and isinstance(call.func, ast.Attribute) and call.func.attr in METHODS
                and isinstance(call.func.value, ast.Name) and call.func.value.id == "re" and call.args
                and isinstance(call.args[0], ast.Constant)
            ):  # fmt: skip
                flags = next((ast.unparse(each) for each in call.args[2:] if "re." in ast.unparse(each)), "0")
                yield f"{where}:{call.lineno}", re.compile(str(call.args[0].value), eval(flags)), call.func.attr
        names = [match[1] for match in re.finditer(r"^(\w+)(?:: [^=\n]+)? = re\.compile", text, re.MULTILINE)]
        if names:
            module = importlib.import_module("scopion." + where.removesuffix(".py").replace("/", "."))
            for name in names:
                used = re.findall(rf"\b{name}\.(\w+)\(", text)
                for method in {each for each in used if each in METHODS} or {"search"}:
                    yield f"{where}: {name}", getattr(module, name), method


def growth(pattern: re.Pattern[str], method: str) -> tuple[float, str]:
    """How many times the steps grow with twice the text, for the first piece of text for which it is too much; or 0."""
    matcher = Matcher(pattern)
    for prefix, piece in dict.fromkeys(attacks(matcher.nodes, pattern.flags)):
        if not piece:
            continue
        for begin in dict.fromkeys((prefix, "")):
            for count in (_FEW, _MANY):
                try:
                    once, twice = (matcher.run(begin + piece * each + _END, method) for each in (count, 2 * count))
                except TooManySteps:
                    return float("inf"), begin + piece
                if twice / once < _GROWS:
                    break
                if count == _MANY:
                    return twice / once, begin + piece
    return 0.0, ""


class Linear(unittest.TestCase):
    def test_twice_the_text_takes_twice_the_steps(self) -> None:
        """Of every pattern in the program, by the method that it is used with, for the worst text that is found."""
        found = list(patterns())
        self.assertGreater(len(found), 90)
        for where, pattern, method in found:
            with self.subTest(where=where, pattern=pattern.pattern, method=method):
                grows, piece = growth(pattern, method)
                self.assertLess(grows, _GROWS, f"{pattern.pattern!r} on {piece!r} again and again")

    def test_the_counting_finds_what_is_slow(self) -> None:
        """Patterns that are known to be slow are found, those that are known to be quick are not."""
        for slow in (r"(a+)+$", r"\s*;", r'((?:[^;"{}]|"(?:[^"\\]|\\.)*")*)[;}]', r"(\d+)\s*([a-z])"):
            self.assertGreater(growth(re.compile(slow), "search")[0], 3, slow)
        for quick in (r"[a-z]{1,20}=", r"(?:\d{1,5}\s{0,8}([a-z]))", r"a+"):
            self.assertEqual(growth(re.compile(quick), "search")[0], 0, quick)

    def test_a_lease_with_open_quotes(self) -> None:
        """Eight kilobytes of quotes that are never closed are read once; leases within leases, too."""
        body = 'set x = "' * 900
        text = f"lease 192.0.2.9 {{\n hardware ethernet 10:c0:de:00:00:09;\n {body}\n}}\n"
        (seen,) = read_isc_dhcpd(text, RecordContext(NOON)).observations
        self.assertEqual(str(seen.mac), "10:c0:de:00:00:09")
        nested = "lease 192.0.2.9 {\n" * 20_000 + "hardware ethernet 10:c0:de:00:00:09;\n}\n"
        self.assertEqual(len(read_isc_dhcpd(nested, RecordContext(NOON)).observations), 1)


if __name__ == "__main__":
    unittest.main()
