"""A rented place as a stand-in: a file service, a service that starts and stops the game, and habits of both.

    python -m gullwind_standin.place FOLDER FILES_PORT POWER_PORT JSON    be it, until the standard input ends

The game runs in FOLDER, by its ``launch.sh``, and only this process starts and stops it. With FILES_PORT 0 it serves
no files: something else does. JSON holds the habits, see ``Habits``.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

USER, PASSWORD, KEY = "club", "spring-tide-7", "berth-key-9"


@dataclass
class Habits:
    """How this place differs from what one would wish for."""

    password: str = PASSWORD
    """Of the file service's only user."""
    key: str = KEY
    """In the header of each request to the power service."""
    tls: str = ""
    """A file for the certificate of the authority that signs this place's own: files go by FTP with TLS, and not else.
    It is made here."""
    no_rename_over: bool = False
    list_only: bool = False
    """Whether folders are listed as text alone."""
    minutes: bool = False
    """Whether times are known to the minute only."""
    hides_dots: bool = False
    no_modes: bool = False
    """Whether a file's mode cannot be changed."""
    no_case: bool = False
    """Whether names that differ in case alone are one."""
    connections: int = 100
    idle: int = 300
    """Seconds after which a connection that asks nothing is closed."""
    quota: int = 0
    """Bytes that find room; 0 for no limit."""
    encoding: str = "utf-8"
    """Of names on the line."""
    stays: bool = False
    """Whether it goes on after its standard input has ended, until SIGTERM."""
    busy: int = 0
    """How many requests the power service puts off."""
    power: str = ""
    """What the power service answers in place of doing something: a number, ``html``, ``nothing`` or ``ignores``."""


def main() -> None:
    """Serve until nobody is there any more."""
    folder, files_port, power_port = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    habits = Habits(**json.loads(sys.argv[4]))
    game = Game(folder)
    web = ThreadingHTTPServer(("127.0.0.1", power_port), power(game, habits))
    threading.Thread(target=web.serve_forever, daemon=True).start()
    if files_port:
        from gullwind_standin.place_files import serve_files

        threading.Thread(target=serve_files, args=(folder, files_port, habits), daemon=True).start()
    signal.signal(signal.SIGTERM, lambda *_: _end(game))
    while habits.stays:
        signal.pause()
    sys.stdin.read()
    _end(game)


def _end(game: Game) -> None:
    game.stop()
    os._exit(0)


class Game:
    """The game's process, in its folder."""

    def __init__(self, folder: str) -> None:
        """Start nothing yet."""
        self.folder = folder
        self.process: subprocess.Popen[bytes] | None = None

    @property
    def is_up(self) -> bool:
        """Whether it runs."""
        return self.process is not None and self.process.poll() is None

    def start(self) -> None:
        """Start it, unless it runs."""
        if not self.is_up:
            nothing = subprocess.DEVNULL
            self.process = subprocess.Popen(
                ["./launch.sh"], cwd=self.folder, stdin=subprocess.PIPE, stdout=nothing, stderr=nothing
            )

    def stop(self) -> None:
        """End it, and wait for its end."""
        if self.process is not None and self.is_up:
            self.process.send_signal(signal.SIGTERM)
            self.process.wait(20)


def power(game: Game, habits: Habits) -> type[BaseHTTPRequestHandler]:
    """Return what answers the requests: cast-off, moor, and the state."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.reply({"berth": {"is": "sailing" if game.is_up else "moored"}})

        def do_POST(self) -> None:
            self.rfile.read(int(self.headers.get("Content-Length", 0)))
            if self.headers.get("X-Berth-Key") != habits.key:
                self.reply({"error": "who are you?"}, 401)
            elif habits.busy:
                habits.busy -= 1
                self.reply({}, 429, {"Retry-After": "0"})
            elif habits.power.isdigit():
                self.reply({}, int(habits.power))
            elif habits.power == "html":
                self.reply_text(b"<html>Welcome</html>", 200, {})
            elif habits.power == "nothing":
                self.close_connection = True
            else:
                act = game.start if self.path.endswith("/cast-off") else game.stop
                if habits.power != "ignores":
                    threading.Thread(target=act, daemon=True).start()
                self.reply({})

        def reply(self, body: Any, code: int = 200, headers: dict[str, str] | None = None) -> None:
            self.reply_text(json.dumps(body).encode(), code, headers or {})

        def reply_text(self, body: bytes, code: int, headers: dict[str, str]) -> None:
            self.send_response(code)
            for name, value in {"Content-Length": str(len(body)), **headers}.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_words: Any) -> None:
            """Log nothing."""

    return Handler


if __name__ == "__main__":
    main()
