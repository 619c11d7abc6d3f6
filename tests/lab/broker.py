"""A real mosquitto in a namespace of the lab: TLS with an authority of its own, passwords, access control, a memory."""

from __future__ import annotations

import signal
import subprocess
import time
import unittest
from collections.abc import Mapping
from pathlib import Path

import trustme

from scopion.attachment.ports import BrokerAccess
from tests.lab.lab import Lab, require_tools
from tests.lab.services import Services, wait_for

PORT = 8883
CERTIFIED = PORT + 1  # where a client certificate is the account


class Broker:
    """A broker at a host of the lab, and its files; it is ended with the test."""

    def __init__(
        self,
        lab: Lab,
        host: str,
        address: str,
        folder: Path,
        test: unittest.TestCase | type[unittest.TestCase],
        more: str = "",
    ) -> None:
        require_tools("mosquitto", "mosquitto_passwd")
        self._lab, self._host, self.address, self.folder = lab, host, address, folder
        self._services = Services(lab, folder, test)
        folder.mkdir(exist_ok=True)
        self._authority = authority = trustme.CA()
        self.trust = folder / "ca.pem"
        authority.cert_pem.write_to_path(self.trust)
        certificate = authority.issue_cert(address)
        certificate.private_key_pem.write_to_path(folder / "key.pem")
        for part in certificate.cert_chain_pems:
            part.write_to_path(folder / "certificate.pem", append=True)
        (folder / "acl").write_text("", encoding="ascii")
        (folder / "passwords").write_text("", encoding="ascii")
        (folder / "data").mkdir()
        (folder / "config").write_text(
            f"listener {PORT} {address}\ncafile {self.trust}\ncertfile {folder}/certificate.pem\n"
            f"keyfile {folder}/key.pem\nallow_anonymous false\npassword_file {folder}/passwords\n"
            f"acl_file {folder}/acl\npersistence true\npersistence_location {folder}/data/\n"
            f"autosave_interval 1\nautosave_on_changes true\nuser root\nlog_type all\n{more}"
            f"listener {CERTIFIED} {address}\ncafile {self.trust}\ncertfile {folder}/certificate.pem\n"
            f"keyfile {folder}/key.pem\nrequire_certificate true\nuse_identity_as_username true\n",
            encoding="ascii",
        )
        self._running: subprocess.Popen[bytes] | None = None

    def let_in(self, accounts: Mapping[str, str], access: str) -> None:
        """Set the accounts with their passwords, and what each may read and write."""
        for name, password in accounts.items():
            command = ["mosquitto_passwd", "-b", str(self.folder / "passwords"), name, password]
            subprocess.run(command, check=True, capture_output=True)
        (self.folder / "acl").write_text(access, encoding="utf-8")

    def take(self, files: Path) -> None:
        """Take over what ``sensor enrol`` made for a broker, but for where it listens, and its certificate."""
        (self.folder / "passwords").write_bytes((files / "passwords").read_bytes())
        (self.folder / "acl").write_bytes((files / "access").read_bytes())

    def start(self) -> None:
        """Start it, with what it remembers."""
        self._running = self._services.start(self._host, ["mosquitto", "-c", str(self.folder / "config")])
        wait_for("the broker", lambda: f":{PORT} " in self._lab.run(self._host, ["ss", "-Hlnt"]))

    def stop(self, *, kill: bool = False) -> None:
        """End it, or kill it."""
        assert self._running is not None
        if kill:
            self._running.kill()
        else:
            self._running.terminate()
        self._running.wait(10)

    def stall(self, for_s: float) -> None:
        """Let it do nothing for a while, as where a line is slow."""
        assert self._running is not None
        self._running.send_signal(signal.SIGSTOP)
        time.sleep(for_s)
        self._running.send_signal(signal.SIGCONT)

    def certified(self, user: str) -> BrokerAccess:
        """How an account reaches it by a client certificate."""
        made = self._authority.issue_cert(f"{user}@kilnhaven.example", common_name=user)
        key, certificate = self.folder / f"{user}.key", self.folder / f"{user}.pem"
        made.private_key_pem.write_to_path(key)
        made.cert_chain_pems[0].write_to_path(certificate)
        return BrokerAccess(self.address, CERTIFIED, trust=str(self.trust), certificate=str(certificate), key=str(key))

    def access(self, user: str, password: str) -> BrokerAccess:
        """How an account reaches it."""
        return BrokerAccess(self.address, PORT, trust=str(self.trust), user=user, password=password)
