"""Runs within the emulated machine, and does there what the tests ask: programs in namespaces, files, and their output.

One JSON document a line in each direction, over a serial port. It knows nothing of radios.
"""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import threading
from pathlib import Path
from typing import Any

PORT = "/dev/virtio-ports/agent"


class Agent:
    """Answers requests, each in a thread of its own."""

    def __init__(self) -> None:
        self._port = os.open(PORT, os.O_RDWR)
        self._writing = threading.Lock()
        self._started: dict[int, subprocess.Popen[bytes]] = {}

    def serve(self) -> None:
        """Read requests until the port is closed, which is when the machine ends."""
        self._say({"ready": os.uname().release})
        waiting = b""
        while True:
            waiting += os.read(self._port, 65_536)
            *lines, waiting = waiting.split(b"\n")
            for line in lines:
                threading.Thread(target=self._answer, args=(json.loads(line),), daemon=True).start()

    def _answer(self, asked: dict[str, Any]) -> None:
        try:
            answer = getattr(self, f"do_{asked['do']}")(asked)
        except Exception as error:
            answer = {"problem": f"{type(error).__name__}: {error}"}
        self._say({"number": asked["number"], **answer})

    def _say(self, document: dict[str, Any]) -> None:
        octets = json.dumps(document).encode() + b"\n"
        with self._writing:
            while octets:
                octets = octets[os.write(self._port, octets) :]

    def do_run(self, asked: dict[str, Any]) -> dict[str, Any]:
        """Run a program to its end."""
        ended = subprocess.run(
            asked["command"],
            input=asked["stdin"],
            capture_output=True,
            encoding="utf-8",
            errors="replace",
            timeout=asked["within_s"],
            check=False,
        )
        return {"code": ended.returncode, "output": ended.stdout, "errors": ended.stderr}

    def do_start(self, asked: dict[str, Any]) -> dict[str, Any]:
        """Start a program, with its output in a file."""
        with Path(asked["log"]).open("ab") as log:
            process = subprocess.Popen(
                asked["command"], stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True
            )
        self._started[process.pid] = process
        return {"pid": process.pid}

    def do_end(self, asked: dict[str, Any]) -> dict[str, Any]:
        """End what was started, by its number."""
        process = self._started.pop(asked["pid"])
        process.send_signal(getattr(signal, asked["signal"]))
        try:
            code = process.wait(10)
        except subprocess.TimeoutExpired:
            process.kill()
            code = process.wait(10)
        return {"code": code}

    def do_ask(self, asked: dict[str, Any]) -> dict[str, Any]:
        """Ask a daemon at its control socket, without starting a program: here each takes a moment."""
        own = f"/tmp/asks-{asked['number']}"
        with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as line:
            line.bind(own)
            try:
                line.settimeout(asked["within_s"])
                line.connect(asked["path"])
                line.send(asked["command"].encode())
                return {"reply": line.recv(65_536).decode(errors="replace")}
            except (FileNotFoundError, ConnectionRefusedError):
                return {"reply": ""}  # it is not there yet, or not any more
            finally:
                Path(own).unlink()

    def do_read(self, asked: dict[str, Any]) -> dict[str, Any]:
        """Read a file; an empty text if there is none."""
        path = Path(asked["path"])
        return {"text": path.read_text(encoding="utf-8", errors="replace") if path.exists() else ""}

    def do_write(self, asked: dict[str, Any]) -> dict[str, Any]:
        """Write a file."""
        path = Path(asked["path"])
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(asked["text"], encoding="utf-8")
        path.chmod(asked["mode"])
        return {}


if __name__ == "__main__":
    Agent().serve()
