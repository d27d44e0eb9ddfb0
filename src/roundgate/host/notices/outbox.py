"""The outbox: notices that wait to be sent, a folder for each recipient, and what became of those before.

Whoever has something to tell writes it down here and starts the process that sends; nobody waits for that. What cannot
be written, on a full disk, is lost: a notice never holds up a round.
"""

from __future__ import annotations

import contextlib
import os
import sys
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import DecodeError, Struct, ValidationError, json
from msgspec.structs import replace

from roundgate.core.notices.model import Notice, NoticeEvent
from roundgate.host.keeper.interpreter import own
from roundgate.host.notices.tables import Mail, Webhook
from roundgate.host.site import Site, make_private
from roundgate.host.site_file.checking import servers_meant

_LOG = "notices.jsonl"
_LARGEST_LOG = 256 * 1024


class Delivery(Struct, frozen=True):
    """What became of a notice for one recipient."""

    at: float
    to: str
    event: str
    server: str
    done: bool
    detail: str = ""
    """Why it was not taken, or by how many tries it was."""


def recipients_of(site: Site, notice: Notice) -> list[str]:
    """Return the names of those that a notice is for."""
    return [name for name, recipient in site.file.notices.recipients.items() if _wants(site, recipient, notice)]


def _wants(site: Site, recipient: Webhook | Mail, notice: Notice) -> bool:
    if notice.event is not NoticeEvent.TEST and recipient.on and str(notice.event) not in recipient.on:
        return False
    if not recipient.servers or not notice.server:
        return True
    return notice.server in servers_meant(site.file, recipient.servers)


def tell(site: Site, notice: Notice) -> None:
    """Write a notice down for those that it is for, and have it sent. Never raises and never waits."""
    # Whether somebody is told decides nothing: on a full disk the server still goes down and comes up.
    with contextlib.suppress(OSError):
        if put(site, notice, recipients_of(site, notice)):
            start_sender(site)


def dated(site: Site, notice: Notice) -> Notice:
    """Return a notice with its moment, and the name of its site."""
    at = notice.at or time.time()
    when = time.strftime("%Y-%m-%d %H:%M %Z", time.localtime(at))
    return replace(notice, at=at, when=when, site=site.file.site.name or site.folder.name)


def put(site: Site, notice: Notice, names: Sequence[str]) -> bool:
    """Write a notice down for recipients; return whether there are any. Raises OSError."""
    whole = dated(site, notice)
    for name in names:
        folder = folder_of(site, name)
        # In the order of their names, and none twice.
        path = folder / f"{time.time_ns()}-{os.getpid()}.json"
        fresh = path.with_suffix(".new")
        handle = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with os.fdopen(handle, "wb") as file:
            file.write(json.encode(whole))
        # Under its own name only when it is whole: the sender may look at any moment.
        fresh.rename(path)
    return bool(names)


def start_sender(site: Site) -> None:
    """Start the process that sends what waits, detached from this one. Raises OSError."""
    command = own("roundgate.host.notices", "send", str(site.folder))
    nowhere = [(os.POSIX_SPAWN_OPEN, handle, os.devnull, os.O_RDWR, 0) for handle in (0, 1, 2)]
    # Nobody waits for it: a recipient that hangs must not hold up a round.
    os.posix_spawn(sys.executable, command, os.environ, file_actions=nowhere, setsid=True)


def folder_of(site: Site, recipient: str) -> Path:
    """Return the folder with what waits for a recipient, made if need be, for this user only. Raises OSError."""
    make_private(site.state)
    outbox = site.state / "outbox"
    make_private(outbox)
    make_private(outbox / recipient)
    return outbox / recipient


def waiting(site: Site, recipient: str) -> list[tuple[Path, Notice | None]]:
    """Return what waits for a recipient, the oldest first; None for what cannot be read. Raises OSError."""
    found: list[tuple[Path, Notice | None]] = []
    for path in sorted(folder_of(site, recipient).glob("*.json")):
        notice = None
        # A sender at work deletes what it has sent; what is damaged is given as such, for it must not be tried for
        # ever.
        with contextlib.suppress(DecodeError, ValidationError, FileNotFoundError):
            notice = json.decode(path.read_bytes(), type=Notice)
        found.append((path, notice))
    return found


def note(site: Site, delivery: Delivery) -> None:
    """Write down what became of a notice; of a long list the older half is kept in a file beside it."""
    path = site.state / _LOG
    with contextlib.suppress(OSError):
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_CLOEXEC, 0o600)
        with os.fdopen(handle, "ab", buffering=0) as file:
            file.write(json.encode(delivery) + b"\n")
            if os.fstat(file.fileno()).st_size > _LARGEST_LOG:
                path.replace(path.with_suffix(".jsonl.1"))


def deliveries(site: Site) -> Iterator[Delivery]:
    """Yield what became of notices, the oldest first."""
    for name in (_LOG + ".1", _LOG):
        lines: list[bytes] = []
        with contextlib.suppress(OSError):
            lines = (site.state / name).read_bytes().splitlines()
        for line in lines:
            with contextlib.suppress(DecodeError, ValidationError):
                yield json.decode(line, type=Delivery)
