"""Calls of the program without its start-up: each is a fork of one process that has imported it and run nothing.

Most of a short call is Python reading the program's modules. The tests save that; with ROUNDGATE_REAL_CALLS, as CI sets
it for the tests of the commands, every call is a process that begins from nothing, as a person's does.

The rounds and notices that such a call starts are forks of that process too, with the handles, folder and session that
they would have got. What a test looks for by its command line, or changes by Python's variables, begins from nothing.

    python forked.py HANDLE     the process that forks; HANDLE is its socket
"""

from __future__ import annotations

import atexit
import contextlib
import ctypes
import fcntl
import gc
import importlib
import json
import os
import pkgutil
import runpy
import select
import shutil
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import traceback
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path
from types import ModuleType
from typing import Any

_LENGTH = struct.Struct("!I")
_LONGEST = 1000
"""Bytes of the words that a process can be shown with."""
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
        """Return whether a call with such an environment may be a fork."""
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
                command = [sys.executable, __file__, str(theirs.fileno()), "." * _LONGEST]
                self.process = subprocess.Popen(command, pass_fds=[theirs.fileno()], start_new_session=True)
                theirs.close()
            socket.send_fds(self.socket, [_LENGTH.pack(len(data))], handles)
            self.socket.sendall(data)


def _variables(env: Mapping[str, str]) -> dict[str, str]:
    return {name: value for name, value in env.items() if name.startswith(_AT_START)}


# --- the process that forks ---------------------------------------------------------------------------------------


def _serve(link: socket.socket) -> None:
    """Import the program, then fork for each request, until the tests have gone."""
    import paramiko.sftp_client  # noqa: F401 - loaded late by the program, and slow to load

    import roundgate
    from roundgate.cli.grammar.commands import COMMANDS
    from roundgate.cli.main import program

    for module in pkgutil.walk_packages(roundgate.__path__, "roundgate."):
        if not module.name.endswith("__main__"):
            _use_patterns(importlib.import_module(module.name))
    _make_parsers(COMMANDS)
    program()
    _use_rulebook()
    spawner = socket.socket(socket.AF_UNIX)
    spawner.bind(f"\0roundgate-tests-{os.getpid()}")
    spawner.listen(64)
    gc.collect()
    gc.freeze()
    running: dict[int, tuple[int, int]] = {}
    while True:
        for ready in select.select([link, spawner, *running], [], [])[0]:
            if isinstance(ready, int):
                _tell_end(ready, *running.pop(ready))
                continue
            caller = link if ready is link else spawner.accept()[0]
            request, handles = _request(caller)
            if request is None:
                return
            process = os.fork()
            if process == 0:
                link.close()
                for ended, (_, tell) in running.items():
                    os.close(ended)
                    os.close(tell)
                os.posix_spawn = partial(_spawn, os.posix_spawn, spawner.getsockname())
                spawner.close()
                if caller is not link:
                    caller.close()
                    _begin(request, handles)
                os.close(handles[3])
                _call(request, handles[:3])
            tell = handles.pop() if caller is link else os.dup(caller.fileno())
            os.write(tell, f"{process:8}".encode())
            running[os.pidfd_open(process)] = process, tell
            for handle in handles:
                os.close(handle)
            if caller is not link:
                caller.close()


def _request(caller: socket.socket) -> tuple[dict[str, Any] | None, list[int]]:
    head, handles, _, _ = socket.recv_fds(caller, _LENGTH.size, 16)
    if not head:
        return None, handles
    data, length = b"", _LENGTH.unpack(head)[0]
    while len(data) < length:
        data += caller.recv(length - len(data))
    return json.loads(data), handles


def _use_patterns(module: ModuleType) -> None:
    """Have the patterns of a module compiled, which are only compiled when they are used."""
    from roundgate.core.patterns import lazy

    for pattern in vars(module).values():
        if isinstance(pattern, type(lazy(""))):
            pattern.match("")


def _use_rulebook() -> None:
    """Have the rulebook parsed that most tests use, and its patterns compiled, as a check of the demo's files does."""
    from roundgate import api
    from roundgate.demo import __file__ as demo

    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder) / "site"
        shutil.copytree(Path(demo).parent / "site", site)
        with api.open_site(site) as opened:
            for name in ("regatta", "harbour"):
                assert opened.server(name).check()


def _make_parsers(lines: Sequence[Any]) -> None:
    """Have what parses the options of each command made."""
    from roundgate.cli.grammar.group import loaded

    for line in lines:
        loaded(line)
        _make_parsers(line.verbs.verbs if line.verbs else ())


def _tell_end(ended: int, process: int, tell: int) -> None:
    """Take the end of a process, and tell how it ended, where anybody still waits for that."""
    os.close(ended)
    _, status = os.waitpid(process, 0)
    with contextlib.suppress(BrokenPipeError):
        os.write(tell, f"{os.waitstatus_to_exitcode(status):8}".encode())
    os.close(tell)


_FORKED = ("roundgate.host.rounds", "roundgate.host.notices")
"""The modules that are run by a fork."""
_STARTED_WITH = _variables(os.environ)


def _spawn(
    real: Callable[..., int],
    spawner: bytes,
    path: str,
    words: list[str],
    env: Mapping[str, str],
    *,
    file_actions: Sequence[tuple[Any, ...]],
    setsid: bool,
) -> int:
    """Start a process as ``os.posix_spawn`` does, by a fork where it would run one of our modules."""
    if words[1:3] != ["-P", "-m"] or words[3] not in _FORKED or _variables(env) != _STARTED_WITH:
        return real(path, words, env, file_actions=file_actions, setsid=setsid)
    assert setsid
    passed = {number: number for number in map(int, os.listdir("/proc/self/fd")) if _is_inherited(number)}
    opened = []
    for what, *arguments in file_actions:
        if what == os.POSIX_SPAWN_OPEN:
            opened.append(os.open(*arguments[1:]))
            passed[arguments[0]] = opened[-1]
        else:
            assert what == os.POSIX_SPAWN_DUP2
            passed[arguments[1]] = arguments[0]
    umask = os.umask(0)
    os.umask(umask)
    request = {"words": words[3:], "env": dict(env), "cwd": os.getcwd(), "umask": umask, "numbers": list(passed)}
    data = json.dumps(request).encode()
    with socket.socket(socket.AF_UNIX) as link:
        link.connect(spawner)
        socket.send_fds(link, [_LENGTH.pack(len(data))], list(passed.values()))
        link.sendall(data)
        process = int(link.recv(8, socket.MSG_WAITALL))
    for handle in opened:
        os.close(handle)
    return process


def _is_inherited(handle: int) -> bool:
    try:
        return os.get_inheritable(handle)
    except OSError:  # the one that the list was read by
        return False


def _begin(request: dict[str, Any], handles: list[int]) -> None:
    """Be the process that was to be started: in a session of its own, with its handles by their numbers."""
    with _ended():
        os.setsid()
        os.umask(request["umask"])
        high = [fcntl.fcntl(handle, fcntl.F_DUPFD, 500) for handle in handles]
        for handle in handles:
            os.close(handle)
        for handle, number in zip(high, request["numbers"], strict=True):
            os.dup2(handle, number)
            os.close(handle)
        _become(request)
        module, *words = request["words"]
        sys.argv = [module, *words]
        sys.orig_argv = [sys.executable, "-P", "-m", *request["words"]]
        _show_as(sys.orig_argv)
        runpy.run_module(module, run_name="__main__", alter_sys=True)


def _show_as(words: Sequence[str]) -> None:
    """Have the system show other words as what this process was called with: tests find it by them."""
    fields = Path("/proc/self/stat").read_text().rpartition(")")[2].split()
    start, end = int(fields[45]), int(fields[46])  # arg_start and arg_end of proc(5)
    shown = "\0".join(words).encode()
    assert len(shown) < end - start
    ctypes.memmove(start, shown.ljust(end - start, b"\0"), end - start)


def _become(request: dict[str, Any]) -> None:
    """Take the folder, the environment and the streams of a request."""
    os.chdir(request["cwd"])
    os.environ.clear()
    os.environ.update(request["env"])
    tempfile.tempdir = None  # what Python remembers of the environment that it was started with
    sys.stdin = sys.__stdin__ = open(0, encoding="utf-8", closefd=False)  # type: ignore[misc]  # noqa: SIM115
    sys.stdout = sys.__stdout__ = open(1, "w", encoding="utf-8", closefd=False)  # type: ignore[misc]  # noqa: SIM115
    sys.stderr = sys.__stderr__ = open(2, "w", encoding="utf-8", errors="backslashreplace", closefd=False)  # type: ignore[misc]  # noqa: SIM115


@contextlib.contextmanager
def _ended() -> Iterator[None]:
    """End this process after a block, with the exit code that the interpreter would give."""
    code = 1
    try:
        yield
        code = 0
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:  # noqa: BLE001 - it is shown as the interpreter would
        traceback.print_exc()
    finally:
        atexit._run_exitfuncs()
        for stream in (sys.stdout, sys.stderr):
            with contextlib.suppress(OSError):
                stream.flush()
        os._exit(code)


def _call(request: dict[str, Any], handles: list[int]) -> None:
    with _ended():
        for number, handle in enumerate(handles):
            os.dup2(handle, number)
            os.close(handle)
        _become(request)
        sys.argv = ["roundgate", *request["words"]]  # type: ignore[misc]
        from roundgate.cli.main import main

        main()


if __name__ == "__main__":
    sys.path.pop(0)
    _serve(socket.socket(fileno=int(sys.argv[1])))
