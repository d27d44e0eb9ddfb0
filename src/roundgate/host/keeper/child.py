"""The server's process: started with a console of its own, watched, and started again after a crash within limits."""

from __future__ import annotations

import os
import re
import shutil
import signal
import subprocess
import time

from roundgate.host.keeper.orders import Orders

PAUSES = (1.0, 2.0, 5.0, 15.0, 30.0)
"""Seconds before each new start after a crash; after the last one the keeper gives up."""
STEADY = 300.0
"""Seconds that a server must have been up for its earlier crashes to be forgotten."""
_LONGEST_LINE = 64 * 1024


class Child:
    """The server as the keeper knows it."""

    def __init__(self, orders: Orders, umask: int) -> None:
        """Keep the orders, and the file mode mask that the server shall have; nothing is started."""
        self.umask = umask
        self.process: subprocess.Popen[bytes] | None = None
        self.rest = b""
        self.crashes = 0
        self.gave_up = False
        self.started = 0.0
        self.ready: float | None = None
        self.exit_code: int | None = None
        self.exit_wanted = False
        self.players: set[str] = set()
        self.take(orders)

    def take(self, orders: Orders) -> None:
        """Take new orders, for the next start."""
        self.orders = orders
        self._ready, self._joined, self._left = (
            re.compile(orders[key].encode()) if orders[key] else None for key in ("ready", "joined", "left")
        )

    @property
    def runs(self) -> bool:
        """Tell whether the process is there."""
        return self.process is not None

    def start(self) -> None:
        """Copy the files as the server will read them, then start it. Raises OSError where it cannot be started."""
        self._copy_files()
        self.rest, self.ready, self.exit_code, self.exit_wanted = b"", None, None, False
        self.players.clear()
        self.started = time.time()
        self.process = subprocess.Popen(
            self.orders["command"],
            cwd=self.orders["folder"],
            env={**os.environ, **self.orders["environment"]},
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            start_new_session=True,
            bufsize=0,
            umask=self.umask,
        )
        for stream in (self.process.stdin, self.process.stdout):
            if stream:
                os.set_blocking(stream.fileno(), False)

    def _copy_files(self) -> None:
        folder = os.path.join(self.orders["state"], "started")
        shutil.rmtree(folder, ignore_errors=True)
        os.mkdir(folder, 0o700)
        for path, source in self.orders["files"].items():
            try:
                with open(source, "rb") as file:
                    data = file.read()
            except OSError:
                continue
            copy = os.path.join(folder, path)
            os.makedirs(os.path.dirname(copy), 0o700, exist_ok=True)
            with open(os.open(copy, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
                file.write(data)

    def output(self) -> int:
        """Give the handle from which the server's words come."""
        assert self.process is not None and self.process.stdout is not None
        return self.process.stdout.fileno()

    def read_lines(self) -> list[bytes] | None:
        """Give the lines that have come; None at the end of the output."""
        try:
            data = os.read(self.output(), 65536)
        except BlockingIOError:
            return []
        if not data:
            return None
        *lines, self.rest = (self.rest + data).split(b"\n")
        if len(self.rest) > _LONGEST_LINE:
            lines, self.rest = [*lines, self.rest], b""
        return [line.rstrip(b"\r") for line in lines]

    def heed(self, line: bytes) -> bool:
        """Notice who comes and goes; tell whether this line is the ready sign."""
        if self._joined and (match := self._joined.search(line)):
            self.players.add((match.groupdict().get("id") or match[0]).decode("utf-8", "replace"))
        elif self._left and (match := self._left.search(line)):
            self.players.discard((match.groupdict().get("id") or match[0]).decode("utf-8", "replace"))
        if self.ready is None and self._ready and self._ready.search(line):
            self.ready = time.time()
            return True
        return False

    def send(self, text: str) -> str:
        """Write a line to the console. Give an empty text, or why it could not be done."""
        if any(char < " " or char == "\x7f" for char in text):
            return "a line break or a control character cannot be sent to a console"
        if self.process is None or self.process.stdin is None:
            return "the server does not run"
        try:
            os.write(self.process.stdin.fileno(), text.encode() + b"\n")
        except BlockingIOError:
            return "the server does not read its console"
        except OSError as error:
            return f"the console is closed: {error.strerror}"
        return ""

    def signal(self, name: str) -> None:
        """Send a signal to the server and all that it started."""
        if self.process is not None:
            try:
                os.killpg(self.process.pid, signal.Signals[name])
            except ProcessLookupError:
                return

    def reap(self) -> bool:
        """Notice the end of the process; tell whether it has ended."""
        if self.process is None or self.process.poll() is None:
            return False
        self.exit_code = self.process.returncode
        for stream in (self.process.stdin, self.process.stdout):
            if stream:
                stream.close()
        self.process, self.ready = None, None
        self.players.clear()
        return True

    def pause_before_restart(self) -> float | None:
        """Tell how long to wait before starting again after a crash, in seconds; None where it should stay down."""
        if self.exit_wanted or not self.orders["restart"]:
            return None
        if time.time() - self.started > STEADY:
            self.crashes = 0
        if self.crashes >= len(PAUSES):
            self.gave_up = True
            return None
        self.crashes += 1
        return PAUSES[self.crashes - 1]
