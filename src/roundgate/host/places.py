"""Where a server's files really are, and work on them that cannot be led elsewhere.

A path is resolved once, checked against the folders that may be written, and then walked from that folder down by
handles that follow no links. Whoever swaps a folder for a link in between gets an error, not another file.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from functools import cache
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

from msgspec import Struct

from roundgate.host.errors import Trouble
from roundgate.host.handles import NotAFile, open_regular, opened_below

LARGEST = 200 * 1024 * 1024
"""Bytes; a larger file is not a configuration file."""
_TRIES = 5
_DEEPEST = 100
"""Folders in folders; a tree that is deeper was not made by a game."""


class OpenPlace(NamedTuple):
    """A name in an open folder."""

    folder: int
    name: str
    path: str
    """The path as the server's owner knows it, for messages."""

    def beside(self, name: str) -> OpenPlace:
        """Give another name in the same folder."""
        return OpenPlace(self.folder, name, self.path)

    def read(self) -> bytes | None:
        """Return the bytes of the file here, None where there is none. Raises OSError for anything else."""
        try:
            handle = open_regular(self.folder, self.name, self.path)
        except FileNotFoundError:
            return None
        return read_handle(handle, self.path)

    def open(self) -> BinaryIO:
        """Open the file here for reading. Raises OSError or NotAFile."""
        return open(open_regular(self.folder, self.name, self.path), "rb")

    def open_pipe(self) -> int:
        """Open what is here for writing, now or never. Raises OSError, with ENXIO where nobody reads."""
        return os.open(self.name, os.O_WRONLY | os.O_NONBLOCK | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=self.folder)

    def stat(self) -> os.stat_result | None:
        """Return what the system knows of the file, None where there is none."""
        try:
            return os.stat(self.name, dir_fd=self.folder, follow_symlinks=False)
        except FileNotFoundError:
            return None

    def unlink(self) -> None:
        """Remove the file, if it is there."""
        try:
            os.unlink(self.name, dir_fd=self.folder)
        except FileNotFoundError:
            return

    def exchange(self, other: str) -> None:
        """Let this file and the one called ``other`` in its folder change places, both at once where that is possible.

        Elsewhere ``other`` takes this one's place, and what was here is gone.

        Raises OSError.
        """
        import ctypes  # only a write needs it

        code = _renameat2()(self.folder, os.fsencode(other), self.folder, os.fsencode(self.name), _EXCHANGE)
        if code == 0:
            return
        if ctypes.get_errno() not in (errno.EINVAL, errno.ENOSYS, errno.EPERM):
            raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()), self.path)
        os.replace(other, self.name, src_dir_fd=self.folder, dst_dir_fd=self.folder)


_EXCHANGE = 2
"""RENAME_EXCHANGE of renameat2(2)."""


@cache
def _renameat2() -> Any:
    import ctypes

    library = ctypes.CDLL(None, use_errno=True)
    try:
        return library.renameat2
    except AttributeError:  # a C library that does not have it

        def missing(*_words: object) -> int:
            ctypes.set_errno(errno.ENOSYS)
            return -1

        return missing


def read_handle(handle: int, path: str) -> bytes:
    """Read an open file whole, at rest, and close it: where it changes meanwhile it is read again.

    One byte more than the largest size is enough to tell that it is too large. Raises OSError, NotAFile.
    """
    if not stat.S_ISREG(os.fstat(handle).st_mode):
        os.close(handle)
        raise NotAFile(path)
    with open(handle, "rb", buffering=0) as file:
        for _ in range(_TRIES):
            before = os.fstat(handle)
            file.seek(0)
            data = bytearray()
            # As much as is there: room for the largest file would be made for each.
            piece_size = min(before.st_size, LARGEST) + 1
            while len(data) <= LARGEST and (piece := file.read(piece_size)):
                data += piece
            after = os.fstat(handle)
            # A read that overlaps a write gives half of each version.
            if (before.st_mtime_ns, before.st_size) == (after.st_mtime_ns, after.st_size):
                break
    return bytes(data)


class Found(NamedTuple):
    """What a walk through a folder has found; no link was followed."""

    path: str
    """From the folder, with slashes."""
    about: os.stat_result
    target: str
    """Of a link, what it points to; empty for anything else."""


class Folder(Struct, frozen=True):
    """A server's folder, and the folders outside it that the site file allows its links to lead to."""

    root: str
    allowed: tuple[str, ...] = ()

    def resolve(self, path: str) -> str:
        """Follow links to where a file really is. Raises Trouble where that is outside the allowed folders."""
        return "".join(self._split(path))

    def _split(self, path: str) -> tuple[str, str]:
        """Return the allowed folder that holds a file, and the rest of its real path, with its first slash."""
        top = _real_home(self.root)
        if _is_plain(top, path):
            return top, f"{os.sep}{path}"
        real = os.path.realpath(os.path.join(self.root, path))
        for home in (self.root, *self.allowed):
            top = _real_home(home)
            # With the separator, or a folder "regatta-old" would count as inside "regatta".
            if real == top or real.startswith(top.rstrip(os.sep) + os.sep):
                return top, real[len(top) :]
        raise Trouble(
            f"{path} leads to {real}, outside the server's folder.",
            "Name that folder under 'outside' in the site file if Round Gate may write there.",
        )

    @contextmanager
    def place(self, path: str) -> Iterator[OpenPlace]:
        """Open the folder that really holds a file. Raises FileNotFoundError where it is not there, or Trouble."""
        top, rest = self._split(path)
        with _place_below(top, rest, path) as place:
            yield place

    @contextmanager
    def exact(self, path: str, *, makes: bool = False) -> Iterator[OpenPlace]:
        """Open the folder that holds a name, where no link is on the way to it; ``makes``: made where it is missing.

        Raises OSError or Trouble.
        """
        with _place_below(self.root, path, path, makes=makes) as place:
            yield place

    def read(self, path: str) -> bytes | None:
        """Return a file's bytes, None where it does not exist. Raises OSError or Trouble."""
        try:
            with self.place(path) as place, _links_told(path):
                return place.read()
        except (FileNotFoundError, NotADirectoryError):
            return None

    def open(self, path: str) -> BinaryIO:
        """Open a file for reading, where it really is. Raises OSError, NotAFile or Trouble."""
        with self.place(path) as place, _links_told(path):
            return place.open()

    def holds(self, path: str) -> bool:
        """Return whether a regular file is there, inside the folder or where its links may lead."""
        try:
            return stat.S_ISREG(self.stat(path).st_mode)
        except (OSError, ValueError, Trouble):
            return False

    def stat(self, path: str) -> os.stat_result:
        """Return what the system knows of a file, where it really is. Raises OSError or Trouble."""
        return os.stat(self.resolve(path), follow_symlinks=False)

    def move(self, source: str, target: str) -> None:
        """Rename within the folder, and make it durable; folders for the target are made. Raises OSError or Trouble."""
        with self.exact(source) as come, self.exact(target, makes=True) as go:
            os.replace(come.name, go.name, src_dir_fd=come.folder, dst_dir_fd=go.folder)
            for folder in (go.folder, come.folder):
                os.fsync(folder)

    def names(self, path: str) -> list[str]:
        """Return the names in a folder, in order, where it really is; none where there is no such folder to read."""
        try:
            top, rest = self._split(path)
            with _place_below(top, f"{rest}{os.sep}.", path) as place:
                return sorted(os.listdir(place.folder))
        except (OSError, ValueError, Trouble):
            return []

    def matching(self, pattern: str) -> list[str]:
        """Return the regular files that fit a pattern with ``*``; what leads out of the allowed folders is left out."""
        home = os.path.join(self.root, "")
        # Of an absolute pattern, only what the site file names as outside is left.
        top = Path(os.sep) if os.path.isabs(pattern) else Path(home)
        paths = (str(path).removeprefix(home) for path in top.glob(pattern.lstrip(os.sep)))
        return sorted(path for path in paths if self.holds(path))

    def walk(self, start: str = ".", skips: Callable[[str], bool] = lambda _path: False) -> Iterator[Found]:
        """Yield what is in a folder and below it, folders before what they hold; links are given and not followed.

        A folder that ``skips`` is left out with all that is in it. Raises OSError or Trouble.
        """
        first = start.strip(os.sep) or "."
        waiting = [first]
        while waiting:
            at = waiting.pop()
            below: list[str] = []
            try:
                entries = self._entries(at)
            except FileNotFoundError:
                if at == first:
                    raise
                continue  # it has gone while its neighbours were looked at
            for found in entries:
                is_folder = stat.S_ISDIR(found.about.st_mode)
                if is_folder and skips(found.path):
                    continue
                if is_folder:
                    below.append(found.path)
                yield found
            waiting += reversed(below)
            if below and at.count(os.sep) >= _DEEPEST:
                raise Trouble(f"{at} has more than {_DEEPEST} folders in one another.", "Take it out of the folder.")

    def _entries(self, at: str) -> list[Found]:
        """Return what one folder holds, by the handle of that folder; what goes meanwhile is not there."""
        found: list[Found] = []
        prefix = "" if at == "." else f"{at}{os.sep}"
        with self.exact(f"{prefix}.") as place:
            for name in sorted(os.listdir(place.folder)):
                with suppress(FileNotFoundError):
                    about = os.stat(name, dir_fd=place.folder, follow_symlinks=False)
                    target = os.readlink(name, dir_fd=place.folder) if stat.S_ISLNK(about.st_mode) else ""
                    found.append(Found(f"{prefix}{name}", about, target))
        return found


_REAL: dict[str, str] = {}
"""Where folders really are, by their paths: a look at many servers asks for that thousands of times."""


def _real_home(home: str) -> str:
    """Return the real path of a folder; what is remembered counts while both paths lead to the same folder."""
    known = _REAL.get(home)
    if known is not None:
        with suppress(OSError):
            # The remembered path itself must not have become a link.
            if os.path.samestat(os.stat(home), os.lstat(known)):
                return known
    real = _REAL[home] = os.path.realpath(home)
    return real


def _is_plain(top: str, path: str) -> bool:
    """Return whether a path leads straight down from a real folder, with no link on its way."""
    parts = path.split(os.sep)
    if not {"", ".", ".."}.isdisjoint(parts):
        return False
    at = top
    for part in parts:
        at = f"{at}{os.sep}{part}"
        try:
            if stat.S_ISLNK(os.lstat(at).st_mode):
                return False
        except (FileNotFoundError, NotADirectoryError):
            return True  # below it there is nothing
    return True


@contextmanager
def _place_below(top: str, path: str, shown: str, *, makes: bool = False) -> Iterator[OpenPlace]:
    *parents, name = [part for part in path.split(os.sep) if part] or ["."]
    handle = os.open(top, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        with ExitStack() as stack:
            with _links_told(shown):
                below = opened_below(handle, [part for part in parents if part != "."], makes=makes)
                folder = stack.enter_context(below)
            yield OpenPlace(folder, name, shown)
    finally:
        os.close(handle)


@contextmanager
def _links_told(path: str) -> Iterator[None]:
    """Report a link that took the place of a file or a folder since the path was resolved. Raises Trouble."""
    try:
        yield
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENOTDIR):
            raise Trouble(
                f"{path} was replaced by a link just now, or a folder on the way to it, or it is a link that leads to "
                "itself.",
                f"Look at it: ls -ld {path}; then try again.",
            ) from error
        raise
