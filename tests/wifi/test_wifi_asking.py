"""Lists by RADIUS on a made-up site: its access points ask as real ones do, and the commands work on them."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any
from unittest.mock import patch

from scopion.model.device import EventKind
from scopion.model.errors import StorageFailed
from scopion.model.mac import MacAddress
from scopion.operations.answers.made_up_server import MadeUpServer
from scopion.operations.answers.radius_files import RadiusFiles
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.site.load_settings import load_settings
from scopion.operations.site.open_site import Site, prepare_folder
from scopion.roster.wifi.lists import ListMode
from scopion.scenes.attachment import SceneAttachment
from scopion.scenes.scene import load_scene
from scopion.scenes.story import Story
from scopion.watching.executors import ThreadExecutor
from scopion.watching.sources.take_in_air import TakingInAir
from scopion.watching.watch_context import WatchContext
from scopion.watching.watch_memory import WatchMemory
from scopion.wireless.coverage import Line
from scopion.wireless.list_policy import ListPolicy, ListRule
from scopion.wireless.radius.published import PublishedList, published_text
from scopion.wireless.radius.radius_settings import radius_lists
from tests.asking_dialect import Said, check_conversation
from tests.support import ProgramTest

MONDAY = datetime(2026, 9, 14, 12, tzinfo=UTC)
READER, STRANGER = "54:b1:a3:7c:00:88", "a0:b4:d7:66:19:04"
SSID, SECRET = "Terrace", "made-up secret of the terrace"
POINTS = {"terrace": "192.0.2.4", "garden": "192.0.2.6"}
SETTINGS = f'[[enforcer]]\nname = "terrace Wi-Fi"\ntype = "radius"\nnetwork = "{SSID}"\n' + "".join(
    f'[[enforcer.access_point]]\nname = "{name}"\naddress = "{address}"\nsecret = "file:{name}.secret"\n'
    for name, address in POINTS.items()
)
SCENE = (
    '[[interface]]\nname = "enp3s0"\nindex = 2\nmac = "60:f2:a7:10:00:0a"\naddresses = ["192.0.2.10/24"]\n'
    'gateway = "192.0.2.1"\nmedium = "cable"\n'
    '[[host]]\nname = "gateway"\nmac = "0c:be:11:00:00:01"\nat = ["192.0.2.1"]\n'
    f'[[host]]\nname = "reader"\nmac = "{READER}"\nat = ["192.0.2.50"]\nasks = ["terrace", "garden"]\n'
    f'[[host]]\nname = "stranger"\nmac = "{STRANGER}"\nat = ["192.0.2.90"]\nasks = ["terrace"]\n'
    + "".join(
        f'[[asking_point]]\nname = "{name}"\nssid = "{SSID}"\naddress = "{address}"\n'
        f'bssid = "0c:be:11:00:00:0{address[-1]}"\n'
        for name, address in POINTS.items()
    )
    + '[[moment]]\nat = 2026-09-14T12:00:00Z\ntells = "Noon."\n'
)


class Asked(ProgramTest):
    def setUp(self) -> None:
        super().setUp()
        (self.folder / "scene.toml").write_text(SCENE)
        self.site.mkdir()
        Story.begin(self.site, str(self.folder / "scene.toml"))
        prepare_folder(self.site)
        (self.site / "site.toml").write_text(SETTINGS)

    def pass_by(self, **span: float) -> None:
        """Let time pass, with no command in it."""
        story = Story.of(self.site)
        assert story is not None
        story.passed(story.at + timedelta(**span))

    def on_the_air(self) -> dict[str, str]:
        """Who is associated, and where."""
        return {each["mac"]: each["access_point"] for each in self.run_json("wifi", "stations", SSID)}

    def refused_ones(self) -> dict[str, Any]:
        return {each["mac"]: each for each in self.run_json("wifi", "stations", "--refused")}

    def push(self, *more: str) -> str:
        return self.run_ok("wifi", "push", SSID, "--yes", "--insist", "--no-verify", *more)

    def admit_the_reader(self) -> None:
        """Make the secrets, and push an allow list with one entry."""
        self.run_ok("wifi", "radius", SSID, "--make-secrets")
        self.assertEqual(self.on_the_air(), {READER: "terrace", STRANGER: "terrace"})  # before the first push
        self.run_ok("wifi", "allow", SSID, READER, "--description", "card reader")
        self.run_ok("wifi", "mode", SSID, "allow", "--insist")
        self.push()

    def test_made_up_access_points_ask_as_hostapd_does(self) -> None:
        """The conversation passes the check that hostapd's on real radios passes, too."""
        for name in POINTS:
            (self.site / f"{name}.secret").write_text(SECRET)
            (self.site / f"{name}.secret").chmod(0o600)
        files = RadiusFiles(self.site)
        said: list[Said] = []
        scene = load_scene(str(self.folder / "scene.toml"))
        attachment = SceneAttachment(scene, MONDAY, self.site, lambda: Recorded(server, attachment, said))
        server: MadeUpServer = MadeUpServer(files, radius_lists(load_settings(self.site).enforcer), attachment.clock)
        entry = ListRule(ListMode.ALLOW, Line(MacAddress.parse(READER), "", own=False), None)
        for rules, waits in (((entry,), (0, 10, 25)), ((), (0, 1))):
            policy = ListPolicy(SSID, ListMode.ALLOW, rules)
            files.write(files.list_of(SSID), published_text(PublishedList(policy, MONDAY)))
            server.look()
            for seconds in waits:
                attachment.clock.wait_until(attachment.clock.monotonic() + seconds)
                attachment.asking_points.look()
        check_conversation(self, said, SSID, SECRET.encode())
        self.assertEqual(len(server.state().sessions), 1)

    def test_the_life_of_a_list(self) -> None:
        """Who is refused from now on is disconnected; a list is taken back by itself, kept, undone; it is verified."""
        self.admit_the_reader()
        self.pass_by(minutes=1)
        self.assertEqual(self.on_the_air(), {READER: "terrace"})
        (refused,) = self.refused_ones().values()
        self.assertEqual((refused["mac"], refused["access_point"], refused["ssid"]), (STRANGER, "terrace", SSID))
        self.assertTrue(self.run_json("wifi", "verify", SSID, "--no-scan")["met"])
        self.run_ok("wifi", "drop", SSID, READER, "--insist")
        for kept in (False, True):
            with self.subTest(kept=kept):
                self.push("--revert-after", "10m")
                self.pass_by(minutes=1)
                self.assertEqual(self.on_the_air(), {})
                if kept:
                    self.run_ok("wifi", "keep", SSID)
                self.run_ok("watch", "--for", "12m")
                self.assertEqual(set(self.on_the_air()), set() if kept else {READER})
        self.run_ok("undo", "--yes")
        self.push()
        self.pass_by(minutes=1)
        self.assertEqual(self.on_the_air(), {READER: "terrace"})

    def test_hours_begin_at_the_next_attempt_and_end_the_session(self) -> None:
        """Before them it is refused, and not called a stranger; in them it is in, until their last second."""
        self.admit_the_reader()
        self.run_ok("wifi", "allow", SSID, READER, "--hours", "mon 13:00-14:00")
        self.push()
        self.pass_by(minutes=5)
        self.assertEqual(self.on_the_air(), {})
        self.assertEqual(self.refused_ones()[READER]["expected"], True)
        self.pass_by(minutes=56)
        self.assertEqual(self.on_the_air(), {READER: "terrace"})
        last = self.run_json("wifi", "radius", "log", SSID, READER)[-1]
        self.assertEqual(
            (last["name"], last["outcome"], last["until"]), ("card reader", "accepted", "2026-09-14T14:00:00Z")
        )
        self.pass_by(hours=1)
        self.assertEqual(self.on_the_air(), {})

    def test_attempts_are_news(self) -> None:
        """The watch tells that a device knocked, once, before it was ever on the network."""
        self.admit_the_reader()
        self.run_ok("watch", "--for", "30m")
        events = self.run_json("events", "--kind", "refused-attempt")
        self.assertEqual([(each["mac"], each["name"]) for each in events], [(STRANGER, SSID)])
        self.assertRegex(self.run_ok("show", STRANGER), rf"refused     {SSID}: \d+ times, last by terrace")

    def test_what_could_not_be_taken_in_is_tried_again(self) -> None:
        """A roster that is busy just then loses no attempt, and need not wait for the next one."""
        self.admit_the_reader()
        self.pass_by(minutes=1)
        self.assertIn(STRANGER, self.refused_ones())
        site = Site(self.site)
        self.addCleanup(site.close)
        context = WatchContext(site, ThreadExecutor(site.attachment), WatchMemory(FloodGuard()))
        part = TakingInAir(context)
        with patch(
            "scopion.watching.sources.take_in_air.take_attempts", side_effect=StorageFailed("the roster is busy")
        ):
            part.turn(0.0)
        self.assertEqual(context.counts.events.total(), 0)
        self.assertIn("the roster is busy", context.troubles.values())
        self.assertLess(part.wake_at(), 60)
        part.turn(part.wake_at())
        self.assertEqual(context.counts.events, {EventKind.REFUSED_ATTEMPT: 1})
        self.assertEqual(context.troubles, {})

    def test_rescue_where_another_access_point_holds_the_list_too(self) -> None:
        """Both ways back are there; what only one of them holds is not said of the other."""
        self.admit_the_reader()
        alone = " ".join(self.run_ok("rescue", SSID).split())
        self.assertIn("Switch MAC authentication off", alone)
        self.assertNotIn("list of wireless clients", alone)
        with (self.site / "site.toml").open("a") as settings:
            settings.write(f'[[enforcer]]\nname = "shed"\ntype = "hostapd"\nnetwork = "{SSID}"\n')
            settings.write('radio."2.4".socket = "/run/hostapd/wlan0"\n')
        mixed = " ".join(self.run_ok("rescue", SSID).split())
        self.assertIn("Switch MAC authentication off", mixed)
        self.assertIn("Find the list of wireless clients", mixed)
        self.assertIn("Or switch shed off and on again: its lists are gone", mixed)

    def test_with_a_second_server_silence_is_that_of_both(self) -> None:
        """Sheet and audit say so on either machine; none of them says that there is no second server."""
        network = f'network = "{SSID}"\n'
        for of_it, both in (
            ('standby = { address = "192.0.2.20", key = "file:key" }\n', "neither this machine nor the second server"),
            ('stands_in = { key = "file:key" }\n', "neither the first server nor this machine"),
            ("", "this machine does not answer"),
        ):
            with self.subTest(of_it):
                (self.site / "site.toml").write_text(SETTINGS.replace(network, network + of_it))
                sheet = " ".join(self.run_ok("wifi", "radius", SSID, "--make-secrets").split())
                self.assertIn(f"While {both}", sheet)
                self.assertIs("There is no second server" in sheet, not of_it)
                says = {each["about"]: each["says"] for each in self.run_json("wifi", "audit", SSID)}
                self.assertIn(f"while {both}", says["without an answer"])


class Recorded:
    """A server, and all that is said to it and by it."""

    def __init__(self, server: MadeUpServer, attachment: SceneAttachment, said: list[Said]) -> None:
        self._server, self._attachment, self._said = server, attachment, said

    def _note(self, point: str, octets: bytes) -> None:
        self._said.append(Said(self._attachment.clock.now().timestamp(), point, octets))

    def answer(self, data: bytes, source: str, port: int) -> bytes | None:
        self._note(source, data)
        return self._server.answer(data, source, port)

    def orders(self) -> list[tuple[str, bytes]]:
        orders = self._server.orders()
        for address, order in orders:
            self._note(address, order)
        return orders

    def hear(self, data: bytes, source: str) -> None:
        self._note(source, data)
        self._server.hear(data, source)
