"""A lab with switches that can be read: bridges of the kernel, each with an SNMP agent and an LLDP daemon in it."""

from __future__ import annotations

import sys
import unittest
from pathlib import Path

from tests.lab.lab import NO_IPV6, Lab, LabHost, require_tools
from tests.lab.services import Services, wait_for
from tests.support import ROOT

COMMUNITY, USER, KEY, PRIVACY = "workshop", "scopion", "a long secret of the lab", "another secret of the lab"
MAIN, UPSTAIRS = "192.0.2.3", "192.0.2.4"


class WiredLab:
    """Two switches that are joined by a cable, and on the second one an unmanaged one.

    The main switch tells VLANs, the one upstairs does not; each has the tables of its make.
    """

    def __init__(self, folder: Path, test: unittest.TestCase | type[unittest.TestCase], hosts: list[LabHost]) -> None:
        require_tools("snmpd", "lldpd", "lldpcli", "bridge")
        self.folder = folder
        self.lab = lab = Lab([], gateway=None)
        clean_up = test.addClassCleanup if isinstance(test, type) else test.addCleanup
        clean_up(lab.close)
        self.services = Services(lab, folder, test)
        lab.run("switch", ["ip", "addr", "add", f"{MAIN}/24", "dev", "bridge"])
        lab.second_switch("upstairs")
        lab.run("upstairs", ["ip", "addr", "add", f"{UPSTAIRS}/24", "dev", "bridge"])
        self.cable("switch", "uplink", "upstairs", "downlink")
        lab.second_switch("little")
        self.cable("upstairs", "port7", "little", "port1")
        for host in hosts:
            lab.join(host)
        self._agent("switch", "vlans", f"rocommunity {COMMUNITY}")
        self._agent("upstairs", "bridge", f'createUser {USER} SHA-256 "{KEY}" AES "{PRIVACY}"\nrouser {USER} priv')
        for switch, cable in (("switch", "uplink"), ("upstairs", "downlink")):
            wait_for(f"the agent of {switch}", lambda switch=switch: ":161 " in lab.run(switch, ["ss", "-Hlnu"]))  # type: ignore[misc]
            self._lldp(switch, cable)

    def cable(self, one: str, its_end: str, other: str, other_end: str) -> None:
        """Join two switches."""
        space = self.lab.namespace
        make = f"ip link add {its_end} netns {space(one)} type veth peer name {other_end} netns {space(other)}"
        self.lab.run(one, make.split())
        for name, end in ((one, its_end), (other, other_end)):
            self.lab.run(name, ["ip", "link", "set", end, "master", "bridge"])
            self.lab.run(name, ["ip", "link", "set", end, "up"])

    def plug(self, host: LabHost, switch: str, port: str) -> None:
        """Plug a new host into a switch."""
        self.lab.add_namespace(host.name)
        self.lab.run(host.name, ["sysctl", "-qw", *NO_IPV6])
        self.lab.run(host.name, ["ip", "link", "set", "lo", "up"])
        self._join(host, switch, port)

    def replug(self, host: LabHost, switch: str, port: str) -> None:
        """Pull a host's plug, and put it into another port."""
        self.lab.run(host.name, ["ip", "link", "del", "eth0"])
        self._join(host, switch, port)

    def _join(self, host: LabHost, switch: str, port: str) -> None:
        space = self.lab.namespace
        make = f"ip link add {port} netns {space(switch)} type veth peer name eth0 address {host.mac}"
        self.lab.run(switch, [*make.split(), "netns", space(host.name)])
        self.lab.run(switch, ["ip", "link", "set", port, "master", "bridge"])
        self.lab.run(switch, ["ip", "link", "set", port, "up"])
        self.lab.run(host.name, ["ip", "addr", "add", f"{host.addresses[0]}/24", "dev", "eth0"])
        self.lab.run(host.name, ["ip", "link", "set", "eth0", "up"])

    def _agent(self, switch: str, kind: str, access: str) -> None:
        home = self.folder / f"agent-{switch}"
        home.mkdir()
        program = f"{sys.executable} {ROOT / 'tests/wires/agent.py'} {kind}"
        (home / "agent.conf").write_text(
            f"{access}\nsysName {switch}\nmaxGetbulkRepeats 1000\nmaxGetbulkResponses 1000\n"
            f"master agentx\nagentXSocket {home}/agentx\npass_persist .1.3.6.1.2.1.17 {program}\n",
            encoding="ascii",
        )
        self.services.start(
            switch,
            ["snmpd", "-f", "-C", "-c", f"{home}/agent.conf", "-Lo", "-p", f"{home}/pid", "udp:161"],
            SNMP_PERSISTENT_DIR=str(home / "kept"), MIBS="",
        )  # fmt: skip

    def _lldp(self, switch: str, ports: str) -> None:
        home = self.folder / f"agent-{switch}"
        command = (
            f"hostname {switch} && mount -t tmpfs none /run && mkdir -p /run/lldpd && "
            f"exec lldpd -d -I {ports} -x -X {home}/agentx -u /run/lldpd.socket"
        )
        self.services.start(switch, ["unshare", "--uts", "sh", "-c", command])

    def settings(self) -> str:
        """What stands in site.toml about the switches."""
        return (
            f'[[switch]]\nname = "main switch"\naddress = "{MAIN}"\ncommunity = "env:COMMUNITY"\n'
            f'[[switch]]\nname = "upstairs"\naddress = "{UPSTAIRS}"\nversion = "3"\nuser = "{USER}"\n'
            'authentication_key = "env:KEY"\nprivacy_key = "env:PRIVACY"\n'
        )

    @property
    def secrets(self) -> dict[str, str]:
        """The environment that has the secrets."""
        return {"COMMUNITY": COMMUNITY, "KEY": KEY, "PRIVACY": PRIVACY}
