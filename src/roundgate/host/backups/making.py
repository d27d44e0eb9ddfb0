"""Making a backup: every file is read by handles that follow no link, and the archive is read again afterwards."""

from __future__ import annotations

import errno
import hashlib
import os
import stat
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path, PurePath
from typing import BinaryIO, NamedTuple

from filelock import FileLock, Timeout

from roundgate.core.next_step import typed_command
from roundgate.core.notices.model import Notice, NoticeEvent
from roundgate.host.backups.archives import (
    PLAIN_MODE,
    Progress,
    Readable,
    Writer,
    copy_counted,
    leads_outside,
    verify,
    writing,
)
from roundgate.host.backups.manifest import (
    ENDINGS,
    Manifest,
    SavedFile,
    folder_of,
    next_number,
    prune,
    write_manifest,
)
from roundgate.host.backups.trees import FetchedTree, must_have_room
from roundgate.host.errors import Busy, Trouble
from roundgate.host.notices.outbox import tell
from roundgate.host.places import Folder, Found
from roundgate.host.servers import Server
from roundgate.host.site import Site

_TRIES = 3
"""How often a file is read that changes while it is read."""


class _Entry(NamedTuple):
    path: str
    """From the server's folder."""
    size: int
    target: str
    """Of a link, what it points to."""


_TURN_WITHIN = 6 * 3600.0
"""Seconds that a backup waits for those before it: one that takes longer has been forgotten."""


@contextmanager
def turn(site: Site, waits: Callable[[], None] = lambda: None) -> Iterator[None]:
    """Wait until no other backup of the site is being made: two at once would take each other's room on the disk.

    ``waits`` is called where there is one to wait for. Take the turn before a server's saving is held, or it is held
    for as long as the others take. Raises Busy where it takes hours.
    """
    lock = FileLock(str(folder_of(site) / ".lock"), timeout=0)
    try:
        try:
            lock.acquire()
        except Timeout:
            waits()
            lock.acquire(timeout=_TURN_WITHIN)
    except Timeout as error:
        raise Busy(
            "Another backup of this site has been at work for hours.",
            typed_command("backup list", hint="to see which"),
        ) from error
    try:
        yield
    finally:
        lock.release()


def make_backup(
    server: Server,
    what: str,
    kind: str = "tar.zst",
    *,
    held: bool = True,
    told: Progress | None = None,
    home: str = "",
    prunes: bool = True,
    incoming: Progress | None = None,
) -> tuple[Manifest, list[int]]:
    """Make a backup of a server's worlds, or of its whole folder, and read it again to see that it is right.

    Call it within ``turn``.

    ``home`` is a folder in the server's own that holds the same, ``prunes`` whether older backups go as configured,
    and ``incoming`` is told of what comes from a rented machine. Returns it, and the numbers of the older ones that
    were deleted. Raises Trouble, Busy, OutOfReach, or OSError for a full disk; what was begun is then deleted, and a
    notice is sent.
    """
    try:
        with _files_of(server, what, home, incoming) as tree:
            return _made(server, tree, _Plan(what, kind, held), told, prunes=prunes)
    except (Trouble, OSError) as error:
        if not isinstance(error, Busy):
            why = error.what if isinstance(error, Trouble) else f"{error.strerror or error}."
            tell(
                server.site,
                Notice(NoticeEvent.BACKUP_FAILED, f"No backup of {server.name} was made: {why}", server.name),
            )
        raise


@contextmanager
def _files_of(server: Server, what: str, home: str, told: Progress | None) -> Iterator[FetchedTree]:
    """Have what is to be saved in a folder of this machine. Raises Trouble, OutOfReach, OSError."""
    if server.mirror is None:
        yield FetchedTree(server.folder / home, ())
        return
    from roundgate.host.backups.fetching import fetched  # most servers are here

    with fetched(server, _roots(server, what), home=home, told=told) as tree:
        yield tree


def size_of(server: Server, what: str) -> int:
    """Return the bytes that a backup would hold. Raises Trouble, OutOfReach."""
    if server.mirror is not None:
        from roundgate.host.backups.fetching import listed_size  # as in _files_of

        return listed_size(server.mirror.remote, _roots(server, what))
    found, _ = _entries(server, server.folder, what, folder_of(server.site))
    return sum(entry.size for entry in found)


def _made(
    server: Server, tree: FetchedTree, plan: _Plan, told: Progress | None, *, prunes: bool
) -> tuple[Manifest, list[int]]:
    site = server.site
    folder = folder_of(site)
    found, left_out = _entries(server, tree.folder, plan.what, folder)
    must_have_room(folder, sum(entry.size for entry in found))
    number = next_number(site)
    path = folder / f"{number}-{server.name}{ENDINGS[plan.kind]}"
    plan = plan._replace(entries=found, left_out=[*left_out, *tree.left_out])
    try:
        manifest = _written(server, tree.folder, number, plan, path, told)
        # Read back from the disk: a backup that nobody has read is a hope.
        wrong = verify(path, manifest, told)
        if wrong:
            raise Trouble(f"The backup was not right when it was read again: {wrong[0]}. It was deleted.")
        # Last: an archive counts as a backup once its manifest is there.
        write_manifest(site, manifest)
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return manifest, prune(site, server.name) if prunes else []


def _roots(server: Server, what: str) -> list[str]:
    """Name the folders that a backup holds. Raises Trouble where the rulebook names none."""
    roots = ["."] if what == "whole" else list(server.book.server.worlds)
    if not roots:
        raise Trouble(
            f"The rulebook of {server.name} names no folders with worlds.",
            typed_command("backup make", server.name, options=("--whole",)),
        )
    return roots


def _entries(server: Server, home: Path, what: str, backups: Path) -> tuple[list[_Entry], list[str]]:
    roots = _roots(server, what)
    there = [found for root in roots for found in _below(Folder(str(home)), root, backups)]
    links = {found.path: found.target for found in there if found.target}
    found: list[_Entry] = []
    left_out: list[str] = []
    for name, about, target in there:
        if stat.S_ISLNK(about.st_mode):
            if leads_outside(name, links):
                left_out.append(f"{name} -> {target}")
            else:
                found.append(_Entry(name, 0, target))
        elif stat.S_ISREG(about.st_mode):
            found.append(_Entry(name, about.st_size, ""))
        elif not stat.S_ISDIR(about.st_mode):
            left_out.append(name)
    if not found:
        raise Trouble(f"There is nothing to save in {', '.join(roots)} of {server.name}.")
    return found, left_out


def _below(home: Folder, root: str, backups: Path) -> Iterator[Found]:
    """Yield what is in a folder and below it, or the file of that name; links never followed, and no backups."""
    real = os.path.realpath(backups)

    def skips(path: str) -> bool:
        # A backup of the backups would grow with each one.
        return PurePath(path).name.startswith(".roundgate") or os.path.realpath(Path(home.root) / path) == real

    about = None
    with suppress(FileNotFoundError), home.exact(root) as place:
        about = place.stat()
    if about is not None and stat.S_ISREG(about.st_mode):
        yield Found(root, about, "")
    elif about is not None and stat.S_ISDIR(about.st_mode):
        yield from home.walk(root, skips)


class _Plan(NamedTuple):
    """What is to be saved."""

    what: str
    kind: str
    held: bool
    entries: Sequence[_Entry] = ()
    left_out: Sequence[str] = ()


def _written(server: Server, home: Path, number: int, plan: _Plan, path: Path, told: Progress | None) -> Manifest:
    saved: list[SavedFile] = []
    links: list[tuple[str, str]] = []
    gone = list(plan.left_out)
    folder = Folder(str(home))
    with writing(path, plan.kind) as archive:
        for entry in plan.entries:
            if entry.target:
                archive.link(entry.path, entry.target)
                links.append((entry.path, entry.target))
                continue
            member = _add_file(archive, folder, entry.path, server.name, told)
            if member is None:
                gone.append(entry.path)
            else:
                saved.append(member)
    made = time.time()
    kept = (tuple(saved), tuple(links), tuple(gone))
    return Manifest(number, server.name, made, plan.what, plan.kind, *kept, plan.held)


def _add_file(archive: Writer, folder: Folder, path: str, server: str, told: Progress | None) -> SavedFile | None:
    """Put one file into an archive; None where it has gone. Raises Trouble, also where a link took its place."""
    try:
        # By the handles of its folders: whoever owns them could put a link to another's file there at any instant.
        with folder.exact(path) as place:
            source = place.open()
    except FileNotFoundError:
        return None
    except OSError as error:
        if error.errno != errno.ELOOP:
            raise
        raise Trouble(f"{path} was replaced by a link while it was saved. The backup was deleted.") from error
    with source:
        member = _counted(source, path, told)
        source.seek(0)
        archive.file(member, _Exactly(source, member, server))
    return member


def _counted(file: BinaryIO, name: str, told: Progress | None) -> SavedFile:
    """Read a file for its digest, again where it changes meanwhile. Raises Trouble."""
    for _ in range(_TRIES):
        before = os.fstat(file.fileno())
        file.seek(0)
        size, digest = copy_counted(file, None, told=told)
        after = os.fstat(file.fileno())
        if (before.st_size, before.st_mtime_ns) == (after.st_size, after.st_mtime_ns) and size == after.st_size:
            return SavedFile(name, size, digest, after.st_mode & PLAIN_MODE, after.st_mtime)
    raise Trouble(
        f"{name} changes all the time, so it cannot be saved as one piece.",
        "Stop the server first, or let its rulebook hold its saving: [[server.hold]]",
    )


class _Exactly:
    """Reads a file that must still be what was counted; it may not be saved as a mixture. Raises Trouble at its end."""

    def __init__(self, source: Readable, member: SavedFile, server: str) -> None:
        self.source, self.member, self.server = source, member, server
        self.seen, self.left = hashlib.sha256(), member.size

    def read(self, size: int = -1, /) -> bytes:
        """Read on."""
        wanted = self.left if size < 0 else min(size, self.left)
        piece = self.source.read(wanted)
        self.seen.update(piece)
        self.left -= len(piece)
        if (not piece and wanted) or (not self.left and self.seen.hexdigest() != self.member.digest):
            raise Trouble(
                f"{self.member.path} changed while it was saved. The backup was deleted.",
                typed_command("stop", self.server, hint="or try again"),
            )
        return piece
