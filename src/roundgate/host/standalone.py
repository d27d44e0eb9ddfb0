"""A file of no server: read where it is, changed by the same operations as a server's, and written at once."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from functools import partial
from pathlib import Path

from roundgate.core.checks import check_after, check_disk
from roundgate.core.checks.standalone import dialect_by_name
from roundgate.core.files import ServerFiles, Unreadable
from roundgate.core.findings import Finding
from roundgate.core.formats.detect import format_for
from roundgate.core.operations.base import Operation
from roundgate.core.rulebook.model import NO_RULEBOOK, File, Rulebook
from roundgate.core.slate import Outcome, replay
from roundgate.core.text import NotText, Text, decode
from roundgate.host.errors import Trouble
from roundgate.host.files import LARGEST, read_bytes, replace_file
from roundgate.host.servers import FilesNow


class StandaloneFile:
    """One file by its path, as a Holder: no server, and nothing that waits."""

    name = ""
    """It belongs to no server."""

    def __init__(self, path: str) -> None:
        """Read it. Raises Trouble where that cannot be done."""
        self.path = path
        self.operations: list[Operation] = []
        self.folder = Path(path).parent
        data = read_bytes(path)
        if data is None or len(data) > LARGEST:
            raise Trouble(f"{path} cannot be edited: it is not a file, or it is larger than {LARGEST >> 20} MB.")
        self.data = data
        self._text: Text | None = None
        self._why = ""
        try:
            self._text = decode(data)
        except NotText as error:
            self._why = str(error)
        kind = format_for(path, self._text.body if self._text else "")
        file = File(path=path, format=kind, dialect=dialect_by_name(path))
        self.book = Rulebook(rulebook=NO_RULEBOOK.rulebook, file={"file": file})

    def fetch_below(self, folder: str) -> None:
        """It is here."""

    def paths(self) -> list[str]:
        """Name the one file."""
        return [self.path]

    def read(self, extra: Sequence[str] = ()) -> FilesNow:
        """Return the file as it was read."""
        if self._text is None:
            return FilesNow(ServerFiles(self.book, {}), {self.path: Unreadable("file-not-text", self._why)})
        return FilesNow(ServerFiles(self.book, {self.path: self._text}), {})

    def outcome(self, operations: Sequence[Operation], also: Sequence[str] = ()) -> Outcome:
        """Make operations on the file; nothing is written."""
        return replay(operations, self.read().files)

    def findings_after(self, outcome: Outcome, written: Collection[str] | None = None) -> list[Finding]:
        """Check the file as an outcome leaves it."""
        unreadable = self.read().unreadable
        check = partial(check_disk, self.name, unreadable=unreadable, written=written)
        return check_after(self.name, outcome, unreadable, check)

    def write(self, text: Text) -> None:
        """Replace the file's text. Raises Trouble where somebody else changed it meanwhile, or it cannot be written."""
        replace_file(self.path, self.data, text.encode())
