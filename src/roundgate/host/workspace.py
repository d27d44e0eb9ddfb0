"""One moment of a server: its files, each read once, and what waits; and what follows from them, worked out once.

Everything that a command says of before and after comes from one workspace, so both always mean the same disk. To see
what the disk holds later, ask it for the next one with ``again``: that is the same object where nothing has changed.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import Protocol

from roundgate.core.files import ServerFiles, Unreadable
from roundgate.core.findings import Finding
from roundgate.core.operations.base import Operation
from roundgate.core.rulebook.model import Rulebook
from roundgate.core.slate import Outcome, replay
from roundgate.core.text import Text
from roundgate.host.files import text_of
from roundgate.host.servers import FilesNow, Server
from roundgate.host.store import Waiting

State = tuple[tuple[tuple[str, Text], ...], tuple[tuple[str, Unreadable], ...], tuple[str, ...] | None]
"""What findings depend on: the content of files, why others cannot be read, and whose syntax is looked at."""


class Holder(Protocol):
    """What holds the files that a command changes: a server at one moment, or one file that belongs to no server."""

    @property
    def name(self) -> str:
        """The server's name; empty where the file belongs to none."""
        ...

    @property
    def operations(self) -> list[Operation]:
        """The operations that wait, in order."""
        ...

    @property
    def book(self) -> Rulebook:
        """The rulebook of the files."""
        ...

    @property
    def folder(self) -> Path:
        """The folder that holds the files."""
        ...

    def fetch_below(self, folder: str) -> None:
        """Have what is below a folder here, where it is on another machine."""
        ...

    def paths(self) -> list[str]:
        """Name the configuration files."""
        ...

    def read(self, extra: Sequence[str] = ()) -> FilesNow:
        """Return the files, and ``extra`` ones with them."""
        ...

    def outcome(self, operations: Sequence[Operation], also: Sequence[str] = ()) -> Outcome:
        """Return what operations make of the files; nothing is written."""
        ...

    def findings_after(self, outcome: Outcome, written: Collection[str] | None = None) -> list[Finding]:
        """Check the files as an outcome leaves them, the syntax of those ``written`` only, of all where it is None."""
        ...


class Workspace:
    """The files of a server at one moment, and the operations that wait for it."""

    def __init__(self, server: Server, waiting: Sequence[Waiting] = ()) -> None:
        """Read nothing yet."""
        self.server = server
        self.name = server.name
        self.waiting = list(waiting)
        self._paths: list[str] | None = None
        self._texts: dict[str, Text] = {}
        self._unreadable: dict[str, Unreadable] = {}
        self._looked_at: set[str] = set()
        self._now: FilesNow | None = None
        self._outcomes: dict[tuple[Operation, ...], Outcome] = {}
        self._checked: dict[State, list[Finding]] = {}

    @property
    def operations(self) -> list[Operation]:
        """See Holder."""
        return [entry.operation for entry in self.waiting]

    @property
    def book(self) -> Rulebook:
        """See Holder. Raises BrokenRulebook or Trouble."""
        return self.server.book

    @property
    def folder(self) -> Path:
        """See Holder."""
        return self.server.folder

    def fetch_below(self, folder: str) -> None:
        """See Holder. Raises Trouble."""
        self.server.fetch_below(folder)

    def paths(self) -> list[str]:
        """See Holder."""
        if self._paths is None:
            self._paths = self.server.paths()
        return self._paths

    def read(self, extra: Sequence[str] = ()) -> FilesNow:
        """See Holder. A file is read when it is first asked for. Raises Trouble where the folder is not there."""
        missing = [path for path in dict.fromkeys((*self.paths(), *extra)) if path not in self._looked_at]
        if missing or self._now is None:
            found = self.server.read_only(missing)
            self._hold(missing, found.files.texts, found.unreadable)
        assert self._now is not None
        return self._now

    def _hold(self, paths: Sequence[str], texts: Mapping[str, Text], unreadable: Mapping[str, Unreadable]) -> None:
        self._looked_at.update(paths)
        self._texts.update(texts)
        self._unreadable.update(unreadable)
        # An outcome was worked out from the files as they were known until now.
        self._outcomes.clear()
        self._now = FilesNow(
            ServerFiles(self.book, self._texts, self.server.documents, self.server.facts), dict(self._unreadable)
        )

    def with_contents(self, contents: Mapping[str, bytes | None]) -> Workspace:
        """Return a workspace of files whose bytes somebody has read just now; None is a file that is not there."""
        texts: dict[str, Text] = {}
        unreadable: dict[str, Unreadable] = {}
        for path, data in contents.items():
            found = None if data is None else text_of(path, data)
            if isinstance(found, Text):
                texts[path] = found
            elif found is not None:
                unreadable[path] = found
        fresh = Workspace(self.server, self.waiting)
        fresh._checked = self._checked
        fresh._hold(list(contents), texts, unreadable)
        return fresh

    def with_slate(self, waiting: Sequence[Waiting]) -> Workspace:
        """Return the same moment of the files with other operations that wait."""
        other = Workspace(self.server, waiting)
        other._paths, other._checked = self._paths, self._checked
        if self._now is not None:
            other._hold(sorted(self._looked_at), self._texts, self._unreadable)
        return other

    def again(self) -> Workspace:
        """Look at the disk again. Give this workspace where it is the same, else a new one with the same slate."""
        before = self.read()
        fresh = Workspace(self.server, self.waiting)
        fresh._checked = self._checked
        now = fresh.read(sorted(self._looked_at))
        is_same = now.files.texts == before.files.texts and now.unreadable == before.unreadable
        return self if is_same else fresh

    def outcome(self, operations: Sequence[Operation], also: Sequence[str] = ()) -> Outcome:
        """See Holder."""
        now = self.read([*(operation.file for operation in operations), *also])
        key = tuple(operations)
        if key not in self._outcomes:
            self._outcomes[key] = replay(operations, now.files, self.name)
        return self._outcomes[key]

    # --- checks, once for each state of the files ---

    def findings_on_disk(self) -> list[Finding]:
        """Check the files as they are on disk."""
        return self._check(self.read().files)

    def findings_of(self, outcome: Outcome) -> list[Finding]:
        """Check the files as an outcome leaves them; what is new by it is marked as waiting."""
        from roundgate.core.checks import check_outcome  # a command that only looks needs no check

        return check_outcome(self.name, outcome, self.read().unreadable, self._check)

    def findings_after(self, outcome: Outcome, written: Collection[str] | None = None) -> list[Finding]:
        """See Holder."""
        from roundgate.core.checks import check_after

        check = partial(self._check, written=written)
        return check_after(self.name, outcome, self.read().unreadable, check)

    def _check(self, files: ServerFiles, written: Collection[str] | None = None) -> list[Finding]:
        unreadable = self.read().unreadable
        state: State = (
            tuple(sorted(files.texts.items())),
            tuple(sorted(unreadable.items())),
            None if written is None else tuple(sorted(written)),
        )
        if state not in self._checked:
            from roundgate.core.checks import check_disk

            self._checked[state] = check_disk(self.name, files, unreadable, written)
        return self._checked[state]
