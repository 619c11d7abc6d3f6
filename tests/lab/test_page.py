"""The report's page in a real browser that reaches nothing: complete, quiet, readable, usable by keyboard, safe."""

from __future__ import annotations

import base64
import tempfile
import unittest
from contextlib import closing
from datetime import timedelta
from pathlib import Path
from typing import Any, ClassVar

from scopion.model.mac import MacAddress
from scopion.model.wires import Learned, PortCounters, SwitchPort, SwitchReading
from scopion.operations.report.make_report import report
from scopion.operations.wires.fold_wires import fold_wires
from scopion.reports.content import Part
from scopion.reports.page import page
from tests.lab.browser import CHROMIUM, Browser
from tests.lab.lab import Lab, require_lab, require_tools
from tests.made_past import HOSTILE, LONG, NOW, make_past, opened_at
from tests.support import ROOT

_CONTRAST = (ROOT / "tests/data/contrast.js").read_text(encoding="utf-8")
# What reaches past the right edge of what holds it, or of the window.
_CUT = """
(() => {
  const past = (each) => {
    const holder = each.closest('.wide');
    const edge = holder ? holder.getBoundingClientRect().right : document.documentElement.clientWidth;
    return each.getBoundingClientRect().right > edge + 1;
  };
  const wide = [...document.querySelectorAll('*')].filter((each) => each.scrollWidth > each.clientWidth + 1
    && ['auto', 'scroll', 'hidden'].includes(getComputedStyle(each).overflowX) && !each.matches('.hidden'));
  return [...document.querySelectorAll('td, th, p, li, figure, h2')].filter(past).concat(wide)
    .map((each) => each.tagName + ' ' + each.innerText.slice(0, 40));
})()
"""
_ROWS = "[...document.querySelectorAll('#devices tbody tr')]"


def read_switch_of(folder: Path) -> None:
    """A switch with a device at most of its ports, read twice: with octets, damaged frames, and a slow link."""
    with (folder / "site.toml").open("a", encoding="utf-8") as file:
        file.write('\n[[switch]]\nname = "rack"\naddress = "192.0.2.4"\nversion = "3"\nuser = "reader"\n')
    macs = [MacAddress(bytes([0x10, 0xC0, 0xDE, 0, 0, number])) for number in range(8)]
    there = tuple(Learned(mac, str(number)) for number, mac in enumerate(macs, 1))
    for at, octets, errors in ((NOW - timedelta(minutes=1), 0, 0), (NOW, 10**6, 90)):
        counters = PortCounters(octets, 3 * octets, errors)
        ports = tuple(
            SwitchPort(str(number), number, alias=HOSTILE, speed_mbit=10, up=number < 9, counters=counters)
            for number in range(1, 11)
        )
        with closing(opened_at(folder, at)) as site:
            fold_wires(site, {"rack": SwitchReading("rack", ports=ports, learned=there)}, ["rack"])


class Page(unittest.TestCase):
    lab: ClassVar[Lab]
    file: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        require_lab()
        require_tools(CHROMIUM)
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        folder = Path(holder.name) / "site"
        folder.mkdir()
        make_past(folder)
        read_switch_of(folder)
        site = opened_at(folder, NOW)
        cls.file = Path(holder.name) / "report.html"
        cls.file.write_text(page(report(site), NOW.replace(tzinfo=None)), encoding="utf-8")
        site.close()
        cls.lab = Lab([], gateway=None)
        cls.addClassCleanup(cls.lab.close)

    def setUp(self) -> None:
        self.browser = self.enterContext(Browser(self.lab.namespace("switch")))
        self.browser.open(self.file)

    def show_as(self, media: str, scheme: str) -> None:
        """On a screen or on paper, for somebody who prefers light or dark."""
        features = [{"name": "prefers-color-scheme", "value": scheme}]
        self.browser.ask("Emulation.setEmulatedMedia", media=media, features=features)

    def test_it_is_whole_and_asks_for_nothing(self) -> None:
        """Every part is there, nothing is said in the console, and no address but its own is asked for."""
        for part in Part:
            shown = self.browser.value(f"document.getElementById('{part}').innerText")
            self.assertGreater(len(shown), 40, part)
        self.assertIn("stranger is unwanted and here", self.browser.value("document.body.innerText"))
        said = [each["entry"]["text"] for each in self.browser.told("Log.entryAdded")]
        said += [str(each["args"]) for each in self.browser.told("Runtime.consoleAPICalled")]
        said += [str(each) for each in self.browser.told("Runtime.exceptionThrown")]
        self.assertEqual(said, [])
        asked = {each["request"]["url"] for each in self.browser.told("Network.requestWillBeSent")}
        self.assertEqual(asked, {self.file.as_uri()})

    def test_what_devices_call_themselves_is_text(self) -> None:
        """Markup in a name makes no element and runs nothing, and the page would not let anything load."""
        self.assertIn(HOSTILE, self.browser.value("document.body.innerText"))
        self.assertEqual(self.browser.value("document.images.length"), 0)
        self.assertEqual(self.browser.value("document.scripts.length"), 1)
        # A positive control: what such a name would do is refused by the page's own policy.
        self.browser.value("document.body.insertAdjacentHTML('beforeend', '<img src=x onerror=\"window.ran=1\">')")
        self.browser.value("new Promise((done) => setTimeout(done, 200))")
        self.assertIsNone(self.browser.value("window.ran"))
        refused = " ".join(each["entry"]["text"] for each in self.browser.told("Log.entryAdded"))
        self.assertIn("Content Security Policy", refused)

    def test_it_is_readable_in_light_dark_and_on_paper(self) -> None:
        """The contrast of every text is at least that of WCAG 2.2 (AA)."""
        for media, scheme in (("screen", "light"), ("screen", "dark"), ("print", "light")):
            with self.subTest(media=media, scheme=scheme):
                self.show_as(media, scheme)
                told = self.browser.value(_CONTRAST)
                self.assertGreater(told["looked"], 300)
                self.assertEqual(told["found"], [])
        grounds = set()
        for scheme in ("light", "dark"):
            self.browser.ask(
                "Emulation.setEmulatedMedia",
                media="screen",
                features=[{"name": "prefers-color-scheme", "value": scheme}],
            )
            grounds.add(self.browser.value("getComputedStyle(document.body).backgroundColor"))
        self.assertEqual(len(grounds), 2)

    def test_the_keyboard_reaches_everything(self) -> None:
        """Tab goes to the skip link first, to each part, each heading and filter; Enter sorts; a filter hides rows."""
        reached = []
        for _ in range(60):
            self.browser.press("Tab", 9)
            reached.append(self.browser.value("document.activeElement.innerText || document.activeElement.type"))
        self.assertEqual(reached[0], "Skip to the summary")
        for wanted in ("Devices", "Busy hours", "search", "standing", "last seen", "when"):
            self.assertIn(wanted, reached)
        head = "document.querySelector('#devices th:nth-child(2) button')"
        self.browser.value(f"{head}.focus()")
        self.browser.press("Enter", 13, "\r")
        column = _ROWS + ".map((row) => row.cells[1].innerText.split('\\n')[0])"
        names = self.browser.value(column)
        self.assertEqual(names, sorted(names, key=str.lower))
        self.browser.press("Enter", 13, "\r")
        self.assertEqual(self.browser.value(column), names[::-1])
        self.browser.value("document.querySelector('#devices input').focus()")
        for letter in "unwanted":
            self.browser.press(letter, ord(letter.upper()), letter)
        shown = self.browser.value(
            "[...document.querySelectorAll('#devices tbody tr')].filter((row) => !row.hidden).length"
        )
        self.assertEqual(shown, 1)
        self.assertEqual(self.browser.value("document.querySelector('#devices .filter span').innerText"), "1 of 8")

    def test_nothing_is_cut_at_any_width(self) -> None:
        """From a small window to a wide screen every column ends inside the page, a long IPv6 address among them."""
        self.assertIn(str(LONG), self.browser.value("document.querySelector('#devices').textContent"))
        for width in (800, 1280, 1920):
            with self.subTest(width=width):
                self.browser.ask(
                    "Emulation.setDeviceMetricsOverride", width=width, height=900, deviceScaleFactor=1, mobile=False
                )
                self.assertEqual(self.browser.value("window.innerWidth"), width)
                self.assertEqual(self.browser.value(_CUT), [])

    def test_it_is_whole_without_scripts_and_on_paper(self) -> None:
        """With scripts off every row is there and nothing is cut at the right edge of a page of paper."""
        self.browser.ask("Emulation.setScriptExecutionDisabled", value=True)
        self.browser.open(self.file.with_name("report.html"))
        self.assertEqual(self.browser.value("document.querySelectorAll('button, input').length"), 0)
        printed: dict[str, Any] = self.browser.ask("Page.printToPDF", paperWidth=8.27, paperHeight=11.69)
        self.assertTrue(base64.b64decode(printed["data"]).startswith(b"%PDF"))
        self.browser.ask("Emulation.setScriptExecutionDisabled", value=False)
        self.browser.ask("Emulation.setEmulatedMedia", media="print")
        # A4 less its margins, in CSS pixels.
        self.browser.ask(
            "Emulation.setDeviceMetricsOverride", width=688, height=1000, deviceScaleFactor=1, mobile=False
        )
        self.assertLessEqual(self.browser.value("document.documentElement.scrollWidth"), 688)
        self.assertEqual(self.browser.value("document.querySelectorAll('#devices tbody tr').length"), 8)


if __name__ == "__main__":
    unittest.main()
