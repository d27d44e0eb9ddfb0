"""Making a backup, and putting one back."""

from __future__ import annotations

import hashlib
import os
import shutil
import stat
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, NamedTuple

from filelock import FileLock, Timeout

from roundgate.core.notices.model import Notice, NoticeEvent
from roundgate.host.backups.archives import (
    Progress,
    Readable,
    copy_counted,
    damage_told,
    leads_outside,
    members,
    refuse_outside,
    verify,
    writing,
)
from roundgate.host.backups.manifest import (
    ENDINGS,
    Manifest,
    SavedFile,
    archive_of,
    folder_of,
    next_number,
    prune,
    write_manifest,
)
from roundgate.host.errors import Busy, Trouble, WrongUsage
from roundgate.host.notices.outbox import tell
from roundgate.host.servers import Server
from roundgate.host.site import Site

_TRIES = 3
"""How often a file is read that changes while it is read."""
_ROOM = 64 * 1024 * 1024
"""Bytes that stay free."""


class _Entry(NamedTuple):
    path: str
    """From the server's folder."""
    size: int
    target: str
    """Of a link, what it points to."""


def make_backup(
    server: Server,
    what: str,
    kind: str = "tar.zst",
    *,
    held: bool = True,
    told: Progress | None = None,
    home: Path | None = None,
    prunes: bool = True,
) -> tuple[Manifest, list[int]]:
    """Make a backup of a server's worlds, or of its whole folder, and read it again to see that it is right.

    ``home`` is another folder that holds the same, ``prunes`` whether older backups go as the site file says. Gives it,
    and the numbers of the older ones that were deleted. Raises Trouble, Busy, or OSError for a full disk; what was
    begun is then deleted, and it is told outward.
    """
    try:
        return _made(server, home or server.folder, _Plan(what, kind, held), told, prunes=prunes)
    except (Trouble, OSError) as error:
        if not isinstance(error, Busy):
            why = error.what if isinstance(error, Trouble) else f"{error.strerror or error}."
            tell(
                server.site,
                Notice(NoticeEvent.BACKUP_FAILED, f"No backup of {server.name} was made: {why}", server.name),
            )
        raise


def size_of(server: Server, what: str) -> int:
    """Give the bytes that a backup would hold. Raises Trouble."""
    found, _ = _entries(server, server.folder, what, folder_of(server.site))
    return sum(entry.size for entry in found)


def _made(
    server: Server, home: Path, plan: _Plan, told: Progress | None, *, prunes: bool
) -> tuple[Manifest, list[int]]:
    site = server.site
    folder = folder_of(site)
    lock = FileLock(str(folder / ".lock"), timeout=0)
    try:
        lock.acquire()
    except Timeout as error:
        raise Busy("Another backup is being made on this site.", "Try again when it is done.") from error
    try:
        found, left_out = _entries(server, home, plan.what, folder)
        must_have_room(folder, sum(entry.size for entry in found))
        number = next_number(site)
        path = folder / f"{number}-{server.name}{ENDINGS[plan.kind]}"
        try:
            manifest = _written(server, home, number, plan._replace(entries=found, left_out=left_out), path, told)
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
    finally:
        lock.release()


def _entries(server: Server, home: Path, what: str, backups: Path) -> tuple[list[_Entry], list[str]]:
    roots = ["."] if what == "whole" else list(server.book.server.worlds)
    if not roots:
        raise Trouble(
            f"The rulebook of {server.name} names no folders with worlds.", f"roundgate backup {server.name} --whole"
        )
    found: list[_Entry] = []
    left_out: list[str] = []
    for root in roots:
        for path in _below(home, root, backups):
            name = path.relative_to(home).as_posix()
            status = path.lstat()
            if stat.S_ISLNK(status.st_mode):
                target = str(path.readlink())
                if leads_outside(name, target):
                    left_out.append(f"{name} -> {target}")
                else:
                    found.append(_Entry(name, 0, target))
            elif stat.S_ISREG(status.st_mode):
                found.append(_Entry(name, status.st_size, ""))
            else:
                left_out.append(name)
    if not found:
        raise Trouble(f"There is nothing to save in {', '.join(roots)} of {server.name}.")
    return found, left_out


def _below(home: Path, root: str, backups: Path) -> Iterator[Path]:
    """Give what is in a folder and below it, links never followed, and no backups."""
    start = home / root
    if start.is_symlink() or not start.exists():
        return
    if start.is_file():
        yield start
        return
    for folder, folders, names in os.walk(start, followlinks=False):
        here = Path(folder)
        for name in list(folders):
            if (here / name).is_symlink():
                folders.remove(name)
                yield here / name
            # A backup of the backups would grow with each one.
            elif (here / name).resolve() == backups.resolve() or name.startswith(".roundgate"):
                folders.remove(name)
        folders.sort()
        yield from (here / name for name in sorted(names))


def must_have_room(folder: Path, needed: int) -> None:
    """See that so many bytes find room, and some are left. Raises Trouble."""
    free = shutil.disk_usage(folder).free
    if free < needed + _ROOM:
        raise Trouble(
            f"There may be no room for the backup: {needed >> 20} MB are to be saved, and {free >> 20} MB are free.",
            "Make room, or delete older backups.",
        )


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
    with writing(path, plan.kind) as archive:
        for entry in plan.entries:
            if entry.target:
                archive.link(entry.path, entry.target)
                links.append((entry.path, entry.target))
                continue
            member = _counted(home / entry.path, entry.path, told)
            if member is None:
                gone.append(entry.path)
                continue
            with (home / entry.path).open("rb") as source:
                archive.file(member, _Exactly(source, member, server.name))
            saved.append(member)
    made = time.time()
    kept = (tuple(saved), tuple(links), tuple(gone))
    return Manifest(number, server.name, made, plan.what, plan.kind, *kept, plan.held)


def _counted(path: Path, name: str, told: Progress | None) -> SavedFile | None:
    """Read a file for its digest, again where it changes meanwhile; None where it has gone. Raises Trouble."""
    for _ in range(_TRIES):
        try:
            before = path.stat()
            with path.open("rb") as file:
                size, digest = copy_counted(file, None, told)
            after = path.stat()
        except FileNotFoundError:
            return None
        if (before.st_size, before.st_mtime_ns) == (after.st_size, after.st_mtime_ns) and size == after.st_size:
            return SavedFile(name, size, digest, stat.S_IMODE(after.st_mode), after.st_mtime)
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
                f"roundgate stop {self.server}, or try again",
            )
        return piece


def restore_to(
    site: Site, manifest: Manifest, to: Path, only: Sequence[str] = (), told: Progress | None = None
) -> list[str]:
    """Put a backup, or some files of it, into a folder that does not exist yet or is empty; give what came out.

    Every file is compared with its digest. The folder is filled beside its place and then renamed. Raises WrongUsage or
    Trouble; nothing is left behind then.
    """
    if to.exists() and (not to.is_dir() or any(to.iterdir())):
        raise WrongUsage(f"{to} already exists and is not empty.", "Name a new folder with --to.")
    wanted = {member.path: member for member in manifest.members}
    chosen = [name for name in (*wanted, *dict(manifest.links)) if _is_chosen(name, only)]
    for word in only:
        if not any(_is_chosen(name, [word]) for name in chosen):
            raise WrongUsage(f"Backup {manifest.number} has no '{word}'.", f"roundgate backup check {manifest.number}")
    to.parent.mkdir(parents=True, exist_ok=True)
    begun = to.parent / f".{to.name}.roundgate-restore"
    shutil.rmtree(begun, ignore_errors=True)
    begun.mkdir(mode=0o700)
    try:
        came = _unpacked(archive_of(site, manifest), manifest, begun, set(chosen), told)
        missing = sorted(set(chosen) - set(came))
        if missing:
            raise Trouble(f"The archive of backup {manifest.number} has no {missing[0]}. Nothing was restored.")
        if to.exists():
            to.rmdir()
        begun.rename(to)
    except BaseException:
        shutil.rmtree(begun, ignore_errors=True)
        raise
    return came


def _is_chosen(name: str, only: Sequence[str]) -> bool:
    return not only or any(name == word or name.startswith(word.rstrip("/") + "/") for word in only)


def _unpacked(archive: Path, manifest: Manifest, into: Path, chosen: set[str], told: Progress | None) -> list[str]:
    wanted = {member.path: member for member in manifest.members}
    came: list[str] = []
    links: list[tuple[str, str]] = []
    known = {*wanted, *dict(manifest.links)}
    with damage_told(archive):
        for found, source in members(archive, manifest.format):
            if found.path in known and found.path not in chosen:
                continue
            refuse_outside(found)
            if found.link:
                links.append((found.path, found.link))
                continue
            _unpack(found.path, wanted.get(found.path), source, into, told)
            came.append(found.path)
    for path, link in links:  # last, so that no file can be written through one
        target = into / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.symlink_to(link)
        came.append(path)
    return came


def _unpack(path: str, member: SavedFile | None, source: IO[bytes] | None, into: Path, told: Progress | None) -> None:
    """Write one file, durably, and compare it with its digest. Raises Trouble."""
    if member is None or source is None:
        raise Trouble(f"{path} is in the archive and not in its manifest. Nothing was restored.")
    target = into / path
    target.parent.mkdir(parents=True, exist_ok=True)
    # Never over a file that is there: the archive may name a path twice.
    with target.open("xb") as file:
        got = copy_counted(source, file, told)
        os.fchmod(file.fileno(), member.mode)
        os.fsync(file.fileno())
    if got != (member.size, member.digest):
        raise Trouble(f"{path} is not as it was saved: the archive is damaged. Nothing was restored.")
    # Servers pick their newest world by its time.
    os.utime(target, (member.changed, member.changed))
