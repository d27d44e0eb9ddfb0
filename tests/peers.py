"""Peers for notices: an HTTP server that remembers what it got, and a mail server, each a real one on loopback."""

from __future__ import annotations

import email
import http.server
import json
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from email.message import Message
from pathlib import Path
from typing import Any

from ports import free_port


class Hook:
    """An HTTP server: it answers with the codes of ``answers``, one after the other, the last one for all that follow.

    An answer of 0 is none: the connection stays open and silent until the end.
    """

    def __init__(self, answers: tuple[int, ...] = (204,)) -> None:
        self.got: list[tuple[str, dict[str, str], Any]] = []
        self.times: list[float] = []
        """When each came, by the monotonic clock."""
        self.answers = list(answers)
        self.silent = threading.Event()
        """Set once somebody is left without an answer."""
        self.over = threading.Event()
        hook = self

        class Handler(http.server.BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = json.loads(self.rfile.read(int(self.headers["Content-Length"])))
                hook.times.append(time.monotonic())
                hook.got.append((self.path, {name.lower(): value for name, value in self.headers.items()}, body))
                code = hook.answers.pop(0) if len(hook.answers) > 1 else hook.answers[0]
                if not code:
                    hook.silent.set()
                    hook.over.wait(60)
                    return
                self.send_response(code)
                if 300 <= code < 400:
                    self.send_header("Location", f"http://127.0.0.1:{hook.port}/elsewhere")
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, format: str, *args: Any) -> None:
                pass

        self.port = free_port()
        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", self.port), Handler)
        self.server.daemon_threads = True
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}/hook"

    @property
    def bodies(self) -> list[Any]:
        return [body for _, _, body in self.got]

    def events(self) -> list[str]:
        return [body["event"] for body in self.bodies]

    def close(self) -> None:
        self.over.set()
        self.server.shutdown()
        self.server.server_close()


@contextmanager
def talking(reply: bytes, *, close: bool, reads: bool = False) -> Iterator[int]:
    """Be a server that sends ``reply`` to whoever connects, and then hangs up or keeps still.

    It reads nothing, or with ``reads`` what comes first.
    """
    over = threading.Event()
    with socket.create_server(("127.0.0.1", free_port())) as listener:

        def serve() -> None:
            held = []
            while not over.is_set():
                try:
                    connection, _ = listener.accept()
                except OSError:
                    break
                if reads:
                    connection.recv(65536)
                connection.sendall(reply)
                if close:
                    connection.close()
                else:
                    held.append(connection)
            for connection in held:
                connection.close()

        thread = threading.Thread(target=serve, daemon=True)
        thread.start()
        yield listener.getsockname()[1]
        over.set()
        listener.shutdown(socket.SHUT_RDWR)
        thread.join(10)


_MAIL = """
import sys
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult
folder, port, cert, key, password = sys.argv[1:]
class Handler:
    count = 0
    async def handle_RCPT(self, server, session, envelope, address, options):
        if address.startswith("full"):
            return "452 no room in the mailbox"
        if address.startswith("nobody"):
            return "550 there is no such mailbox"
        envelope.rcpt_tos.append(address)
        return "250 OK"
    async def handle_DATA(self, server, session, envelope):
        Handler.count += 1
        with open(f"{folder}/{Handler.count}.mail.new", "wb") as file:
            file.write(envelope.content)
        import os
        os.rename(f"{folder}/{Handler.count}.mail.new", f"{folder}/{Handler.count}.mail")
        return "250 taken"
def signs_in(server, session, envelope, mechanism, data):
    return AuthResult(success=data.password == password.encode(), handled=False)
more = {}
if cert:
    import ssl
    more["tls_context"] = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    more["tls_context"].load_cert_chain(cert, key)
    more["require_starttls"] = True
if password:
    more |= {"authenticator": signs_in, "auth_required": True}
controller = Controller(Handler(), hostname="127.0.0.1", port=int(port), **more)
controller.start()
print("ready", flush=True)
sys.stdin.read()
controller.stop()
"""


class Post:
    """A mail server in a process of its own; what it takes lies in a folder."""

    def __init__(self, folder: Path, *, cert: str = "", key: str = "", password: str = "") -> None:
        self.folder = folder
        folder.mkdir()
        self.port = free_port()
        self.process = subprocess.Popen(
            [sys.executable, "-W", "ignore", "-c", _MAIL, str(folder), str(self.port), cert, key, password],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        assert self.process.stdout is not None and self.process.stdout.readline() == "ready\n"

    def mails(self) -> list[Message]:
        """Return what it has taken, in the order in which it came."""
        paths = sorted(self.folder.glob("*.mail"), key=lambda path: int(path.stem))
        return [email.message_from_bytes(path.read_bytes()) for path in paths]

    def close(self) -> None:
        self.process.communicate(timeout=20)
