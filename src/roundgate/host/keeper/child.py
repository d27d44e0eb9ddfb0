"""The server's process: started with a console of its own, or taken over; watched, and started again after a crash."""

from __future__ import annotations

import contextlib
import os
import select
import shutil
import signal
import subprocess
import time
from collections import deque
from collections.abc import Collection

from roundgate.core.unseen import first_unseen
from roundgate.host.handles import open_real
from roundgate.host.keeper.account import Account, account_of
from roundgate.host.keeper.config import KeeperConfig
from roundgate.host.keeper.heir import descendants, inherited, read_pidfile
from roundgate.host.keeper.interpreter import own, without_mask
from roundgate.host.keeper.pipes import Pipes, make_pipes, reopen_pipes
from roundgate.host.keeper.record import ProcessRecord, birth_of, boot_mark, lives
from roundgate.host.patterns import LinePattern, PatternError

PAUSES = (1.0, 2.0, 5.0, 15.0, 30.0)
"""Seconds before each new start after a crash; after the last one the keeper gives up."""
STEADY = 300.0
"""Seconds that a server must have been up for its earlier crashes to be forgotten."""
LATE_STOP = 600.0
"""Seconds within which a server that was told to stop for good, and did not, may still end without being restarted."""
_IN_TERMINAL = own("roundgate.host.keeper.terminal")
_LONGEST_LINE = 64 * 1024
_LARGEST_COPY = 200 * 1024 * 1024
_LAST_WORDS = 5
_SEEKS = 5.0
"""Seconds for a start command that has ended to name the server's process in its PID file."""


class Child:
    """The server as the keeper knows it."""

    def __init__(self, config: KeeperConfig, umask: int) -> None:
        """Keep the configuration, and the file mode mask that the server should have; nothing is started."""
        self.umask = umask
        self.process: int | None = None
        self.birth = 0
        self.ended: int | None = None
        """A handle that can be read once the process has ended."""
        self._popen: subprocess.Popen[bytes] | None = None
        self._pipes: Pipes | None = None
        self.rest = b""
        self.crashes = 0
        self.gave_up = False
        self.started = 0.0
        self.ready: float | None = None
        self.exit_code: int | None = None
        self.exit_wanted_until = 0.0
        """Until when (monotonic) an end of the server is what somebody wants; infinite while a stop is under way."""
        self.stop_failed = False
        """True once a stop was asked for and did not happen in time: whenever it ends now, it is started again."""
        self.was_stopped_late = False
        """True from such an end until the server is up again."""
        self.players: set[str] = set()
        self.last_words: deque[str] = deque(maxlen=_LAST_WORDS)
        self.is_outside = False
        """Whether somebody else has started it."""
        self.seeks_until: float | None = None
        """Until when (monotonic) the process is sought that a start command has left in the background."""
        self.take(config)

    def take(self, config: KeeperConfig) -> str:
        """Take a new configuration for the next start. Give an empty text, or what is wrong; then the old one stays."""
        try:
            patterns = [LinePattern(config[key]) for key in ("ready", "joined", "left")]
        except PatternError as error:
            if not hasattr(self, "config"):
                self.config = config
                self._ready = self._joined = self._left = LinePattern("")
            return f"a pattern of its rulebook is broken: {error}"
        self.config = config
        self._ready, self._joined, self._left = patterns
        return ""

    @property
    def runs(self) -> bool:
        """Return whether the process is there."""
        return self.process is not None

    @property
    def exit_wanted(self) -> bool:
        """Return whether somebody wants the server to end."""
        return time.monotonic() < self.exit_wanted_until

    @property
    def own(self) -> set[int]:
        """Return the processes of the server that somebody waits for."""
        return {process for process in (self.process, self._popen and self._popen.pid) if process}

    @property
    def slow_patterns(self) -> list[str]:
        """Name the patterns that took too long and are no longer searched."""
        named = {"ready": self._ready, "joined": self._joined, "left": self._left}
        return [name for name, pattern in named.items() if pattern.is_off]

    # --- its process ---------------------------------------------------------------------------------------------

    def start(self) -> None:
        """Copy the files as the server will read them, then start it. Raises OSError where it cannot be started."""
        copy_started(self.config)
        pipes = make_pipes(self.config["state"])
        try:
            account = account_of(self.config.get("user", ""))
            self._make_home(account)
            mask = self.config.get("umask", "")
            self._popen = subprocess.Popen(
                [*(_IN_TERMINAL if self.config.get("terminal") else ()), *self.config["command"]],
                cwd=self.config.get("run_in") or self.config["folder"],
                env={**without_mask(os.environ), **account.environment, **self.config["environment"]},
                user=account.user,
                group=account.group,
                extra_groups=account.groups,
                stdin=pipes.server_input,
                stdout=pipes.server_output,
                stderr=pipes.server_output,
                # A session of its own: signals go to all that it starts, and Ctrl-C in our terminal does not reach it.
                start_new_session=True,
                # A console line must reach the server when it is sent, not when a buffer is full.
                bufsize=0,
                umask=int(mask, 8) if mask else self.umask,
            )
        except BaseException:
            for handle in pipes:
                os.close(handle)
            raise
        pipes.close_servers_ends()
        self._forget()
        self._pipes = pipes
        self.started = time.time()
        self._watch(self._popen.pid)

    def _make_home(self, account: Account) -> None:
        """Make the HOME of the server's own that the site file names in its folder, where it is missing."""
        home, folder = self.config["environment"].get("HOME", ""), os.path.realpath(self.config["folder"])
        if os.path.realpath(home).startswith(folder + os.sep) and not os.path.exists(home):
            os.mkdir(home, 0o700)
            if account.user is not None and account.group is not None:
                os.chown(home, account.user, account.group)

    def goes_into_background(self) -> bool:
        """Return whether the start command has ended, and may have left the server behind: it is sought from now on."""
        if self._popen is None or not self.config.get("pidfile") or self.exit_wanted or self._popen.poll() != 0:
            return False
        if self.ended is not None:
            os.close(self.ended)
            self.ended = None
        self.seeks_until = time.monotonic() + _SEEKS
        return True

    def find_in_background(self, known: Collection[int]) -> bool | None:
        """Watch the process that the PID file names; return whether it was found, None where it may still come.

        ``known`` are the keeper's own other children.
        """
        process = read_pidfile(self.config["pidfile"])
        if process is not None:
            self._popen, self.seeks_until = None, None
            self._watch(process)
            if not (self.config["ready"] and self._has_our_output(process)):
                # It writes to files of its own, so that its ready sign is not seen here; by custom a program that goes
                # into the background has its PID file written when it is ready.
                self.ready = time.time()
            return True
        if self.seeks_until is not None and time.monotonic() < self.seeks_until and inherited(known):
            return None
        self.seeks_until = None
        return False

    def _has_our_output(self, process: int) -> bool:
        try:
            ours = os.fstat(self.output())
            return any(os.path.samestat(ours, os.stat(f"/proc/{process}/fd/{handle}")) for handle in (1, 2))
        except OSError:
            return False

    def _forget(self) -> None:
        self.rest, self.ready, self.exit_code, self.is_outside = b"", None, None, False
        self.exit_wanted_until, self.stop_failed = 0.0, False
        self.players.clear()
        self.last_words.clear()

    def _watch(self, process: int) -> None:
        self.process, self.birth = process, birth_of(process) or 0
        self.ended = os.pidfd_open(process)

    def take_over(self, record: ProcessRecord) -> bool:
        """Watch a server that another keeper started. Tell whether it is still there."""
        self.crashes, self.started = record["crashes"], record["started"] or time.time()
        if not lives(record) or record["process"] is None:
            return False
        try:
            self._watch(record["process"])
        except OSError:
            return False
        self.ready, self.players = record["ready"], set(record["players"])
        self.is_outside = record.get("outside", False)
        self._pipes = None if self.is_outside else reopen_pipes(self.config["state"], record["process"])
        return True

    def record(self, wanted: bool, round: int | None) -> ProcessRecord:
        """Return its state, for a new keeper."""
        return {
            "process": self.process,
            "birth": self.birth,
            "boot": boot_mark(),
            "started": self.started,
            "ready": self.ready,
            "wanted": wanted,
            "crashes": self.crashes,
            "players": sorted(self.players),
            "round": round,
            "outside": self.is_outside,
        }

    def signal(self, name: str) -> str:
        """Send a signal to the server and all that it started. Give an empty text, or why it could not be done."""
        if not isinstance(getattr(signal, name, None), signal.Signals):
            return f"there is no signal {name!r}"
        if self.process is not None:
            # The group may have ended, or have become another user's: its end is told by the process handle, not by
            # this call.
            with contextlib.suppress(ProcessLookupError, PermissionError):
                _send(self.process, getattr(signal, name))
        return ""

    def reap(self) -> bool:
        """Notice the end of the process; return whether it has ended."""
        if self.process is None:
            return False
        if self._popen is not None:
            if self._popen.poll() is None:
                return False
            self.exit_code = self._popen.returncode
        elif not self._has_ended(self.process):
            return False
        if self._pipes is not None:
            for handle in self._pipes[:2]:
                if handle >= 0:
                    os.close(handle)
        if self.ended is not None:
            os.close(self.ended)
        self.process, self.ready, self._popen, self._pipes, self.ended = None, None, None, None, None
        self.players.clear()
        return True

    def _has_ended(self, process: int) -> bool:
        try:
            found, status = os.waitpid(process, os.WNOHANG)
        except ChildProcessError:  # taken over from another keeper, so it is not a child of ours
            return birth_of(process) != self.birth
        self.exit_code = os.waitstatus_to_exitcode(status) if found else None
        return found != 0

    def pause_before_restart(self) -> float | None:
        """Return how long to wait before starting again, in seconds; None where it should stay down."""
        if self.exit_wanted or not (self.config["restart"] or self.stop_failed):
            return None
        if time.time() - self.started > STEADY:
            self.crashes = 0  # one crash a week is not a loop of crashes
        if self.crashes >= len(PAUSES):
            self.gave_up = True
            return None
        self.crashes += 1
        return PAUSES[self.crashes - 1]

    # --- its console and its log -----------------------------------------------------------------------------------

    def output(self) -> int:
        """Return the handle from which the server's output comes, -1 where there is none."""
        return -1 if self._pipes is None else self._pipes.from_server

    def read_lines(self) -> list[bytes] | None:
        """Return the lines that have come; None at the end of the output."""
        try:
            data = os.read(self.output(), 65536)
        except BlockingIOError:
            return []
        except OSError:
            return None
        if not data:
            return None
        *lines, self.rest = (self.rest + data).split(b"\n")
        # A server that writes without line breaks must not fill the keeper's memory.
        if len(self.rest) > _LONGEST_LINE:
            lines, self.rest = [*lines, self.rest], b""
        return [line.rstrip(b"\r") for line in lines]

    def note_line(self, line: bytes) -> bool:
        """Notice who comes and goes; return whether this line is the ready sign."""
        self.last_words.append(line[:500].decode("utf-8", "replace"))
        if match := self._joined.search(line):
            self.players.add((match.groupdict().get("id") or match[0]).decode("utf-8", "replace"))
        elif match := self._left.search(line):
            self.players.discard((match.groupdict().get("id") or match[0]).decode("utf-8", "replace"))
        if self.ready is None and self._ready.search(line):
            self.ready = time.time()
            return True
        return False

    def send(self, text: str) -> str:
        """Write a line to the console. Give an empty text, or why it could not be done."""
        if first_unseen(text):
            return "a line break or a character that is not seen cannot be sent to a console"
        if self.process is None:
            return "the server does not run"
        if self.is_outside:
            return "its standard input is the keeper's only after its next start"
        if self._pipes is None or self._pipes.to_server < 0:
            return "its keeper died and was replaced, and the server's console could not be opened again"
        line = text.encode("utf-8", "replace") + b"\n"
        if len(line) > select.PIPE_BUF:
            # A pipe takes a longer line in parts: the server could get half a command, and the rest with the next one.
            return f"a line of more than {select.PIPE_BUF - 1} bytes cannot be sent whole"
        try:
            os.write(self._pipes.to_server, line)
        except BlockingIOError:
            return "the server does not read its console"
        except OSError as error:
            return f"the console is closed: {error.strerror}"
        return ""


def _send(process: int, sign: signal.Signals) -> None:
    """Send a signal to a process and to the group that it leads, or to what it has started.

    The group of one that leads none may hold other servers, where a script has started them all.
    """
    if os.getpgid(process) == process:
        os.killpg(process, sign)
        return
    for each in (process, *descendants(process)):
        with contextlib.suppress(ProcessLookupError):
            os.kill(each, sign)


def copy_started(config: KeeperConfig) -> None:
    """Keep copies of the files as the server reads them now; on a full disk, of those for which there is room."""
    folder = os.path.join(config["state"], "started")
    shutil.rmtree(folder, ignore_errors=True)
    with contextlib.suppress(OSError):
        os.mkdir(folder, 0o700)
    for path, source in config["files"].items():
        with contextlib.suppress(OSError):
            _copy(source, os.path.join(folder, path))


def _copy(source: str, target: str) -> None:
    """Copy a regular file of a sensible size; nothing else is read, for a pipe or a device might never end."""
    # The name may be a named pipe by now, or a link to what only the keeper may read.
    handle = open_real(source)
    with open(handle, "rb") as file:
        if os.fstat(handle).st_size > _LARGEST_COPY:
            return
        os.makedirs(os.path.dirname(target), 0o700, exist_ok=True)
        with open(os.open(target, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as copy:
            shutil.copyfileobj(file, copy)
