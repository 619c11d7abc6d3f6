"""A real browser in a namespace without routes, driven by the DevTools protocol over a pair of pipes."""

from __future__ import annotations

import json
import os
import subprocess
import tempfile
import time
from pathlib import Path
from typing import Any, Self

CHROMIUM = "chromium"
_READY_S = 30.0


class Browser:
    """One page of headless Chromium. What it says in its console, and what it asks the network for, is kept."""

    def __init__(self, namespace: str) -> None:
        self._folder = tempfile.TemporaryDirectory()
        to_browser, self._out = os.pipe()
        self._in, from_browser = os.pipe()
        # The protocol's pipes are descriptors 3 and 4 of the browser.
        start = f"exec 3<&{to_browser} 4>&{from_browser}; exec {CHROMIUM} --headless --no-sandbox --disable-gpu "
        start += f"--remote-debugging-pipe --no-first-run --disable-dev-shm-usage --user-data-dir={self._folder.name}"
        self._process = subprocess.Popen(
            ["ip", "netns", "exec", namespace, "bash", "-c", f"{start} about:blank"],
            pass_fds=(to_browser, from_browser), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            start_new_session=True,
        )  # fmt: skip
        os.close(to_browser)
        os.close(from_browser)
        self._number, self._buffer = 0, b""
        self._session: str | None = None
        self.events: list[dict[str, Any]] = []
        targets = self.ask("Target.getTargets")["targetInfos"]
        page = next(each["targetId"] for each in targets if each["type"] == "page")
        self._session = self.ask("Target.attachToTarget", targetId=page, flatten=True)["sessionId"]
        for domain in ("Page", "Runtime", "Log", "Network"):
            self.ask(f"{domain}.enable")

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        try:
            self._session = None
            self.ask("Browser.close")
        finally:
            try:
                self._process.wait(10)
            except subprocess.TimeoutExpired:
                os.killpg(self._process.pid, 9)  # a session of its own, which we have made
                self._process.wait()
            os.close(self._out)
            os.close(self._in)
            self._folder.cleanup()

    def ask(self, method: str, **parameters: Any) -> dict[str, Any]:
        """Ask for something, and wait for the answer; what comes in between is kept."""
        self._number += 1
        message: dict[str, Any] = {"id": self._number, "method": method, "params": parameters}
        if self._session is not None:
            message["sessionId"] = self._session
        os.write(self._out, json.dumps(message).encode() + b"\0")
        while True:
            told = self._next()
            if told.get("id") == self._number:
                if "error" in told:
                    raise AssertionError(f"{method}: {told['error']}")
                return dict(told["result"])
            self.events.append(told)

    def open(self, page: Path) -> None:
        """Show a file, and wait until it is loaded."""
        self.ask("Page.navigate", url=page.as_uri())
        deadline = time.monotonic() + _READY_S
        while self.value("document.readyState") != "complete" or self.value("location.href") == "about:blank":
            assert time.monotonic() < deadline, "the page did not load"
            time.sleep(0.02)

    def value(self, script: str) -> Any:
        """What an expression gives, as JSON."""
        told = self.ask("Runtime.evaluate", expression=script, returnByValue=True, awaitPromise=True)
        assert "exceptionDetails" not in told, told
        return told["result"].get("value")

    def press(self, key: str, code: int, text: str = "") -> None:
        """Press a key and let it go."""
        common = {"key": key, "code": key, "windowsVirtualKeyCode": code}
        self.ask("Input.dispatchKeyEvent", type="keyDown", text=text, **common)
        self.ask("Input.dispatchKeyEvent", type="keyUp", **common)

    def told(self, method: str) -> list[dict[str, Any]]:
        """The parameters of the messages of one kind."""
        return [each["params"] for each in self.events if each.get("method") == method]

    def _next(self) -> dict[str, Any]:
        while b"\0" not in self._buffer:
            part = os.read(self._in, 1 << 20)
            assert part, "the browser has ended"
            self._buffer += part
        whole, _, self._buffer = self._buffer.partition(b"\0")
        return dict(json.loads(whole))
