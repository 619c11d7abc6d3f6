"""A site for scripts: the same operations as the commands, as methods that take and return plain values."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import date, datetime
from os import PathLike, fspath
from pathlib import Path

from scopion.api import convert, values
from scopion.model.device import EventKind, Standing
from scopion.model.mac import MacAddress
from scopion.operations.devices.find_devices import DeviceFilter, find
from scopion.operations.devices.identify_device import described
from scopion.operations.devices.list_devices import described_devices, find_device
from scopion.operations.devices.list_events import event_log, logged
from scopion.operations.devices.map_addresses import address_maps
from scopion.operations.edit.edit_devices import Mark, forget_devices, label_device, mark_devices
from scopion.operations.edit.undo_change import undo
from scopion.operations.exchange import exchange_devices as exchange
from scopion.operations.exchange import import_records as records
from scopion.operations.exchange.read_input import read_input
from scopion.operations.folder.find_folder import site_folder
from scopion.operations.intake.take_in import take_in
from scopion.operations.report.make_report import ReportRequest, report
from scopion.operations.scan.prepare_scan import ScanRequest, prepare_scan
from scopion.operations.scan.run_scan import run_prepared
from scopion.operations.site.open_site import Site as OpenSite
from scopion.operations.site.upkeep import daily
from scopion.operations.wifi.edit_entries import Terms, drop_from_lists, entries, put_on_list
from scopion.operations.wifi.push_lists import push
from scopion.operations.wifi.read_radios import RadioChoice
from scopion.operations.wifi.send_push import Pushed, PushRequest
from scopion.operations.wifi.set_modes import Lists, set_mode
from scopion.operations.wifi.type_lists import sheet_again, typed_in
from scopion.operations.wifi.verify_network import verify
from scopion.roster.wifi.lists import ListMode
from scopion.roster.wifi.pushes import PushState
from scopion.wireless.write_sheet import text

# A name, an address, a MAC address, or several of them.
Which = str | Iterable[str]


@contextmanager
def open_site(folder: str | PathLike[str] | None = None) -> Iterator[Site]:
    """Open a site's folder; without one, that which the commands would take. It is closed at the end of the block."""
    opened = OpenSite(site_folder(fspath(folder) if folder is not None else None), daily)
    try:
        yield Site(opened)
    finally:
        opened.close()


class Site:
    """An open site. It is used by the thread that has opened it.

    A DEVICE is what it is for the commands: a MAC address in any notation, an address, a label, a name, or the
    beginning of one. Each change is made whole or not at all, and ``undo`` takes it back. All methods raise
    StorageFailed or DamagedRoster if the roster cannot be used, InvalidSettings for a wrong site.toml, and UsageError
    for a moment without a time zone.
    """

    def __init__(self, site: OpenSite) -> None:
        """Take an open site; scripts call ``open_site``."""
        self._site = site

    @property
    def folder(self) -> Path:
        """Return the site's folder."""
        return self._site.folder

    @property
    def now(self) -> datetime:
        """Return the time at the site; on a made-up site that of its story."""
        return self._site.clock.now()

    # -- Devices and events --

    def devices(
        self, *words: str, present: bool | None = None, standing: Standing | None = None
    ) -> list[values.Device]:
        """Return all devices, or those that fit all words, as ``scopion devices`` finds them."""
        wanted = DeviceFilter(words, standings=(standing,) if standing else (), present=present)
        return [convert.device(each) for each in find(described_devices(self._site), wanted)]

    def device(self, which: str) -> values.Device:
        """Return the one device that is meant. Raises NotFound, AmbiguousDevice."""
        return convert.device(described(find_device(self._site, which), self._site.vendors, self._site.kinds))

    def events(
        self, since: datetime | None = None, until: datetime | None = None, kinds: Iterable[EventKind] = ()
    ) -> list[values.Event]:
        """Return what happened, in the order of time."""
        log = event_log(self._site, since=convert.moment(since), until=convert.moment(until), kinds=tuple(kinds))
        return [convert.event(each) for each in log.told]

    def vendor(self, mac: MacAddress | str) -> values.Vendor:
        """Return the vendor of a MAC address. Raises InvalidMacAddress."""
        return convert.vendor(self._site.vendors.of(mac if isinstance(mac, MacAddress) else MacAddress.parse(mac)))

    def subnet_use(self, subnet: str | None = None) -> list[values.SubnetUse]:
        """Return the use of one subnet, by its range or name, or of all. Raises NotFound, UsageError."""
        return [convert.subnet_use(each) for each in address_maps(self._site, subnet)]

    def report(self, since: datetime | None = None, until: datetime | None = None) -> values.Report:
        """Look back on a period, by default four weeks. Raises NotFound, UsageError."""
        return convert.report(report(self._site, ReportRequest(convert.moment(since), convert.moment(until))))

    # -- Scans and sightings --

    def scan(self, *targets: str, names: bool = True, method: str = "auto") -> values.Scan:
        """Scan as ``scopion scan`` does, and remember the result.

        Targets are written as for the command; without any, the attached subnet is scanned. Raises InvalidTarget,
        NoInterface, NotPermitted.
        """
        result = run_prepared(
            self._site, prepare_scan(self._site, ScanRequest(targets, method=method, no_names=not names))
        )
        return convert.scan(result, logged(self._site, result.events, list(result.devices.values())))

    def observe(self, *seen: values.Sighting) -> list[values.Event]:
        """Take in what a script saw, as a scan's observations are, and queue alerts. Returns the events.

        Raises InvalidMacAddress, UsageError for what is not an address.
        """
        now = self.now
        taken = take_in(self._site, [convert.observation(each, now) for each in seen])
        return [convert.event(each) for each in logged(self._site, taken.events, list(taken.devices.values()))]

    # -- What people say of devices --

    def label(
        self,
        which: str,
        label: str | None = None,
        *,
        owner: str | None = None,
        place: str | None = None,
        note: str | None = None,
        essential: bool | None = None,
    ) -> values.Device:
        """Describe a device; None leaves a text as it is, an empty text removes it. Returns the device as it is now.

        Raises NotFound, AmbiguousDevice, and UsageError for a label that is too long or that another device has.
        """
        _, after = label_device(self._site, which, label, owner=owner, place=place, note=note, essential=essential)
        return convert.device(described(after, self._site.vendors, self._site.kinds))

    def mark(
        self, which: Which, standing: Standing, *, until: date | None = None, because: str = ""
    ) -> list[values.Device]:
        """Change the standing of devices; ``until`` is a guest's last day. Returns them as they are now."""
        marked = mark_devices(self._site, _several(which), Mark(standing, until, because))
        return [convert.device(described(after, self._site.vendors, self._site.kinds)) for _, after in marked]

    def forget(self, which: Which) -> list[str]:
        """Remove devices with everything that is known of them. Returns what they were called."""
        return [each.called for each in forget_devices(self._site, _several(which))]

    def undo(self, number: int | None = None) -> str:
        """Take back the latest change, or one by its number. Returns what it was, in words.

        Raises NotFound, and Refused for what was changed again since.
        """
        return undo(self._site, number).says

    def import_file(
        self, path: str | PathLike[str], kind: str | None = None, *, preview: bool = False, insist: bool = False
    ) -> values.Import:
        """Take in a file as ``scopion import`` does: a record (leases, client list, capture), or a list of devices.

        Without ``kind`` the content decides; with ``preview`` nothing is changed. Raises UsageError or NotFound for a
        file that is not understood, and Refused for a list with a line that cannot be taken over.
        """
        name = fspath(path)
        given = read_input(name)
        which = exchange.list_kind(self._site, given, kind)
        if which is None:
            read = records.read_given(self._site, given, kind)
            return convert.recorded(read if preview else records.fold_records(self._site, read, insist=insist))
        work = exchange.plan_import if preview else exchange.take_over
        return convert.planned(which, work(self._site, given, exchange.TakeOverRequest(which, insist)))

    # -- Wireless networks --

    def entries(self, ssid: str) -> list[values.Entry]:
        """Return the entries of a network's lists. Raises NotFound."""
        return [convert.entry(each) for each in entries(self._site, ssid)]

    def allow(
        self,
        which: Which,
        ssid: str,
        *,
        description: str = "",
        hours: str | None = None,
        until: datetime | None = None,
        insist: bool = False,
    ) -> values.Listed:
        """Put devices, or MAC addresses that no device has, on a network's allow list; ``push`` puts it in force.

        ``hours`` are written as for the command, ``until`` ends the entries. Raises NotFound for an unknown device,
        UsageError, and Refused for what would lock this machine or an essential device out, unless ``insist``.
        """
        return self._list(ListMode.ALLOW, which, ssid, Terms(description, hours, convert.moment(until)), insist)

    def deny(
        self,
        which: Which,
        ssid: str,
        *,
        description: str = "",
        hours: str | None = None,
        until: datetime | None = None,
        insist: bool = False,
    ) -> values.Listed:
        """Put devices on a network's deny list; the rest is as for ``allow``."""
        return self._list(ListMode.DENY, which, ssid, Terms(description, hours, convert.moment(until)), insist)

    def drop(self, which: Which, ssid: str, *, insist: bool = False) -> values.Listed:
        """Take devices off a network's lists. Raises NotFound for one that is on none, and Refused as ``allow``."""
        names, told = drop_from_lists(self._site, ssid, _several(which), insist=insist)
        return convert.dropped(ssid, names, told)

    def mode(self, ssid: str, mode: ListMode, *, insist: bool = False) -> str:
        """Change what a network's lists do: off, allow or deny. Returns what that means, in a sentence or two."""
        _, sentence = set_mode(self._site, ssid, Lists(mode), None, insist=insist)
        return sentence

    def push(
        self, ssid: str, *, enforcer: str | None = None, radios: Iterable[str] = (), insist: bool = False
    ) -> list[values.Push]:
        """Put a network's list in force on its enforcers, or on one of them; each is written and read back.

        For a router that has only a web page the result has the sheet to type in; ``done`` says that it was. Raises
        Refused for what would lock this machine or an essential device out; EnforcerUnreachable if it failed and
        everything is as before, Divided if it failed and something is not.
        """
        request = PushRequest(RadioChoice(enforcer, tuple(radios)), insist=insist)
        return [convert.push(each, self._sheet(each)) for each in push(self._site, ssid, request)]

    def done(self, ssid: str, *, enforcer: str | None = None, radios: Iterable[str] = ()) -> None:
        """Record that the sheets of a network's pages were typed in. Raises NotFound if no list of it is typed."""
        typed_in(self._site, ssid, tuple(radios), enforcer)

    def verify(self, ssid: str, *, scan: bool = True) -> values.Verification:
        """Check whether a network's list is in force and works; with ``scan`` the subnet is scanned, too."""
        return convert.verification(verify(self._site, ssid, scan=scan))

    def _sheet(self, pushed: Pushed) -> str:
        return text(sheet_again(self._site, pushed.push)) if pushed.push.state is PushState.WAITING else ""

    def _list(self, which: ListMode, subjects: Which, ssid: str, terms: Terms, insist: bool) -> values.Listed:
        (change,) = put_on_list(self._site, [ssid], which, _several(subjects), terms=terms, insist=insist)
        return convert.listed(change)


def _several(which: Which) -> list[str]:
    return [which] if isinstance(which, str) else list(which)
