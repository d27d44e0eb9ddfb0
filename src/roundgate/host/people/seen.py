"""Who was seen on a server: its logs, and how far they were read."""

from __future__ import annotations

import bz2
import gzip
import lzma
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import IO, Any

from msgspec import MsgspecError, Struct, json

from roundgate.core.people.seen import LogPattern, SeenPerson, fold
from roundgate.host.errors import Trouble
from roundgate.host.files import write_durably
from roundgate.host.servers import Server

_SEEN = "seen.json"
_BLOCK = 1 << 20


def _open_zst(path: Path, mode: str) -> IO[bytes]:
    import zstandard  # a command that reads no such log starts without it

    opened: IO[bytes] = zstandard.open(path, mode)
    return opened


_OPENERS: dict[str, Callable[..., Any]] = {".gz": gzip.open, ".xz": lzma.open, ".bz2": bz2.open, ".zst": _open_zst}


class _File(Struct):
    """How far a log was read: its inode, and so many bytes of it; of a compressed one, all."""

    inode: int
    read: int


class Seen(Struct):
    """Who was seen on a server, and how far its logs were read to know that."""

    files: dict[str, _File] = {}
    people: dict[str, SeenPerson] = {}


def seen_on(server: Server) -> dict[str, SeenPerson]:
    """Read on in the logs of a server, and give who was seen, by id. Raises Trouble where its rulebook names no logs.

    What was read once is not read again: a log that has grown is read from where it ended, a rotated one is known by
    its inode.
    """
    spec = server.book.server
    if not spec.joined or not spec.logs:
        raise Trouble(
            f"The rulebook of {server.name} does not say who comes and goes in which logs.",
            "It needs 'joined' and 'logs' in its table [server].",
        )
    memory = Path(server.state) / _SEEN
    seen = _remembered(memory)
    pattern = LogPattern(spec.joined, spec.left)
    known = {file.inode: file.read for file in seen.files.values()}
    files: dict[str, _File] = {}
    for path in _logs(server):
        found = path.stat()
        start = known.get(found.st_ino, 0)
        is_packed = path.suffix in _OPENERS
        if is_packed and start:
            files[path.name] = _File(found.st_ino, start)
            continue
        if start > found.st_size:
            start = 0  # it was emptied and is written anew
        with suppress(OSError, EOFError, lzma.LZMAError):
            end = _read_log(path, start, pattern, spec.log_time, seen.people)
            files[path.name] = _File(found.st_ino, found.st_size if is_packed else end)
    seen.files = files
    with suppress(OSError):
        write_durably(str(memory), json.encode(seen))
    return seen.people


def seen_before(server: Server) -> Mapping[str, SeenPerson]:
    """Give who was seen in the logs as far as they were read; nothing is read now."""
    return _remembered(Path(server.state) / _SEEN).people


def _remembered(memory: Path) -> Seen:
    with suppress(OSError, MsgspecError):
        return json.decode(memory.read_bytes(), type=Seen)
    return Seen()


def _logs(server: Server) -> list[Path]:
    """Give the logs of a server, the oldest first."""
    found = {path for pattern in server.book.server.logs for path in server.folder.glob(pattern) if path.is_file()}
    return sorted(found, key=lambda path: path.stat().st_mtime)


def _read_log(path: Path, start: int, pattern: LogPattern, form: str, people: dict[str, SeenPerson]) -> int:
    """Read a log from a byte on; give where the last whole line ended."""
    opener: Callable[..., IO[bytes]] = _OPENERS.get(path.suffix, open)
    clock = _Clock(form, path.stat().st_mtime)
    with opener(path, "rb") as file:
        file.seek(start)
        at = start
        for block in _blocks(file):
            for sighting in pattern.search(block):
                fold(people, sighting, clock.seconds(sighting.time))
            at += len(block)
    return at


def _blocks(file: IO[bytes]) -> Iterator[bytes]:
    """Give a file in blocks of whole lines; what comes after the last line's end is left for another time."""
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


_USUAL = "%Y-%m-%d %H:%M:%S"


class _Clock:
    """Reads the times of one log, in this machine's zone; the file's own time where a line has none."""

    def __init__(self, form: str, fallback: float) -> None:
        self.form = form
        self.fallback = fallback
        self._hours: dict[str, float] = {}
        """The hours that were read, such as ``2026-11-05 19``: within one, the clock is not set."""

    def seconds(self, text: str) -> float:
        """Give a time in seconds since 1970."""
        if not text or not self.form:
            return self.fallback
        with suppress(ValueError, OverflowError):
            if self.form != _USUAL or len(text) != 19:
                return datetime.strptime(text, self.form).timestamp()
            hour = self._hours.get(text[:13])
            if hour is None:
                datetime.strptime(text, self.form)
                hour = self._hours[text[:13]] = datetime.fromisoformat(f"{text[:13]}:00").timestamp()
            minute, second = int(text[14:16]), int(text[17:])
            if text[13] == text[16] == ":" and minute < 60 and second < 62:
                return hour + minute * 60 + second
        return self.fallback


def since(seen: dict[str, SeenPerson], seconds: float) -> dict[str, SeenPerson]:
    """Leave out who was not seen within the last seconds."""
    earliest = time.time() - seconds
    return {person_id: person for person_id, person in seen.items() if person.last >= earliest}
