"""Lists that a person types into a page, over weeks: the clock changes them, the watch tells the sheets."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

from scopion.alerts.alert_settings import TERMINAL
from scopion.attachment.system_clock import pass_time
from scopion.model.device import EventKind
from scopion.model.mac import MacAddress
from scopion.operations.intake.flood_guard import FloodGuard
from scopion.operations.intake.queue_alerts import channels_of
from scopion.operations.notify.word_alerts import AlertWriter
from scopion.operations.site.open_site import Site
from scopion.operations.wifi.attend_lists import attend, next_moment
from scopion.operations.wifi.edit_entries import Terms, drop_from_lists, put_on_list
from scopion.operations.wifi.load_policy import policy_for
from scopion.operations.wifi.push_lists import push
from scopion.operations.wifi.send_push import PushRequest
from scopion.operations.wifi.set_modes import Lists, set_exclusive, set_mode
from scopion.operations.wifi.type_lists import sheet_again, sheets, typed_in
from scopion.operations.wifi.verify_network import verify
from scopion.roster.outbox import find_alerts
from scopion.roster.read_events import EventFilter, find_events
from scopion.roster.store.stored_values import from_ms, to_ms
from scopion.roster.wifi.lists import ListMode, network
from scopion.roster.wifi.pushes import Push, PushState, pushes
from scopion.watching.keep_lists import opener
from scopion.watching.watch_memory import WatchMemory
from scopion.wireless.list_policy import wanted
from scopion.wireless.router_sheet import Sheet
from tests.support import FolderTest, ProgramTest
from tests.typed_page import TypedPage

STRANGER, DOOR, TILL = "a0:b4:d7:66:19:04", "7c:a4:b1:33:02:61", "54:b1:a3:7c:00:50"


class Fortnight(ProgramTest):
    """Two weeks of a café: the clock changes its list, the watch tells the sheets, and a person types some of them."""

    def setUp(self) -> None:
        super().setUp()
        self.begin()
        self.run_ok("scan")
        with (self.site / "site.toml").open("a", encoding="utf-8") as file:
            file.write('\n[[rule]]\nevents = ["sheet-due"]\n')
        self.at = self.opened()
        self.addCleanup(self.at.close)
        self.page = TypedPage()
        self.last_typed: dict[str, tuple[str, set[MacAddress]]] | None = None

    def until(self, moment: datetime) -> None:
        clock = self.at.attachment.clock
        clock = self.at.attachment.clock
        pass_time(clock, clock.monotonic() + (moment - clock.now()).total_seconds())

    def wanted_now(self) -> tuple[str, set[MacAddress]]:
        roster = self.at.roster
        found = wanted(policy_for(roster, network(roster, "Café")), self.at.clock.now(), self.at.clock.local)
        return str(found.mode), set(found.macs)

    def told(self) -> list[datetime]:
        events = find_events(self.at.roster, EventFilter(kinds=(EventKind.SHEET_DUE,)))
        return sorted(each.at for each in events)

    def waiting(self) -> Push | None:
        found = (each for each in pushes(self.at.roster, "Café") if each.state is PushState.WAITING)
        return next(found, None)

    def message(self) -> str:
        """The text of the latest alert, as it would be sent now."""
        latest = max(find_alerts(self.at.roster), key=lambda each: each.id)
        return AlertWriter(self.at, self.at.roster).message(latest).text

    def type(self, asked: Push, *, say: bool = True) -> None:
        """Type a sheet. Whatever was typed and said before, the page then holds what the sheet was made for."""
        sheet = sheet_again(self.at, asked)
        if self.last_typed is not None and "It is not known" not in sheet.says:
            self.is_the_difference(sheet, asked)
        self.page.type(sheet)
        for radio, told in asked.radios.items():
            mode, target = told["target"]["mode"], told["target"]
            self.assertEqual(
                self.page.holds(radio), (mode, set(map(MacAddress.parse, target["allow"] + target["deny"])))
            )
        if say:
            typed_in(self.at, "Café")
            self.last_typed = {radio: self.page.holds(radio) for radio in asked.radios}

    def is_the_difference(self, sheet: Sheet, asked: Push) -> None:
        """A sheet names what is wanted and not there, and what is there and not wanted; all of it for another mode."""
        assert self.last_typed is not None
        for radio, told in asked.radios.items():
            mode, macs = (
                told["target"]["mode"],
                set(map(MacAddress.parse, told["target"]["allow"] + told["target"]["deny"])),
            )
            was_mode, was = self.last_typed[radio]
            named = {
                MacAddress.parse(line.mac) for step in sheet.steps for line in step.lines if step.says.startswith(radio)
            }
            self.assertEqual(named, macs if mode != was_mode else macs ^ was)

    def publish(self) -> None:
        """Ask for the sheet of now, type it, and say so."""
        sheets(self.at, "Café")
        sheet = self.waiting()
        if sheet is not None:
            self.assertEqual(self.wanted_now()[0], sheet.radios["5"]["target"]["mode"])
            self.type(sheet)

    def live(self, end: datetime, does: Callable[[], str]) -> None:
        """Let time pass as the watch does; told of a sheet, the person types it, or says nothing then, or waits."""
        while (due := next_moment(self.at.roster, self.at)) is not None and due <= end:
            self.until(due)
            attend(self.at, stations=False)
            sheet = self.waiting()
            if sheet is None:
                continue
            deed = does()
            if deed != "waits":
                self.type(sheet, say=deed == "types")
        self.until(end)

    def test_sheets_follow_the_clock(self) -> None:
        """Only for some in mode off, denied for two hours, at hours, a list that time empties: each sheet is right."""
        decide = random.Random(20)
        deeds = ("types", "types", "types", "says nothing", "waits")
        start = self.at.clock.now()
        put_on_list(self.at, ["Café"], ListMode.DENY, [STRANGER], terms=Terms(until=start + timedelta(hours=2)))
        self.publish()
        for day in range(14):
            now = self.at.clock.now()
            if day == 0:
                set_exclusive(self.at, "Café", [DOOR, TILL], timedelta(hours=2), insist=True)
            if day == 1:
                set_mode(self.at, "Café", Lists(mode=ListMode.DENY), None)
                put_on_list(self.at, ["Café"], ListMode.DENY, [STRANGER], terms=Terms(until=now + timedelta(hours=2)))
            if day == 4:
                terms = Terms(hours="mon-fri 14:00-16:00")
                put_on_list(self.at, ["Café"], ListMode.DENY, [DOOR], terms=terms, insist=True)
            if day == 8:
                drop_from_lists(self.at, "Café", [DOOR, STRANGER])
                terms = Terms(until=now + timedelta(days=1))
                put_on_list(self.at, ["Café"], ListMode.ALLOW, [DOOR], terms=terms, insist=True)
                set_mode(self.at, "Café", Lists(mode=ListMode.ALLOW), None, insist=True)
            if day in (0, 1, 4, 8):
                self.publish()
                self.assertEqual({self.page.holds(radio)[0] for radio in ("2.4", "5")}, {self.wanted_now()[0]})
            self.live(start + timedelta(days=day + 1), lambda: decide.choice(deeds))
        due = self.waiting()
        if due is not None:
            self.type(due)
        self.assertEqual(self.page.holds("5"), self.wanted_now())
        edges = {datetime(2026, 9, day, hour, tzinfo=UTC) for day in (18, 21) for hour in (14, 16)}
        self.assertLessEqual(edges, set(self.told()))

    def test_a_sheet_is_told_each_day_until_done(self) -> None:
        """With its steps in the message; then no more. Verifying says the same."""
        start = self.at.clock.now()
        ends = from_ms(to_ms(start + timedelta(hours=2)))
        put_on_list(self.at, ["Café"], ListMode.DENY, [STRANGER], terms=Terms(until=ends))
        set_mode(self.at, "Café", Lists(mode=ListMode.DENY), None)
        self.publish()
        self.live(start + timedelta(days=1, hours=12), lambda: "waits")
        self.assertIn(f"remove from its deny list, and save: {STRANGER}", self.message())
        put_on_list(self.at, ["Café"], ListMode.DENY, [DOOR])
        sheets(self.at, "Café")  # a newer one, of which one radio is typed in, waits as the first one did
        typed_in(self.at, "Café", ("5",))
        self.live(start + timedelta(days=3, hours=1), lambda: "waits")
        self.assertEqual(self.told(), [ends + timedelta(days=day) for day in range(3)])
        said = [check.says for check in verify(self.at, "Café", scan=False).checks]
        self.assertIn("a change has been due since Monday 2026-09-14, 10:1", said[0])
        typed_in(self.at, "Café")
        self.live(start + timedelta(days=9), lambda: "waits")
        self.assertEqual(len(self.told()), 3)
        self.assertIn("there is nothing to do", self.message())

    def test_an_entry_that_was_dropped_early_still_leaves_the_page(self) -> None:
        """What was published ends, though people have changed the list meanwhile: the sheet has all that is wanted."""
        ends = from_ms(to_ms(self.at.clock.now() + timedelta(hours=2)))
        put_on_list(self.at, ["Café"], ListMode.DENY, [STRANGER], terms=Terms(until=ends))
        set_mode(self.at, "Café", Lists(mode=ListMode.DENY), None)
        self.publish()
        drop_from_lists(self.at, "Café", [STRANGER])
        put_on_list(self.at, ["Café"], ListMode.DENY, [DOOR])
        self.live(ends + timedelta(hours=1), lambda: "types")
        self.assertEqual((self.told(), self.page.holds("5")), ([ends], ("deny", {MacAddress.parse(DOOR)})))

    def test_what_is_not_kept_goes_back_by_a_sheet(self) -> None:
        """At its deadline the sheet that goes back is told; keep ends that."""
        put_on_list(self.at, ["Café"], ListMode.DENY, [STRANGER])
        set_mode(self.at, "Café", Lists(mode=ListMode.DENY), None)
        self.publish()
        put_on_list(self.at, ["Café"], ListMode.DENY, [DOOR])
        deadline = from_ms(to_ms(self.at.clock.now() + timedelta(minutes=30)))
        (sent,) = push(self.at, "Café", PushRequest(revert_at=deadline))
        self.type(sent.push)
        self.live(deadline + timedelta(minutes=1), lambda: "waits")
        ((_, back),) = sheets(self.at, "Café")  # it stays, for the lists were not changed
        self.assertEqual({line.mac for step in back.steps for line in step.lines}, {DOOR})
        self.live(deadline + timedelta(days=1), lambda: "types")
        self.assertEqual(self.told(), [deadline, deadline + timedelta(days=1)])
        self.assertEqual(self.page.holds("5"), ("deny", {MacAddress.parse(STRANGER)}))


class Threads(FolderTest):
    def test_the_thread_of_the_lists_tells_the_same_channels(self) -> None:
        """Without channels a watch in a terminal rings its bell, also for a sheet, which another thread tells."""
        site = Site(self.folder)
        self.addCleanup(site.close)
        site.watch_state = WatchMemory(FloodGuard(), terminal=True)
        own = opener(site)()
        self.addCleanup(own.close)
        self.assertEqual((channels_of(own), own is site), ((TERMINAL,), False))
