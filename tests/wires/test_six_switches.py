"""Six switches of 24 ports in two storeys: the tree in the terminal, and its drawings on the page of a report."""

from __future__ import annotations

import re
import unittest
import xml.etree.ElementTree as ElementTree
from contextlib import closing
from html import unescape
from itertools import pairwise

from scopion.model.mac import MacAddress
from scopion.model.wires import Learned, LldpNeighbour, SwitchPort, SwitchReading
from scopion.operations.site.open_site import Site
from scopion.operations.wires.fold_wires import fold_wires
from tests.support import ProgramTest

LEAVES = tuple(f"storey {number}" for number in range(1, 6))
LETTER = 5.2  # a narrow letter's width in the drawing: what overlaps with it surely does
SVG = re.compile(r'<svg class="wires".*?</svg>', re.S)


def own(switch: int) -> MacAddress:
    return MacAddress(bytes([2, 0, 0, 1, switch, 0]))


def host(switch: int, port: int) -> MacAddress:
    return MacAddress(bytes([2, 0, 0, 2, switch, port]))


def ports_of(used: set[int], slow: int = 0) -> tuple[SwitchPort, ...]:
    return tuple(
        SwitchPort(f"ge.1.{port}", port, speed_mbit=10 if port == slow else 1000, up=port in used)
        for port in range(1, 25)
    )


def readings() -> dict[str, SwitchReading]:
    """The cellar's switch with one of each storey at its ports 1 to 5; hosts at ports 2 to 11 of each storey."""
    cellar = SwitchReading(
        "cellar", name="cellar-sw", macs=frozenset([own(0)]), ports=ports_of({1, 2, 3, 4, 5, 9}),
        learned=(
            *(Learned(host(leaf, port), f"ge.1.{leaf}") for leaf in range(1, 6) for port in range(2, 12)),
            Learned(host(0, 9), "ge.1.9"),
        ),
        neighbours=tuple(
            LldpNeighbour(f"ge.1.{leaf}", name=f"leaf-{leaf}", macs=frozenset([own(leaf)]), bridges=True)
            for leaf in range(1, 6)
        ),
    )  # fmt: skip
    found = {"cellar": cellar}
    for leaf, name in enumerate(LEAVES, 1):
        learned = [Learned(host(leaf, port), f"ge.1.{port}") for port in range(2, 12)]
        learned += [Learned(host(0, 9), "ge.1.24"), Learned(own(0), "ge.1.24")]
        found[name] = SwitchReading(
            name, name=f"leaf-{leaf}", macs=frozenset([own(leaf)]), ports=ports_of({*range(2, 12), 24}, slow=3),
            learned=tuple(learned),
        )  # fmt: skip
    return found


class SixSwitches(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.begin()
        tables = "".join(
            f'\n[[switch]]\nname = "{name}"\naddress = "198.51.100.{10 + number}"\nversion = "3"\nuser = "scopion"\n'
            for number, name in enumerate(("cellar", *LEAVES))
        )
        path = self.site / "site.toml"
        path.write_text(path.read_text(encoding="utf-8") + tables, encoding="utf-8")
        read = readings()
        with closing(Site(self.site)) as site:
            fold_wires(site, read, read.keys())

    def test_the_tree(self) -> None:
        """Each switch stands once, below the port to which it hangs; each host at the edge; free ports in one line."""
        text = self.run_ok("map", "--wires", "--format", "table")
        heads = ("cellar, 24 ports", *(f"{name}, at its port ge.1.24, 24 ports" for name in LEAVES))
        self.assertEqual([text.count(head) for head in heads], [1] * 6)
        for leaf, name in enumerate(LEAVES, 1):
            self.assertRegex(text, rf"[├└]─ ge\.1\.{leaf}  +{name}, at its port")
            self.assertEqual(len(re.findall(str(host(leaf, 5)), text)), 1)
        self.assertIn("└─ free: ge.1.1, ge.1.12 to ge.1.23\n", text)
        self.assertIn("└─ free: ge.1.6 to ge.1.8, ge.1.10 to ge.1.24\n", text)
        self.assertLess(max(map(len, text.splitlines())), 81)
        rows = self.run_json("map", "--wires")
        at = {each["devices"][0]: (each["switch"], each["port"]) for each in rows if each["devices"]}
        expected = {
            str(host(leaf, port)): (LEAVES[leaf - 1], f"ge.1.{port}") for leaf in range(1, 6) for port in range(2, 12)
        }
        self.assertEqual(at, {**expected, str(host(0, 9)): ("cellar", "ge.1.9")})

    def test_the_drawings(self) -> None:
        """One drawing of each switch; all of it is within its frame, and no text runs into another one."""
        socket = 'the long table in the hall, left of the door <b>&"xxxxx'
        self.run_ok("label", "--port", "storey 2/ge.1.3", "--socket", socket)
        page = self.folder / "report.html"
        self.run_ok("report", "--html", str(page), "--part", "wires")
        drawings = SVG.findall(page.read_text(encoding="utf-8"))
        self.assertEqual(len(drawings), 6)
        for drawing in drawings:
            root = ElementTree.fromstring(unescape_named(drawing))
            _, _, wide, high = map(float, root.attrib["viewBox"].split())
            spans: dict[float, list[tuple[float, float]]] = {}
            for text in root.iter("text"):
                x, y = float(text.attrib["x"]), float(text.attrib["y"])
                long = len("".join(text.itertext())) * LETTER
                begin = {"end": x - long, "port": x - long, "tick": x - long / 2}.get(
                    text.attrib.get("class", "").split(" ")[0], x
                )
                self.assertTrue(begin >= -1 and begin + long <= wide + 1 and 0 < y <= high, "".join(text.itertext()))
                spans.setdefault(y, []).append((begin, begin + long))
            for those in spans.values():
                those.sort()
                self.assertTrue(all(a[1] <= b[0] for a, b in pairwise(those)), those)
        self.assertEqual(sum(drawing.count("port-switch") for drawing in drawings), 20)
        self.assertEqual(sum("long table in the hall, left of the door &lt;b&gt;" in each for each in drawings), 1)


def unescape_named(drawing: str) -> str:
    """XML knows fewer names of characters than HTML."""
    return re.sub(r"&(?!amp;|lt;|gt;|quot;|#)\w+;", lambda found: unescape(found[0]), drawing)


if __name__ == "__main__":
    unittest.main()
