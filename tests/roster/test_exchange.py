"""What goes out comes back the same; what is wrong is named with its line, and nothing is applied."""

from __future__ import annotations

import csv
import io
import json
import shutil
import subprocess
import unittest
import warnings
import zipfile
from datetime import date, timedelta
from ipaddress import ip_address
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from scopion.model.device import Standing
from scopion.model.mac import MacAddress
from scopion.model.observation import Medium, Source, Trait, TraitKind
from scopion.model.text import clean
from scopion.roster.exchange import device_sheet as sheet
from scopion.roster.exchange import host_lists
from scopion.roster.exchange.document import json_schema, read_document, read_lines, write_document
from scopion.roster.exchange.record import AdapterRecord, DeviceRecord
from tests.support import NOON, ROOT, ProgramTest

TEXT = st.text(max_size=12).map(clean) | st.sampled_from(["=1+1", "'quoted", "a;b (dns); c", "@x", "-", "|", "\\;"])
MOMENTS = st.integers(0, 10**6).map(lambda second: NOON + timedelta(seconds=second, milliseconds=second % 1000))
NAMES = st.builds(
    lambda value, source: Trait(TraitKind.NAME, value, source),
    TEXT.filter(bool),
    st.sampled_from([Source.DNS, Source.MDNS]),
)
ADDRESSES = st.integers(1, 250).map(lambda number: ip_address(f"192.0.2.{number}")) | st.just(ip_address("2001:db8::7"))


@st.composite
def records(draw: st.DrawFn) -> list[DeviceRecord]:
    """A few devices with different MACs and labels."""
    numbers = draw(st.lists(st.integers(1, 2**20), min_size=1, max_size=6, unique=True))
    made: list[DeviceRecord] = []
    while numbers:
        count = draw(st.integers(1, min(2, len(numbers))))
        macs, numbers = numbers[:count], numbers[count:]
        adapters = tuple(
            AdapterRecord(
                MacAddress(b"\x10\xc0\xde" + number.to_bytes(3)), draw(st.sampled_from(list(Medium))), draw(MOMENTS),
                draw(MOMENTS), tuple(sorted(draw(st.sets(ADDRESSES, max_size=2)), key=str)),
            )
            for number in macs
        )  # fmt: skip
        standing = draw(st.sampled_from(list(Standing)))
        made.append(
            DeviceRecord(
                adapters=adapters,
                label=f"{draw(TEXT)} {len(made)}".strip(),
                owner=draw(TEXT),
                place=draw(TEXT),
                note=draw(TEXT),
                standing=standing,
                guest_until=draw(st.none() | st.just(date(2026, 12, 31))) if standing is Standing.GUEST else None,
                standing_since=draw(st.none() | MOMENTS),
                because=draw(TEXT),
                essential=draw(st.booleans()),
                names=tuple(dict.fromkeys(draw(st.lists(NAMES, max_size=2)))),
                present=draw(st.booleans()),
                revision=draw(st.integers(0, 9)),
            )
        )
    return made


class RoundTrip(unittest.TestCase):
    @given(records())
    @settings(max_examples=150, deadline=None)
    def test_written_and_read_is_the_identity(self, devices: list[DeviceRecord]) -> None:
        """As a sheet (whatever a spreadsheet parts its columns with), as a document, as lines: nothing is lost."""
        rows = [(device, {"vendor": "Emberline", "kind": "kiln"}) for device in devices]
        text = sheet.write_sheet(rows)
        with_semicolons = io.StringIO()
        csv.writer(with_semicolons, delimiter=";").writerows(csv.reader(io.StringIO(text)))
        for written in (text, "\ufeff" + text, with_semicolons.getvalue()):
            found = sheet.read_sheet(written)
            self.assertEqual((list(found.records), found.problems), (devices, ()))
        found, exported = read_document(write_document(rows, "Kilnhaven", NOON))
        self.assertEqual((list(found.records), found.problems, exported), (devices, (), NOON))
        self.assertEqual(list(read_lines(write_document(rows, "", NOON, lines=True)).records), devices)

    @given(st.text(max_size=40), st.sampled_from(["label", "owner", "note"]))
    @settings(max_examples=100, deadline=None)
    def test_no_cell_is_a_formula(self, text: str, column: str) -> None:
        """Whatever somebody is called, a spreadsheet gets text."""
        record = DeviceRecord((AdapterRecord(MacAddress(b"\x10\xc0\xde\0\0\1")),), **{column: clean(text)})  # type: ignore[arg-type]
        for row in csv.reader(io.StringIO(sheet.write_sheet([(record, {})]))):
            self.assertFalse([cell for cell in row if cell.startswith(("=", "+", "-", "@", "\t"))])

    @given(st.text(max_size=300))
    @settings(max_examples=150, deadline=None)
    def test_reading_is_total(self, text: str) -> None:
        """Any text is records and problems, never an exception."""
        for read in (sheet.read_sheet, read_lines, lambda each: read_document(each)[0]):
            self.assertIsNotNone(read(text))
            self.assertIsNotNone(read(f"macs,label\n{text}"))
        for kind in host_lists.KINDS:
            self.assertIsNotNone(host_lists.read_list(kind, text))

    @given(records())
    @settings(max_examples=60, deadline=None)
    def test_lists_of_other_programs(self, devices: list[DeviceRecord]) -> None:
        """What is written as a list of another program reads back as the same pairs, with names that DNS allows."""
        for kind in host_lists.KINDS:
            written = host_lists.write_list(kind, devices)
            found = host_lists.read_list(kind, written.text)
            self.assertEqual(found.problems, (), (kind, written.text))
            for record in found.records:
                self.assertRegex(record.label or "", r"^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$")
            if kind != "hosts":
                known = {mac for device in devices for mac in device.macs}
                self.assertLessEqual({mac for record in found.records for mac in record.macs}, known)

    def test_hostile_names_stay_in_their_place(self) -> None:
        """A name from the network opens no block, ends no line and adds no option."""
        name = Trait(TraitKind.NAME, "x; } host evil { hardware ethernet 00:00:00:00:00:01; }", Source.DHCP)
        adapter = AdapterRecord(MacAddress(b"\x10\xc0\xde\0\0\1"), addresses=(ip_address("192.0.2.7"),))
        for kind in host_lists.KINDS:
            text = host_lists.write_list(kind, [DeviceRecord((adapter,), names=(name,))]).text
            self.assertNotIn("evil {", text)
            self.assertEqual(text.count("10:c0:de"), 0 if kind == "hosts" else 1)

    def test_the_published_schema_is_the_one_in_use(self) -> None:
        """What docs/schemas/devices.schema.json promises is what is read and written."""
        published = json.loads((ROOT / "docs/schemas/devices.schema.json").read_text(encoding="utf-8"))
        self.assertEqual(published, json_schema())
        self.assertEqual(published["required"], ["format", "version", "devices"])


HEAD = "macs,label,standing,guest_until,owner"


class Importing(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.run_ok("scan", "--no-names")

    def write(self, name: str, text: str | bytes) -> str:
        path = self.folder / name
        path.write_bytes(text if isinstance(text, bytes) else text.encode())
        return str(path)

    def test_a_site_goes_to_another_machine_and_back(self) -> None:
        """Sheet and document carry all that people said; an empty site that takes one in says the same again."""
        self.run_ok("label", "192.0.2.50", "till", "--owner", "=cmd()", "--note", "'so'")
        self.run_ok("mark", "till", "unwanted", "--because", "it squeaks")
        self.run_ok("label", "192.0.2.61", "door tablet")
        self.run_ok("mark", "door", "guest", "--until", "2026-12-31")
        for name in ("all.csv", "all.json", "all.jsonl"):
            path = self.folder / name
            self.run_ok("export", str(path))
            self.assertIn("none to be added, none changed", self.run_program("import", str(path), "--preview").stderr)
            other = self.folder / f"other-{name}"
            self.assertIn("14 to be added", self.run_program("--site", str(other), "import", str(path), "--yes").stderr)
            again = self.folder / f"again-{name}"
            self.run_ok("--site", str(other), "export", str(again))
            ours, theirs = (self._comparable(each) for each in (path, again))
            self.assertEqual(ours, theirs)
            self.run_ok("--site", str(other), "undo", "--yes")
            self.assertEqual(self.run_ok("--site", str(other), "devices", "--format", "jsonl"), "")

    def _comparable(self, path: Path) -> list[dict[str, str]]:
        """What is taken in, of each device."""
        if path.suffix == ".csv":
            rows = list(csv.DictReader(io.StringIO(path.read_text(encoding="utf-8-sig"))))
        else:
            text = path.read_text(encoding="utf-8")
            rows = (
                json.loads(text)["devices"]
                if path.suffix == ".json"
                else [json.loads(line) for line in text.splitlines()]
            )
        looked_up = ("present", "revision", "vendor", "kind")
        return sorted(({key: row[key] for key in row if key not in looked_up} for row in rows), key=str)

    def test_each_mistake_is_named_with_its_line(self) -> None:
        """Unknown columns, encodings, duplicates, dates, contradictions, half a line: told, and nothing is changed."""
        before = self.run_ok("devices", "--format", "json")
        till, door = "54:b1:a3:7c:00:50", "7c:a4:b1:33:02:61"
        wrong = {
            f"macs,label,colour\n{till},till,red\n": "line 1: there is no column 'colour'",
            "label,standing\ntill,known\n": "line 1: the column 'macs' is missing",
            f"{HEAD}\n{till},till,known,,\n{till},two,known,,\n": f"line 3: {till} stands in line 2 already",
            f"{HEAD}\n{till},till,known,,\n{door},Till,known,,\n": "line 3: the label 'Till' stands in line 2 already",
            f"{HEAD}\n{till},till,guest,2026-02-30,\n": "line 2: guest_until: '2026-02-30' is not a date",
            f"{HEAD}\n{till},till,guest,2020-01-01,\n": "line 2: 2020-01-01 is over",
            f"{HEAD}\n{till},till,known,2026-12-31,\n": "line 2: guest_until goes with guest, and standing is known",
            f"{HEAD}\n{till},till,friend,,\n": "line 2: standing: 'friend' is not a standing",
            f"{HEAD}\n{till},till\n": "line 2: 2 cells where the heading has 5: half a line?",
            f'{HEAD}\n{till},"till,known\n': "it ends in the middle of a cell",
            f"{HEAD}\n{till[:14]},till,known,,\n": "line 2: macs: '54:b1:a3:7c:00' is not a MAC address",
            f"{HEAD}\n{till},gateway,known,,\n": "line 2: 'gateway' cannot be a label",
            f"{HEAD}\n{till},{'x' * 61},known,,\n": "line 2: a label has at most 60 characters",
            f"{HEAD}\n60:f2:a7:10:00:0a {till},both,known,,\n": "line 2: this is about 2 devices",
            f"{HEAD}\n,till,known,,\n": "line 2: neither a MAC address nor an IP address",
        }
        for text, says in wrong.items():
            with self.subTest(says=says):
                ended = self.run_program("import", self.write("wrong.csv", text), "--as", "csv", "--yes")
                self.assertEqual(ended.returncode, 1, ended.stderr)
                self.assertIn(says, ended.stderr)
                self.assertIn("nothing was changed", ended.stderr.splitlines()[-1])
        self.assertIn(
            "line 2: not UTF-8", self.refused(2, "import", self.write("l1.csv", b"macs,label\n\xe9,b\n"), "--yes")
        )
        self.assertIn(
            "is UTF-16", self.refused(2, "import", self.write("u.csv", "macs,label\n".encode("utf-16")), "--as", "csv")
        )
        self.assertIn("cannot be read", self.refused(1, "import", str(self.folder / "none.csv")))
        self.assertEqual(self.run_ok("devices", "--format", "json"), before)

    def test_who_is_later_is_told(self) -> None:
        """A sheet that was filled in while somebody else changed a device does not overwrite that."""
        path = str(self.folder / "new.csv")
        self.run_ok("review", "--csv", path)
        text = Path(path).read_text(encoding="utf-8-sig")
        rows = list(csv.DictReader(io.StringIO(text)))
        self.assertEqual({row["standing"] for row in rows}, {"new"})
        for number, row in enumerate(rows):
            row.update(standing="known", label=f"thing {number}")
        filled = io.StringIO()
        writer = csv.DictWriter(filled, sheet.COLUMNS, delimiter=";")
        writer.writeheader()
        writer.writerows(rows)
        self.write("new.csv", filled.getvalue())
        self.run_ok("label", "192.0.2.50", "till")
        ended = self.run_program("review", "--csv", path, "--yes")
        self.assertEqual(ended.returncode, 1)
        self.assertIn("till was changed since this was written", ended.stderr)
        self.assertEqual(self.run_json("devices", "--standing", "known"), [])
        self.run_ok("undo", "--yes")
        Path(path).unlink()
        self.run_ok("review", "--csv", path)
        self.write("new.csv", Path(path).read_text(encoding="utf-8-sig").replace("new,,", "known,,"))
        self.assertIn("add --yes", self.run_program("review", "--csv", path).stderr)
        self.assertIn("14 devices taken over", self.run_program("review", "--csv", path, "--yes").stderr)
        self.assertEqual(len(self.run_json("devices", "--standing", "known")), 14)

    def test_lists_give_labels_to_those_without(self) -> None:
        """A reservation names the nameless; another name than ours is a conflict, unless the file is to win."""
        self.run_ok("label", "192.0.2.50", "till")
        text = "# shop\ndhcp-host=54:b1:a3:7c:00:50,192.0.2.50,cash-desk\n"
        text += "dhcp-host=88:c3:d2:91:00:70,set:x,192.0.2.70,lamps,12h\n"
        path = self.write("reserved.conf", text)
        ended = self.run_program("import", path, "--yes")
        self.assertEqual(ended.returncode, 1)
        self.assertIn("line 2: 54:b1:a3:7c:00:50 is 'till' here and 'cash-desk' there", ended.stderr)
        self.run_ok("import", path, "--yes", "--insist")
        names = {row["macs"][0]: row["name"] for row in self.run_json("devices")}
        self.assertEqual((names["54:b1:a3:7c:00:50"], names["88:c3:d2:91:00:70"]), ("cash-desk", "lamps"))
        self.run_ok("import", "-", "--as", "ethers", "--yes", stdin="7c:a4:b1:33:02:61 door\n")
        self.assertEqual([row["name"] for row in self.run_json("devices", "192.0.2.61")], ["door"])
        hosts = self.write("hosts", "127.0.0.1 localhost\n192.0.2.40 scale.example scale\n192.0.2.199 nobody\n")
        ended = self.run_program("import", hosts, "--yes")
        self.assertIn("line 3: no device is known at 192.0.2.199", ended.stderr)
        self.assertEqual([row["name"] for row in self.run_json("devices", "192.0.2.40")], ["scale"])
        isc = self.write(
            "dhcpd.conf",
            "subnet 192.0.2.0 netmask 255.255.255.0 { }\nhost glaze {\n  hardware ethernet AC:D3:E5:00:51:41;\n"
            " fixed-address 192.0.2.41;\n}\n",
        )
        self.run_ok("import", isc, "--yes")
        kea = self.write(
            "kea.json",
            json.dumps(
                {
                    "Dhcp4": {
                        "subnet4": [
                            {
                                "reservations": [
                                    {
                                        "hw-address": "ac:d3:e5:00:51:42",
                                        "ip-address": "192.0.2.42",
                                        "hostname": "pump.example",
                                    }
                                ]
                            }
                        ]
                    }
                }
            ),
        )
        self.run_ok("import", kea, "--yes")
        self.assertEqual([row["present"] for row in self.run_json("devices", "glaze")], [False])
        self.assertEqual([row["addresses"] for row in self.run_json("devices", "pump")], [["192.0.2.42"]])

    @unittest.skipUnless(shutil.which("dnsmasq"), "dnsmasq is not installed")
    def test_dnsmasq_takes_our_reservations(self) -> None:
        """The server itself reads what is exported for it (a check of syntax: nothing is started)."""
        self.run_ok("scan", "--method", "listen", "--for", "60s")
        path = self.folder / "hosts.conf"
        self.run_ok("export", str(path), "--as", "dnsmasq-hosts")
        self.assertGreater(path.read_text(encoding="ascii").count("dhcp-host="), 5)
        ended = subprocess.run(["dnsmasq", "--test", "-C", str(path)], capture_output=True, text=True, check=False)
        self.assertIn("syntax check OK", ended.stderr)

    def test_a_whole_site_in_one_file(self) -> None:
        """Everything comes along; nothing is written over, nothing lands outside, no bomb is unpacked."""
        self.run_ok("label", "192.0.2.50", "till")
        archive = self.folder / "site.zip"
        self.run_ok("export", "--site", str(archive))
        self.assertIn("--force", self.refused(1, "export", "--site", str(archive)))
        other = self.folder / "other"
        self.run_ok("--site", str(other), "import", "--site", str(archive))
        self.assertEqual(
            self.run_ok("--site", str(other), "devices", "--format", "json"), self.run_ok("devices", "--format", "json")
        )
        self.assertIn("has a site already", self.refused(1, "--site", str(other), "import", "--site", str(archive)))
        for name, size in (("../evil", 1), ("/etc/evil", 1), ("extra.toml", 1), ("story.json", 10**6)):
            with self.subTest(name=name):
                bad = self.folder / "bad.zip"
                shutil.copy(archive, bad)
                with warnings.catch_warnings(), zipfile.ZipFile(bad, "a", zipfile.ZIP_DEFLATED) as whole:
                    warnings.simplefilter("ignore")  # a name that is there twice is the point
                    whole.writestr(name, b" " * size)
                self.refused(2, "--site", str(self.folder / "none"), "import", "--site", str(bad))
                self.assertFalse((self.folder / "none" / "roster.sqlite").exists())
        damaged = self.write("damaged.zip", archive.read_bytes()[:-200])
        self.refused(2, "--site", str(self.folder / "none"), "import", "--site", damaged)

    def test_changes_since_an_export(self) -> None:
        """Who joined, moved or was renamed since a document was saved, labels included."""
        path = self.folder / "then.json"
        self.run_ok("label", "192.0.2.31", "kiln")
        self.run_ok("export", str(path))
        self.assertEqual(self.run_json("changes", "--since-export", str(path))["differences"], [])
        self.run_ok("label", "kiln", "kiln controller")
        self.run_ok("demo", "--next", str(self.site))
        self.run_ok("scan", "--no-names")
        found = {
            row["kind"]: row["sentence"] for row in self.run_json("changes", "--since-export", str(path))["differences"]
        }
        self.assertEqual(set(found), {"joined", "readdressed", "described"})
        self.assertIn("label 'kiln controller', it was 'kiln'", found["described"])
        self.assertIn("moved from 192.0.2.31 to 192.0.2.20", found["readdressed"])
