"""Who was seen on a server: its logs, and how far they were read."""

from __future__ import annotations

import time
from collections.abc import Mapping
from contextlib import suppress
from datetime import datetime
from pathlib import Path, PurePath

from msgspec import MsgspecError, Struct, json

from roundgate.core.people.seen import LogPattern, SeenPerson, fold
from roundgate.host.errors import Trouble
from roundgate.host.files import write_durably
from roundgate.host.logs.slow_patterns import remember_slow
from roundgate.host.people.log_files import LogPart, ReadLog, is_packed, parts_to_read, read_part
from roundgate.host.servers import Server

_SEEN = "seen.json"


class Seen(Struct):
    """Who was seen on a server, and how far its logs were read to know that, by their paths."""

    files: dict[str, ReadLog] = {}
    people: dict[str, SeenPerson] = {}


def seen_on(server: Server) -> dict[str, SeenPerson]:
    """Read on in the logs of a server, and return who was seen, by id. Raises Trouble where its rulebook names no logs.

    What was read once is not read again: a log that has grown is read from where it ended, and one that was renamed,
    copied or packed since is known by its text.
    """
    spec = server.book.server
    if not spec.joined or not spec.logs:
        raise Trouble(
            f"The rulebook of {server.name} does not say who comes and goes in which logs.",
            "It needs 'joined' and 'logs' in its table [server].",
        )
    server.fetch_logs()
    memory = Path(server.state) / _SEEN
    seen = _remembered(memory)
    pattern = LogPattern(spec.joined, spec.left, time.process_time)
    files: dict[str, ReadLog] = {}
    for part in parts_to_read(server.files_folder, _logs(server), list(seen.files.values())):
        done = part.known if part.is_done else None
        files[part.path] = done or _read_on(part, pattern, spec.log_time, seen.people)
    seen.files = files
    remember_slow(server.state, pattern.slow)
    # Where it cannot be kept, the logs are read again the next time.
    with suppress(OSError):
        write_durably(str(memory), json.encode(seen))
    return seen.people


def seen_before(server: Server) -> Mapping[str, SeenPerson]:
    """Return who was seen in the logs as far as they were read; nothing is read now."""
    return _remembered(Path(server.state) / _SEEN).people


def _remembered(memory: Path) -> Seen:
    # A memory of another version, or a damaged one, is none: the logs are still there.
    with suppress(OSError, MsgspecError):
        return json.decode(memory.read_bytes(), type=Seen)
    return Seen()


def _logs(server: Server) -> list[str]:
    """Return the logs of a server. One that is being packed just now is there twice: the packed one is left out."""
    # It would not be counted twice, for a log is known by its text; but it would be unpacked for nothing.
    found = {path for pattern in server.book.server.logs for path in server.files_folder.matching(pattern)}
    return [path for path in found if not (is_packed(path) and str(PurePath(path).with_suffix("")) in found)]


def _read_on(part: LogPart, pattern: LogPattern, form: str, people: dict[str, SeenPerson]) -> ReadLog:
    clock = _Clock(form, part.about.st_mtime)

    def take(block: bytes) -> None:
        for sighting in pattern.search(block):
            fold(people, sighting, clock.seconds(sighting.time))

    return read_part(part, take)


_USUAL = "%Y-%m-%d %H:%M:%S"


class _Clock:
    """Reads the times of one log, in this machine's zone; the file's own time where a line has none."""

    def __init__(self, form: str, fallback: float) -> None:
        self.form = form
        self.fallback = fallback
        self._hours: dict[str, float] = {}
        """The hours that were read, such as ``2026-11-05 19``: within one, the clock is not set."""

    def seconds(self, text: str) -> float:
        """Return a time in seconds since 1970."""
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
