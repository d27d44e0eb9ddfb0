"""A rented place for tests: a file service (FTP, with TLS or without) with habits, and a power service over HTTP.

    python rented_place.py FOLDER FTP_PORT HTTP_PORT JSON    be it, until the standard input ends

With FTP_PORT 0 it serves no files: something else does. The game runs in FOLDER, and only this process starts and
stops it. What of it was asked, and how the next file
transfers go wrong, is in JSON and in files beside FOLDER.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

PASSWORD, KEY = "spring-tide-7", "berth-key-9"


def main() -> None:
    """Serve until nobody is there any more."""
    folder, ftp_port, http_port = Path(sys.argv[1]), int(sys.argv[2]), int(sys.argv[3])
    habits: dict[str, Any] = json.loads(sys.argv[4])
    game = Game(folder)
    web = ThreadingHTTPServer(("127.0.0.1", http_port), power(game, habits))
    threading.Thread(target=web.serve_forever, daemon=True).start()
    if ftp_port:
        threading.Thread(target=serve_files, args=(folder, ftp_port, habits), daemon=True).start()
    sys.stdin.read()
    game.stop()
    os._exit(0)


class Game:
    """The game's process, in its folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.process: subprocess.Popen[bytes] | None = None

    @property
    def is_up(self) -> bool:
        return self.process is not None and self.process.poll() is None

    def start(self) -> None:
        if not self.is_up:
            nothing = subprocess.DEVNULL
            self.process = subprocess.Popen(
                ["./launch.sh"], cwd=self.folder, stdin=subprocess.PIPE, stdout=nothing, stderr=nothing
            )

    def stop(self) -> None:
        if self.process is not None and self.is_up:
            self.process.send_signal(signal.SIGTERM)
            self.process.wait(20)


def power(game: Game, habits: dict[str, Any]) -> type[BaseHTTPRequestHandler]:
    """Return what answers the requests: cast-off, moor, and the state."""
    busy = [habits.get("busy", 0)]

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.reply({"berth": {"is": "sailing" if game.is_up else "moored"}})

        def do_POST(self) -> None:
            length = int(self.headers.get("Content-Length", 0))
            self.rfile.read(length)
            if self.headers.get("X-Berth-Key") != KEY:
                self.reply({"error": "who are you?"}, 401)
                return
            if busy[0]:
                busy[0] -= 1
                self.reply({}, 429, {"Retry-After": "0"})
                return
            if habits.get("html"):
                self.reply_text(b"<html>Welcome</html>", 200, {})
                return
            act = game.start if self.path.endswith("/cast-off") else game.stop
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
            pass

    return Handler


def serve_files(folder: Path, port: int, habits: dict[str, Any]) -> None:
    """Serve the folder's parent as the root, so that the game's folder is one of it."""
    from pyftpdlib.authorizers import DummyAuthorizer
    from pyftpdlib.filesystems import AbstractedFS
    from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
    from pyftpdlib.servers import ThreadedFTPServer

    users = DummyAuthorizer()
    users.add_user("club", PASSWORD, str(folder.parent), perm="elradfmwMT")

    class Files(AbstractedFS):
        def rename(self, src: str, dst: str) -> None:
            if habits.get("no-rename-over") and os.path.exists(dst):
                raise FileExistsError(17, "File exists")
            super().rename(src, dst)
            act("rename")

        def open(self, filename: str, mode: str) -> Any:
            act("read" if "r" in mode else "write")
            return super().open(filename, mode)

        def listdir(self, path: str) -> list[str]:
            names: list[str] = super().listdir(path)
            return [name for name in names if not (habits.get("hides-dots") and name.startswith("."))]

        def remove(self, path: str) -> None:
            super().remove(path)
            act("remove")

    cut = folder.parent.parent / "cut"
    count = folder.parent.parent / "acts"

    def act(kind: str) -> None:
        """Count what is done to files; at the number that ``cut`` names, everything breaks off."""
        with count.open("a") as file:
            file.write(f"{kind}\n")
        if cut.exists() and len(count.read_text().splitlines()) >= int(cut.read_text()):
            os._exit(9)

    base = TLS_FTPHandler if habits.get("tls") else FTPHandler

    class Handler(base):  # type: ignore[misc, valid-type]
        authorizer = users
        abstracted_fs = Files
        banner = "Berths of Saltmarsh."
        timeout = habits.get("idle", 300)
        use_gmt_times = True

        def log(self, *_words: Any, **_more: Any) -> None:
            pass

        def logerror(self, msg: str) -> None:
            pass

    if habits.get("tls"):
        Handler.certfile = habits["tls"]
        Handler.tls_control_required = Handler.tls_data_required = True
    if habits.get("list-only"):
        Handler.proto_cmds = {name: one for name, one in Handler.proto_cmds.items() if name not in ("MLSD", "MLST")}
    if habits.get("minutes"):
        _with_coarse_times(AbstractedFS)
    server = ThreadedFTPServer(("127.0.0.1", port), Handler)
    server.max_cons_per_ip = habits.get("connections", 100)
    server.serve_forever()


def _with_coarse_times(kind: Any) -> None:
    former = kind.getmtime
    kind.getmtime = lambda self, path: former(self, path) // 60 * 60


if __name__ == "__main__":
    main()
