"""Where a server's files really are, and work on them that cannot be led elsewhere.

A path is resolved once, checked against the folders that may be written, and then walked from that folder down by
handles that follow no links. Whoever swaps a folder for a link in between gets an error, not another file.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from typing import Any, NamedTuple

from msgspec import Struct

from roundgate.host.errors import Trouble

LARGEST = 200 * 1024 * 1024
"""Bytes; a larger file is not a configuration file."""
_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY
_WALK = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_TRIES = 5


class NotAFile(OSError):
    """It is not a regular file: reading a pipe or a device might never end."""

    def __init__(self, path: str) -> None:
        """Report which path."""
        super().__init__(errno.EINVAL, "it is not a regular file", path)


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
        """Give the bytes of the file here, None where there is none. Raises OSError for anything else."""
        try:
            handle = os.open(self.name, _READ, dir_fd=self.folder)
        except FileNotFoundError:
            return None
        return read_handle(handle, self.path)

    def stat(self) -> os.stat_result | None:
        """Give what the system knows of the file, None where there is none."""
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
            while len(data) <= LARGEST and (piece := file.read(LARGEST + 1 - len(data))):
                data += piece
            after = os.fstat(handle)
            # A read that overlaps a write gives half of each version.
            if (before.st_mtime_ns, before.st_size) == (after.st_mtime_ns, after.st_size):
                break
    return bytes(data)


class Folder(Struct, frozen=True):
    """A server's folder, and the folders outside it that the site file allows its links to lead to."""

    root: str
    allowed: tuple[str, ...] = ()

    def resolve(self, path: str) -> str:
        """Follow links to where a file really is. Raises Trouble where that is outside the allowed folders."""
        return "".join(self._split(path))

    def _split(self, path: str) -> tuple[str, str]:
        """Give the allowed folder that holds a file, and the rest of its real path, with its first slash."""
        real = os.path.realpath(os.path.join(self.root, path))
        for home in (self.root, *self.allowed):
            top = os.path.realpath(home)
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
        *parents, name = rest.strip(os.sep).split(os.sep)
        handle = os.open(top, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            for parent in parents:
                below = _step(handle, parent, path)
                os.close(handle)
                handle = below
            yield OpenPlace(handle, name or ".", path)
        finally:
            os.close(handle)

    def read(self, path: str) -> bytes | None:
        """Give a file's bytes, None where it does not exist. Raises OSError or Trouble."""
        try:
            with self.place(path) as place:
                return place.read()
        except (FileNotFoundError, NotADirectoryError):
            return None
        except OSError as error:
            if error.errno == errno.ELOOP:
                raise _swapped(path) from error
            raise


def _step(handle: int, name: str, path: str) -> int:
    try:
        return os.open(name, _WALK, dir_fd=handle)
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENOTDIR):
            raise _swapped(path) from error
        raise


def _swapped(path: str) -> Trouble:
    return Trouble(
        f"{path} was replaced by a link just now, or a folder on the way to it, or it is a link that leads to itself.",
        f"Look at it: ls -ld {path}; then try again.",
    )
