"""``roundgate timetable run``: a process that runs the timetable of a site, for servers without a keeper."""

from __future__ import annotations

import contextlib
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

from roundgate.host.errors import Trouble
from roundgate.host.keeper.interpreter import own
from roundgate.host.ownership import name_of_user
from roundgate.host.site import Site, read_site
from roundgate.host.site_file.checking import SITE_FILE
from roundgate.host.timetable.plan import timetable_of

_EVERY = 60.0
"""Seconds between looks, for the clock on the wall may be set."""
_LEAST = 1.0


def run_clock(folder: Path, report: Callable[[str], None]) -> None:
    """See to the timetable until SIGTERM or SIGINT; report what is done. What is under way then goes on by itself."""
    over = threading.Event()
    for sign in (signal.SIGTERM, signal.SIGINT):
        signal.signal(sign, lambda *_: over.set())
    told, mark = "", (0, 0)
    due: dict[str, float] = {}
    while not over.is_set():
        now = time.time()
        try:
            site = read_site(folder)
            found = (folder / SITE_FILE).stat()
            if mark != (mark := (found.st_mtime_ns, found.st_size)):
                due = dict.fromkeys(site.file.server, 0.0)
            for name in [name for name, at in due.items() if at <= now]:
                _look(site, name, report)
                due[name] = _next_look(site, name, now)
            told = ""
        except (Trouble, OSError) as error:  # somebody is editing it
            why = getattr(error, "what", None) or str(error)
            if why != told:
                report(f"{SITE_FILE} cannot be used: {why}")
            told = why
        over.wait(min(_EVERY, max(_LEAST, min(due.values(), default=now + _EVERY) - time.time())))


def _next_look(site: Site, name: str, now: float) -> float:
    """Return the next moment at which something of a server's timetable begins; never is infinite."""
    coming = (
        next((at - planned.lead for at in planned.moments(now) if at - planned.lead > now), float("inf"))
        for planned in timetable_of(site)
        if name in planned.servers
    )
    return min(coming, default=float("inf"))


def _look(site: Site, name: str, report: Callable[[str], None]) -> None:
    """Have a process of its own look at a server's timetable, and report what it prints; nobody waits for it."""
    process = subprocess.Popen(
        own("roundgate.host.timetable", str(site.folder), name),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        start_new_session=True,
    )

    def hear() -> None:
        assert process.stdout is not None
        # At the end of the clock the stream may be closed under its reader.
        with contextlib.suppress(ValueError):
            for line in process.stdout:
                report(line.rstrip("\n"))
        process.wait()

    threading.Thread(target=hear, daemon=True).start()


def clock_unit(site: Site) -> str:
    """Return the text of a systemd unit that runs the clock of a site."""
    folder = str(site.folder)
    quoted = f'"{folder}"' if " " in folder else folder
    name = site.file.site.name or site.folder.name
    return f"""[Unit]
Description=Round Gate: the timetable of {name.replace("%", "%%")}
After=network-online.target
Wants=network-online.target

[Service]
User={name_of_user(site.folder.stat().st_uid)}
ExecStart={sys.executable} -P -m roundgate --site {quoted.replace("%", "%%").replace("$", "$$")} clock
Restart=on-failure
KillMode=process
NoNewPrivileges=yes

[Install]
WantedBy=multi-user.target
"""
