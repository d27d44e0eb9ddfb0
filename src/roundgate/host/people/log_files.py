"""A server's logs as files: plain and packed, read on from where they were, whatever rotation makes of them.

A log grows, is renamed, is copied and emptied, is packed under another name, and its inode is given to the next one.
So a file is the continuation of one that was read before where the bytes before that place are still the same.
"""

from __future__ import annotations

import bz2
import gzip
import hashlib
import lzma
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import PurePath
from typing import IO, Any, BinaryIO, NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from roundgate.host.errors import Trouble
from roundgate.host.places import Folder

_BLOCK = 1 << 20
_LOOKED_BACK = 512
"""Bytes by which a place in a log is known again."""


def _open_zst(file: BinaryIO, mode: str) -> IO[bytes]:
    import zstandard  # a command that reads no such log starts without it

    opened: IO[bytes] = zstandard.open(file, mode)
    return opened


_OPENERS: dict[str, Callable[..., Any]] = {".gz": gzip.open, ".xz": lzma.open, ".bz2": bz2.open, ".zst": _open_zst}


class ReadLog(Struct, frozen=True):
    """How far a log was read: its inode, so many bytes of its text, and what tells those bytes from others."""

    inode: int
    read: int
    before: str = ""
    """The digest of the last bytes that were read; empty where an earlier version wrote this entry."""
    size: int = -1
    """The size of a packed file that was read to its end: with the same size it has nothing new; -1 for others."""


class LogPart(Struct, frozen=True):
    """A log, and the place in its text from which it is to be read."""

    folder: Folder
    path: str
    """From that folder."""
    about: os.stat_result
    known: ReadLog | None
    """How far it was read, under this name or another; None where nothing of it was."""
    is_done: bool = False
    """Whether nothing in it is new."""


def is_packed(path: str) -> bool:
    """Return whether a log is compressed."""
    return PurePath(path).suffix in _OPENERS


@contextmanager
def _opened(folder: Folder, path: str) -> Iterator[IO[bytes]]:
    opener: Callable[..., IO[bytes]] | None = _OPENERS.get(PurePath(path).suffix)
    with folder.open(path) as raw:
        if opener is None:
            yield raw
        else:
            with opener(raw, "rb") as unpacked:
                yield unpacked


def parts_to_read(folder: Folder, paths: Iterable[str], before: Sequence[ReadLog]) -> list[LogPart]:
    """Return for each log of a folder from where it is to be read, the oldest first, by what was read before."""
    found: list[tuple[str, os.stat_result]] = []
    for path in paths:
        with suppress(OSError, Trouble):  # it was rotated away just now, or a link took its place
            found.append((path, folder.stat(path)))
    found.sort(key=lambda pair: pair[1].st_mtime)
    by_inode = {log.inode: log for log in before}
    places = sorted((log for log in before if log.before and log.read), key=lambda log: log.read)
    return [_part(LogPart(folder, path, about, by_inode.get(about.st_ino)), places) for path, about in found]


def _part(part: LogPart, places: Sequence[ReadLog]) -> LogPart:
    """Return a log with its place; it comes with what was read of its inode, which another file may have had."""
    own = part.known
    if own is not None and _is_done(part.path, part.about, own):
        return replace(part, is_done=True)
    if own is not None and not own.before:  # of an earlier version, which knew no more
        return part if own.read <= part.about.st_size and not is_packed(part.path) else replace(part, known=None)
    return replace(part, known=_furthest(part, places))


def _is_done(path: str, about: os.stat_result, log: ReadLog) -> bool:
    """Return whether a packed log was read to its end; an earlier version kept its size as what was read."""
    return is_packed(path) and about.st_size == (log.size if log.before else log.read)


def _furthest(part: LogPart, places: Sequence[ReadLog]) -> ReadLog | None:
    """Return the place furthest on that a file has with the same bytes before it; ``places`` are in their order.

    All of them are looked for, not those of its inode alone: it may be a copy of any log, and a packed file can only be
    read from its start, once.
    """
    best, at, last = None, 0, b""
    with suppress(Exception):  # what is wrong with a packed file, each library tells in its own way
        with _opened(part.folder, part.path) as file:
            for log in places:
                if log.read - at > _LOOKED_BACK:
                    at, last = file.seek(log.read - _LOOKED_BACK), b""
                more = file.read(log.read - at)
                at, last = at + len(more), (last + more)[-_LOOKED_BACK:]
                if at < log.read:
                    break
                if _digest(last) == log.before:
                    best = log
    return best


def _digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()[:32]


def read_part(part: LogPart, take: Callable[[bytes], None]) -> ReadLog:
    """Read a log on: ``take`` gets blocks of whole lines. Give how far it was read, also where it is damaged there."""
    at, mark = (part.known.read, part.known.before) if part.known is not None else (0, "")
    inode, last = part.about.st_ino, b""
    blocks = _blocks_from(part, at)
    while True:
        try:
            block = next(blocks, None)
        except Exception:  # noqa: BLE001 - as above; what came before the damage is taken, and not taken twice
            return ReadLog(inode, at, mark)
        if block is None:
            return ReadLog(inode, at, mark, part.about.st_size if is_packed(part.path) else -1)
        if block.text:
            take(block.text)
            at += len(block.text)
        last = (last + block.before + block.text[-_LOOKED_BACK:])[-_LOOKED_BACK:]
        mark = _digest(last)


class _Block(NamedTuple):
    text: bytes
    before: bytes = b""
    """What was read before it, of the first one."""


def _blocks_from(part: LogPart, at: int) -> Iterator[_Block]:
    with _opened(part.folder, part.path) as file:
        length = min(_LOOKED_BACK, at)
        file.seek(at - length)
        yield _Block(b"", file.read(length))
        yield from (_Block(text) for text in _blocks(file, ends=is_packed(part.path)))


def _blocks(file: IO[bytes], *, ends: bool) -> Iterator[bytes]:
    """Yield a file in blocks of whole lines; what comes after the last line's end is left for another time.

    ``ends``: nobody writes into it any more, so its last line counts as it is.
    """
    rest = b""
    while data := file.read(_BLOCK):
        cut = data.rfind(b"\n") + 1
        if not cut:
            rest += data
            if len(rest) > _BLOCK:  # no log has such lines
                yield rest
                rest = b""
            continue
        yield rest + data[:cut]
        rest = data[cut:]
    if ends and rest:
        yield rest
