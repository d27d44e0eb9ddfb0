"""Calls of the program without its start-up: each is a fork of one process that has imported it and run nothing.

Most of a short call is Python reading the program's modules. The tests save that; with ROUNDGATE_REAL_CALLS, as CI sets
it for the tests of the commands, every call is a process that begins from nothing, as a person's does.

    python forked.py HANDLE     the process that forks; HANDLE is its socket
"""

from __future__ import annotations

import atexit
import gc
import importlib
import json
import os
import pkgutil
import select
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import traceback
from collections.abc import Mapping, Sequence
from pathlib import Path

_LENGTH = struct.Struct("!I")
_AT_START = ("PYTHON", "LANG", "LC_", "LD_", "COVERAGE")
"""Variables that Python reads when it starts: with others than the test's own, a call begins from nothing."""


class Forks:
    """The process that forks, started when it is first needed."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.socket: socket.socket | None = None
        self.process: subprocess.Popen[bytes] | None = None
        self.started_with = _variables(os.environ)

    def can(self, env: Mapping[str, str]) -> bool:
        """Tell whether a call with such an environment may be a fork."""
        return "ROUNDGATE_REAL_CALLS" not in os.environ and _variables(env) == self.started_with

    def run(
        self, words: Sequence[str], cwd: Path, given: str | None, env: Mapping[str, str], timeout: float
    ) -> subprocess.CompletedProcess[str]:
        """Call the program. Raises TimeoutExpired."""
        with tempfile.TemporaryFile() as into, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
            into.write((given or "").encode())
            into.seek(0)
            told, tell = os.pipe()
            nothing = os.open(os.devnull, os.O_RDWR)
            stdin = nothing if given is None else into.fileno()
            try:
                request = {"words": list(words), "cwd": str(cwd), "env": dict(env)}
                self._send(json.dumps(request).encode(), [stdin, out.fileno(), err.fileno(), tell])
            finally:
                os.close(tell)
                os.close(nothing)
            with os.fdopen(told, "rb", buffering=0) as answer:
                process = int(answer.read(8) or b"0")
                if not select.select([answer], [], [], timeout)[0]:
                    os.kill(process, signal.SIGKILL)
                    raise subprocess.TimeoutExpired(list(words), timeout)
                code = int(answer.read(8) or b"-1")
            out.seek(0)
            err.seek(0)
            output = [one.read().decode().replace("\r\n", "\n") for one in (out, err)]
        return subprocess.CompletedProcess([sys.executable, "-m", "roundgate", *words], code, *output)

    def close(self) -> None:
        """Let the process that forks end."""
        if self.socket is not None and self.process is not None:
            self.socket.close()
            self.process.wait(10)
            self.socket = self.process = None

    def _send(self, data: bytes, handles: list[int]) -> None:
        with self.lock:
            if self.socket is None:
                self.socket, theirs = socket.socketpair()
                command = [sys.executable, __file__, str(theirs.fileno())]
                self.process = subprocess.Popen(command, pass_fds=[theirs.fileno()], start_new_session=True)
                theirs.close()
            socket.send_fds(self.socket, [_LENGTH.pack(len(data))], handles)
            self.socket.sendall(data)


def _variables(env: Mapping[str, str]) -> dict[str, str]:
    return {name: value for name, value in env.items() if name.startswith(_AT_START)}


# --- the process that forks ---------------------------------------------------------------------------------------


def _serve(link: socket.socket) -> None:
    """Import the program, then fork for each request, until the tests have gone."""
    import roundgate

    for module in pkgutil.walk_packages(roundgate.__path__, "roundgate."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    gc.collect()
    gc.freeze()
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        head, handles, _, _ = socket.recv_fds(link, _LENGTH.size, 4)
        if not head:
            return
        data, length = b"", _LENGTH.unpack(head)[0]
        while len(data) < length:
            data += link.recv(length - len(data))
        if os.fork() == 0:
            signal.signal(signal.SIGCHLD, signal.SIG_DFL)
            link.close()
            _watch(json.loads(data), handles)
        for handle in handles:
            os.close(handle)


def _watch(request: dict[str, object], handles: list[int]) -> None:
    """Run the call in a process of its own, and tell its number, then how it ended."""
    process = os.fork()
    if process == 0:
        os.close(handles[3])
        _call(request, handles[:3])
    for handle in handles[:3]:
        os.close(handle)
    os.write(handles[3], f"{process:8}".encode())
    _, status = os.waitpid(process, 0)
    os.write(handles[3], f"{os.waitstatus_to_exitcode(status):8}".encode())
    os._exit(0)


def _call(request: dict[str, object], handles: list[int]) -> None:
    code = 1
    try:
        for number, handle in enumerate(handles):
            os.dup2(handle, number)
            os.close(handle)
        os.chdir(str(request["cwd"]))
        os.environ.clear()
        os.environ.update(request["env"])  # type: ignore[arg-type]
        sys.stdin = sys.__stdin__ = open(0, encoding="utf-8", closefd=False)  # type: ignore[misc]  # noqa: SIM115
        sys.stdout = sys.__stdout__ = open(1, "w", encoding="utf-8", closefd=False)  # type: ignore[misc]  # noqa: SIM115
        sys.stderr = sys.__stderr__ = open(2, "w", encoding="utf-8", errors="backslashreplace", closefd=False)  # type: ignore[misc]  # noqa: SIM115
        sys.argv = ["roundgate", *request["words"]]  # type: ignore[misc]
        from roundgate.cli.main import main

        main()
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:  # noqa: BLE001 - it is shown as the interpreter would
        traceback.print_exc()
    finally:
        atexit._run_exitfuncs()
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
        os._exit(code)


if __name__ == "__main__":
    sys.path.pop(0)
    _serve(socket.socket(fileno=int(sys.argv[1])))
