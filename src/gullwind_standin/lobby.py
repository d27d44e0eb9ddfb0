"""The lobby: a small list of servers over HTTP and JSON, on loopback, that takes its time to show a newcomer."""

from __future__ import annotations

import json
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

_KEPT = threading.Lock()


class Lobby(ThreadingHTTPServer):
    """Servers by port, each with the time from which it is shown."""

    daemon_threads = True

    def __init__(self, port: int, delay: float) -> None:
        """Listen on loopback; newcomers are shown after ``delay`` seconds."""
        super().__init__(("127.0.0.1", port), _Visit)
        self.delay = delay
        self.listed: dict[int, dict[str, Any]] = {}

    def shown(self) -> list[dict[str, Any]]:
        """Return the entries that anybody may see by now."""
        now = time.monotonic()
        with _KEPT:
            open_ones = [
                crossing for crossing in self.listed.values() if not crossing["hidden"] and crossing["from"] <= now
            ]
        return [{key: crossing[key] for key in ("name", "port", "slots")} for crossing in open_ones]


class _Visit(BaseHTTPRequestHandler):
    server: Lobby

    def _entry(self) -> dict[str, Any]:
        entry: dict[str, Any] = json.loads(self.rfile.read(int(self.headers.get("Content-Length", 0))))
        return entry

    def _answer(self, value: object) -> None:
        body = json.dumps(value).encode()
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def do_GET(self) -> None:
        """Give the list."""
        self._answer({"servers": self.server.shown()})

    def do_POST(self) -> None:
        """Take a server in."""
        entry = self._entry()
        entry["from"] = time.monotonic() + self.server.delay + entry.pop("delay", 0.0)
        with _KEPT:
            self.server.listed[entry["port"]] = entry
        self._answer({"ok": True})

    def do_DELETE(self) -> None:
        """Let a server go."""
        with _KEPT:
            self.server.listed.pop(self._entry()["port"], None)
        self._answer({"ok": True})

    def log_message(self, format: str, *args: object) -> None:
        """Keep quiet."""


def run_lobby(port: int, delay: float) -> int:
    """Serve until the process is ended; say the port once it listens."""
    with Lobby(port, delay) as lobby:
        print(f"Lobby on 127.0.0.1:{lobby.server_address[1]}", flush=True)
        try:
            lobby.serve_forever(poll_interval=0.2)
        except KeyboardInterrupt:
            return 0
    return 0
