"""Unpacking a backup into a new folder: what its manifest names, no larger than it says, and never through a link."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import IO

from roundgate.core.next_step import typed_command
from roundgate.host.backups.archives import (
    PLAIN_MODE,
    Progress,
    copy_counted,
    damage_told,
    leads_outside,
    members,
    refuse_odd,
)
from roundgate.host.backups.manifest import Manifest, SavedFile, archive_of
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.handles import opened_below
from roundgate.host.site import Site


def restore_to(
    site: Site, manifest: Manifest, to: Path, only: Sequence[str] = (), told: Progress | None = None
) -> list[str]:
    """Put a backup, or some files of it, into a folder that does not exist yet or is empty; return what came out.

    Every file is compared with its digest. The folder is filled beside its place and then renamed. Raises WrongUsage or
    Trouble; nothing is left behind then.
    """
    if to.exists() and (not to.is_dir() or any(to.iterdir())):
        raise WrongUsage(f"{to} already exists and is not empty.", "Name a new folder with --to.")
    names = (*(member.path for member in manifest.members), *dict(manifest.links))
    chosen = [name for name in names if _is_chosen(name, only)]
    for word in only:
        if not any(_is_chosen(name, [word]) for name in chosen):
            raise WrongUsage(
                f"Backup {manifest.number} has no '{word}'.", typed_command("backup check", "", manifest.number)
            )
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
    links: dict[str, str] = {}
    known = {*wanted, *dict(manifest.links)}
    # Held open from here on: the folder that is filled stays this one, whatever takes its name.
    home = os.open(into, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        with damage_told(archive):
            for found, source in members(archive, manifest):
                refuse_odd(found)
                if found.link:
                    links[found.path] = found.link
                elif found.path in chosen or found.path not in known:
                    _unpack(home, found.path, wanted.get(found.path), source, told)
                    came.append(found.path)
        # Last, and looked at all together, by the names that they will have: one may lead out by way of another.
        named = {PurePosixPath(path).as_posix(): link for path, link in links.items()}
        for path, link in links.items():
            if leads_outside(path, named):
                raise Trouble(f"The archive holds a link '{path}' that leads out of the folder. Nothing was restored.")
            if path in chosen or path not in known:
                with _place_for(home, path) as folder:
                    os.symlink(link, PurePosixPath(path).name, dir_fd=folder)
                came.append(path)
    finally:
        os.close(home)
    return came


def _unpack(home: int, path: str, member: SavedFile | None, source: IO[bytes] | None, told: Progress | None) -> None:
    """Write one file, durably, and compare it with its digest. Raises Trouble."""
    if member is None or source is None:
        raise Trouble(f"{path} is in the archive and not in its manifest. Nothing was restored.")
    with _place_for(home, path) as folder:
        # Never over a file that is there: the archive may name a path twice.
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
        with open(os.open(PurePosixPath(path).name, flags, 0o600, dir_fd=folder), "wb") as file:
            got = copy_counted(source, file, member.size, told)
            file.flush()
            os.fchmod(file.fileno(), member.mode & PLAIN_MODE)
            # Servers pick their newest world by its time.
            os.utime(file.fileno(), (member.changed, member.changed))
            os.fsync(file.fileno())
    if got != (member.size, member.digest):
        raise Trouble(f"{path} is not as it was saved: the archive is damaged. Nothing was restored.")


@contextmanager
def _place_for(home: int, path: str) -> Iterator[int]:
    """Open the folder for a path of the archive, made if need be; no link is followed.

    Raises Trouble where there can be nothing of that name, here or in the block of the caller: another file is in its
    way, or the name is too long.
    """
    try:
        with opened_below(home, PurePosixPath(path).parent.parts, makes=True) as folder:
            yield folder
    except (FileExistsError, NotADirectoryError, IsADirectoryError) as error:
        raise Trouble(
            f"The archive holds '{_short(path)}' and something else in its place. Nothing was restored."
        ) from error
    except OSError as error:
        if error.filename not in PurePosixPath(path).parts:  # it is not about this name, but about the disk
            raise
        why = (error.strerror or str(error)).lower()
        raise Trouble(f"The archive holds '{_short(path)}', which cannot be made here: {why}.") from error


def _short(path: str) -> str:
    return path if len(path) <= 100 else f"{path[:97]}..."
