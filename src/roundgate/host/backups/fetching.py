"""Files of a rented machine, fetched into a folder of the site, from which a backup is made like any other.

What a broken line leaves there is kept: the next attempt goes on with it.
"""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from msgspec import MsgspecError, Struct, field, json

from roundgate.core.next_step import typed_command
from roundgate.host.backups.trees import FetchedTree, must_have_room
from roundgate.host.errors import OutOfReach, Trouble
from roundgate.host.files import read_bytes, write_durably
from roundgate.host.keeper.record import boot_mark
from roundgate.host.rented.protocol import Progress, Remote, RemoteFiles, moment_of
from roundgate.host.servers import Server
from roundgate.host.site import PLACES, make_private

_PASSES = 3
"""How often what has changed meanwhile is fetched again."""
_LARGE = 4 * 1024 * 1024
_KEPT_EVERY = 2.0
"""Seconds between two notes of what has been fetched."""


class _Fetched(Struct):
    """What has been fetched so far."""

    boot: str = ""
    """The machine's boot: after another one, the end of a file may not have reached the disk."""
    begun: dict[str, Remote] = field(default_factory=dict)
    """Each file as the place listed it when its first byte was asked for."""
    done: set[str] = field(default_factory=set)


@contextmanager
def fetched(
    server: Server, roots: Sequence[str], *, home: str = "", told: Progress | None = None
) -> Iterator[FetchedTree]:
    """Fetch folders and files of a rented server; ``home`` is another folder there that holds the same as its own.

    The folder that they are in is removed at the end of the block, unless the place went out of reach or the command
    was ended. Raises OutOfReach, Trouble, OSError.
    """
    assert server.mirror is not None
    make_private(server.site.state / PLACES)
    folder = server.site.state / PLACES / f"{server.name}.saved{home.replace('/', '')}"
    fetch = _Fetch(server.mirror.remote, folder, f"{home}/" if home else "", told)
    try:
        yield FetchedTree(folder, fetch.all(roots))
    except OutOfReach as error:
        fetch.keep()
        raise OutOfReach(
            f"{error.what} {fetch.progress}",
            typed_command("backup make", server.name, hint="goes on where it was"),
        ) from error
    except (Trouble, OSError):  # such as a disk without room, of which this takes some
        fetch.forget()
        raise
    except BaseException:
        fetch.keep()
        raise
    else:
        fetch.forget()


def listed_size(files: RemoteFiles, roots: Sequence[str]) -> int:
    """Return the bytes of all files below folders of a place. Raises OutOfReach, Trouble."""
    return sum(one.size for _, one in _below(files, "", roots) if not one.leads_out)


def _below(files: RemoteFiles, home: str, roots: Sequence[str]) -> Iterator[tuple[str, Remote]]:
    """Yield the files below folders, and the files of these names; what is ours is left out."""
    for root in roots:
        start = home.rstrip("/") if root == "." else f"{home}{root.rstrip('/')}"
        found = files.find(start) if start else None
        if found is not None and not found.is_folder:
            yield root, found
            continue
        for path, one in files.walk(start):
            if not one.is_folder and not _is_ours(path.removeprefix(home)):
                yield path.removeprefix(home), one


def _is_ours(path: str) -> bool:
    return any(
        part.startswith((".roundgate", "roundgate-restore-")) or ".roundgate-" in part for part in path.split("/")
    )


class _Fetch:
    def __init__(self, files: RemoteFiles, folder: Path, home: str, told: Progress | None) -> None:
        self.files, self.folder, self.home, self.told = files, folder, home, told
        self.index = folder.with_name(f"{folder.name}.json")
        self.known = self._read()
        self.listed: dict[str, Remote] = {}
        self.kept = time.monotonic()
        self.refused: dict[str, str] = {}
        """Files that the place does not give, and why."""

    def _read(self) -> _Fetched:
        raw = read_bytes(str(self.index))
        with suppress(MsgspecError):
            known = json.decode(raw, type=_Fetched) if raw else _Fetched()
            if known.boot == boot_mark():
                return known
        shutil.rmtree(self.folder, ignore_errors=True)
        return _Fetched(boot_mark())

    def keep(self) -> None:
        """Note what has been fetched."""
        self.kept = time.monotonic()
        # Where it cannot be kept, all is fetched again.
        with suppress(OSError):
            write_durably(str(self.index), json.encode(self.known))

    def forget(self) -> None:
        """Remove what has been fetched."""
        shutil.rmtree(self.folder, ignore_errors=True)
        self.index.unlink(missing_ok=True)

    @property
    def progress(self) -> str:
        count = len(self.known.done & self.listed.keys())
        return f"{count} of {len(self.listed)} files are here already." if self.listed else ""

    def all(self, roots: Sequence[str]) -> list[str]:
        """Fetch what is not here yet, until nothing has changed meanwhile; return what was left out."""
        self.folder.mkdir(mode=0o700, exist_ok=True)
        for _ in range(_PASSES):
            listed = dict(_below(self.files, self.home, roots))
            left_out = [path for path, one in listed.items() if one.leads_out]
            self.listed = {path: one for path, one in listed.items() if not one.leads_out}
            self._drop_others()
            missing = [path for path in self.listed if not self._is_here(path) and path not in self.refused]
            if not missing:
                return left_out + [f"{path}: {why}" for path, why in self.refused.items()]
            self._refuse_without_room(missing)
            for path in missing:
                self._fetch(path)
        raise Trouble(
            f"{missing[0]} changes all the time, so it cannot be saved as one piece.",
            "Stop the server first, or let its rulebook hold its saving: [[server.hold]]",
        )

    def _is_here(self, path: str) -> bool:
        return path in self.known.done and self.known.begun.get(path) == self.listed[path]

    def _drop_others(self) -> None:
        """Remove what the place has no more."""
        for path in [path for path in self.known.begun if path not in self.listed]:
            (self.folder / path).unlink(missing_ok=True)
            self._forget(path)

    def _forget(self, path: str) -> None:
        self.known.begun.pop(path, None)
        self.known.done.discard(path)

    def _refuse_without_room(self, missing: Sequence[str]) -> None:
        # Once as the files themselves, and once as the archive.
        must_have_room(self.folder, 2 * sum(self.listed[path].size for path in missing))

    def _fetch(self, path: str) -> None:
        """Fetch a file, from where an earlier attempt at the same one broke off."""
        if time.monotonic() - self.kept > _KEPT_EVERY:
            self.keep()
        target, one = self.folder / path, self.listed[path]
        target.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        if self.known.begun.get(path) != one or path in self.known.done:
            self._forget(path)
            target.unlink(missing_ok=True)
        self.known.begun[path] = one
        if one.size > _LARGE:  # a killed command must not lose what it has of it
            self.keep()
        with target.open("ab") as file:
            os.fchmod(file.fileno(), 0o600)
            try:
                is_there = self.files.fetch(f"{self.home}{path}", _Counted(file, self.told), file.tell())
            except OutOfReach:
                raise
            except Trouble as error:  # by FTP, a link that leads out of the folder is listed like a file
                self.refused[path] = error.what
                is_there = False
        if is_there:
            self.known.done.add(path)
        else:
            target.unlink(missing_ok=True)
            self._forget(path)
            return
        moment = moment_of(one.modified)
        if moment is not None:  # servers pick their newest world by its time
            os.utime(target, (moment, moment))


class _Counted:
    """A file that tells how much comes into it."""

    def __init__(self, file: BinaryIO, told: Progress | None) -> None:
        self._file, self._told = file, told

    def write(self, data: bytes, /) -> None:
        self._file.write(data)
        if self._told is not None:
            self._told(len(data))
