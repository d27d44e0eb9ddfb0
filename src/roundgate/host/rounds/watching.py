"""Edits made by hand while a server stops, in files that it writes itself when it ends: it would write over them."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress

from roundgate.core.files import ServerFiles, differing
from roundgate.host.errors import Trouble
from roundgate.host.files import Folder
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.snapshot.save import keep_copy

_PAUSE = 0.02
"""Seconds between two looks at a file; nothing tells of a change without a watch on the folder."""
_MOST = 20
"""So many versions of each file are looked at; a server that writes without end has no more."""


class _Versions:
    """The versions of some files, as they come."""

    def __init__(self, folder: Folder, paths: Sequence[str]) -> None:
        self._folder = folder
        self.seen: dict[str, list[bytes]] = {path: [] for path in paths}
        self._marks: dict[str, tuple[int, int, int]] = {}
        self._read: dict[str, tuple[int, int, int]] = {}
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._watch, daemon=True)
        self._look()
        self._thread.start()

    def _watch(self) -> None:
        while not self._over.wait(_PAUSE):
            self._look()

    def _look(self) -> None:
        for path, versions in self.seen.items():
            with suppress(OSError, Trouble):  # it is just being replaced
                found = self._folder.stat(path)
                mark = (found.st_ino, found.st_mtime_ns, found.st_size)
                # Read at the second look that finds it as it is: before that it may be half written.
                if self._marks.get(path) != mark:
                    self._marks[path] = mark
                elif self._read.get(path) != mark and len(versions) < _MOST:
                    self._read[path] = mark
                    versions.append(self._folder.read(path) or b"")

    def end(self) -> None:
        self._over.set()
        self._thread.join()


@contextmanager
def watched_for_edits(round: Round, started: ServerFiles | None) -> Iterator[None]:
    """Keep a copy of what somebody writes into such a file before the server ends, and that is gone afterwards."""
    paths = [file.path for file in round.server.book.file.values() if file.rewritten != "never"] if started else []
    if not paths:
        yield
        return
    before = round.workspace
    versions = _Versions(round.server.files_folder, paths)
    try:
        yield
    finally:
        versions.end()
    with suppress(Trouble, OSError):  # what cannot be read now is said when it is to be written
        after = before.again().read().files
        old = before.read().files
        contents = {path: text.encode() for path, text in old.texts.items()}
        for path, several in versions.seen.items():
            for data in several:
                between = before.with_contents({**contents, path: data}).read().files
                lost = [name for name in differing(old, between) if _is_lost(name, between, after)]
                if lost:
                    why = f"edited by hand while the server stopped, which wrote over it ({', '.join(lost)})"
                    keep_copy(round, path, data, why)


def _is_lost(name: str, between: ServerFiles, after: ServerFiles) -> bool:
    """Return whether what a file held for a while is gone; a file that lacked it was half written."""
    if name in between.book.list:
        return bool(between.items(name)) and between.items(name) != after.items(name)
    return between.stored(name) is not None and between.counting(name) != after.counting(name)
