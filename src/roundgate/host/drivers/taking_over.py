"""A server that already runs: who holds it, which driver fits, and handing it to a keeper without a stop.

Sources: cgroups(7) for units, proc(5) for processes; a multiplexer and a container are known by their names.
"""

from __future__ import annotations

import os
import re
import subprocess
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path

import psutil
from msgspec import Struct, field, json

from roundgate.core.next_step import typed_command
from roundgate.core.patterns import compiled
from roundgate.core.text import decode
from roundgate.host import machine
from roundgate.host.drivers.keeper_link import KeeperLink, start_keeper
from roundgate.host.errors import KeeperGone, Trouble
from roundgate.host.files import Folder
from roundgate.host.keeper.child import copy_started
from roundgate.host.keeper.config import write_config
from roundgate.host.keeper.record import ProcessRecord, birth_of, boot_mark, write_record
from roundgate.host.servers import Server

_MULTIPLEXERS = ("tmux", "screen")
_CONTAINERS = re.compile(r"docker|libpod|podman|lxc|kubepods|containerd|machine-")
_UNIT = re.compile(r"([^/]+\.service)(?:/[^/]*)?$", re.MULTILINE)
_SHELLS = ("sh", "bash", "dash", "zsh", "ksh", "fish")
_LOOP = re.compile(r"^[ \t]*(?:while|until)\b", re.MULTILINE)
_WITHIN = 10.0
_LOOKS = 4
_PAUSE = 0.25


class RunningServer(Struct, frozen=True):
    """A server's process that was found, and how it is held."""

    process: int
    command: Sequence[str]
    run_in: str
    user: str
    driver: str
    """As in the site file."""
    why: str
    """What was seen of whoever holds it, for a person."""
    more: Mapping[str, str] = field(default_factory=dict)
    """Further keys of the site file, as TOML."""

    @property
    def lines(self) -> dict[str, str]:
        """The keys of the site file that make the driver."""
        return ({} if self.driver == "keeper" else {"driver": f'"{self.driver}"'}) | dict(self.more)


def find_running(folder: Path, pattern: str, name: str, start: Sequence[str]) -> RunningServer:
    """Find the process of a server by the folder that it works in, and see who holds it.

    ``pattern`` is the rulebook's for its command line; without one every process there counts. ``start`` is its start
    command, empty where none is known. Raises Trouble where none or several are found, or it is in a container.
    """
    try:
        return _find(folder, pattern, name, start)
    except psutil.Error as error:
        raise Trouble(f"The process in {folder} has just ended.", typed_command("adopt", "", str(folder))) from error


def _find(folder: Path, pattern: str, name: str, start: Sequence[str]) -> RunningServer:
    ours = {psutil.Process(), *psutil.Process().parents()}
    wanted = compiled(pattern) if pattern else None
    for _ in range(_LOOKS):
        there = [process for process in psutil.process_iter() if process not in ours and _works_in(process, folder)]
        found = [process for process in there if wanted is None or wanted.search(" ".join(_words(process)))]
        tops = [process for process in found if _is_top(process, found)]
        if len(tops) < 2:
            break
        time.sleep(_PAUSE)  # one that is over by then, such as a command of a script, is not the server
    if not tops:
        what = f", and whose command line fits the rulebook's '{pattern}'" if pattern and there else ""
        raise Trouble(f"No process was found that works in {folder}{what}.", typed_command("adopt", "", str(folder)))
    if len(tops) > 1:
        names = ", ".join(machine.name_process(process.pid) for process in tops)
        raise Trouble(f"Several processes work in {folder}: {names}.", "End those that are not the server, or stop it.")
    return _held(tops[0], there, name, start)


def _held(process: psutil.Process, there: Sequence[psutil.Process], name: str, start: Sequence[str]) -> RunningServer:
    groups = _groups(process)
    if _CONTAINERS.search(groups):
        raise Trouble(
            f"{machine.name_process(process.pid)} runs in a container, which no driver can take over.",
            'Adopt it without --running, with driver = "commands" and the container\'s start, stop and alive.',
        )
    unit = _unit_of(process, groups)
    if unit:
        user_unit, service = unit
        more = {"unit": _text(service)} | ({"user-unit": "true"} if user_unit else {})
        return _running(process, "systemd", f"it is the main process of {service}", more)
    above = process.parents()
    holder = next((parent for parent in above if _command_name(parent).startswith(_MULTIPLEXERS)), None)
    if holder is not None:
        kind = "tmux" if _command_name(holder).startswith("tmux") else "screen"
        if holder.uids().real != os.geteuid():
            # Its socket is that user's: whoever talks to it hands over his environment.
            who = holder.username()
            raise Trouble(
                f"{machine.name_process(process.pid)} runs in {kind} of {who}.", f"Adopt it as {who}, or stop it there."
            )
        call = _new_session(kind, process, name, start or _words(process))
        more = {"commands": f"{{ start = {json.encode(call).decode()} }}"}
        return _running(process, "commands", f"it runs in {kind}", more)
    script = above[0] if above and above[0] in there else None
    if script is not None and _has_loop(script):
        return _running(process, "self", f"{machine.name_process(script.pid)} starts it again in a loop")
    return _running(process, "keeper", "nothing restarts it")


def _running(process: psutil.Process, driver: str, why: str, more: Mapping[str, str] | None = None) -> RunningServer:
    return RunningServer(process.pid, _words(process), process.cwd(), process.username(), driver, why, more or {})


def _text(text: str) -> str:
    return json.encode(text).decode()


def _works_in(process: psutil.Process, folder: Path) -> bool:
    # It has ended, or is another user's.
    with suppress(psutil.Error):
        return not _is_prompt(process) and Path(process.cwd()).is_relative_to(folder)
    return False


def _is_prompt(process: psutil.Process) -> bool:
    """Return whether a process is a shell at whose prompt somebody works in that folder."""
    words = _words(process)
    is_shell = Path(words[0].lstrip("-")).name in _SHELLS if words else False
    return is_shell and all(word.startswith("-") for word in words[1:]) and "-c" not in words


def _words(process: psutil.Process) -> list[str]:
    try:
        return process.cmdline()
    except psutil.Error:
        return []


def _command_name(process: psutil.Process) -> str:
    try:
        return process.name().lower()
    except psutil.Error:
        return ""


def _is_top(process: psutil.Process, found: Sequence[psutil.Process]) -> bool:
    """Return whether a process lives, and was not started by another one of those."""
    try:
        return process.parent() not in found and process.is_running()
    except psutil.Error:
        return False


def _groups(process: psutil.Process) -> str:
    try:
        return Path(f"/proc/{process.pid}/cgroup").read_text("utf-8")
    except OSError:
        return ""


def _unit_of(process: psutil.Process, groups: str) -> tuple[bool, str] | None:
    """Return the unit whose main process this is, and whether it is one of the user's; systemd is asked."""
    for service in dict.fromkeys(_UNIT.findall(groups)):
        for user_unit in (False, True):
            call = ("systemctl", *(["--user"] if user_unit else []), "show", "--property=MainPID", service)
            # No systemd here, or it does not answer: then it holds nothing that we could give it back to.
            with suppress(OSError, subprocess.SubprocessError):
                done = subprocess.run(call, capture_output=True, text=True, timeout=_WITHIN, check=False)
                if f"MainPID={process.pid}" in done.stdout.splitlines():
                    return user_unit, service
    return None


def _new_session(kind: str, process: psutil.Process, name: str, start: Sequence[str]) -> list[str]:
    if kind == "screen":
        return ["screen", "-dmS", name, *start]
    socket = ""
    with suppress(psutil.Error):
        socket = process.environ().get("TMUX", "").partition(",")[0]
    # One word alone would be a line for the login shell, which may be none, and reads the spaces of a path.
    command = ["env", *start] if len(start) == 1 else start
    return ["tmux", *(["-S", socket] if socket else []), "new-session", "-d", "-s", name, *command]


def _has_loop(script: psutil.Process) -> bool:
    """Return whether a process runs a script in which something is done again and again."""
    words = _words(script)
    if "-c" in words:
        return _LOOP.search("\n".join(words[words.index("-c") + 1 :])) is not None
    # A link, a device, or what is not there: it is not looked into.
    with suppress(OSError, psutil.Error, Trouble):
        home = Folder(script.cwd())
        texts = (home.read(word) for word in words[1:] if not word.startswith("-"))
        return any(text is not None and _LOOP.search(decode(text).body) for text in texts)
    return False


def hand_to_keeper(server: Server, process: int) -> None:
    """Have a keeper hold a server that somebody else has started; the server does not notice. Raises Trouble.

    Its standard input and output stay where they are until its next start. The caller holds the server.
    """
    birth = birth_of(process)
    if birth is None:
        raise Trouble(f"{server.name} has just ended.", typed_command("start", server.name))
    with suppress(KeeperGone):  # one without a server may be left over
        link = KeeperLink(server.state)
        link.ask("leave")
        link.close()
    config = server.keeper_config()
    write_config(config)
    copy_started(config)
    server.remember_book()
    record: ProcessRecord = {
        "process": process,
        "birth": birth,
        "boot": boot_mark(),
        "started": machine.started_at(process) or time.time(),
        "ready": time.time(),
        "wanted": True,
        "crashes": 0,
        "players": [],
        "round": None,
        "outside": True,
    }
    write_record(server.state, record)
    start_keeper(server.state).close()
