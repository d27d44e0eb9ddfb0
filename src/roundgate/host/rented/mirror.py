"""The copy of a rented server's files that lies in the site, and how it and the place are brought together.

The copy is what everything else reads; it is never the truth. Before a round writes, each file is read whole from the
place and compared with what was reviewed; after it has written, each file is read back.
"""

from __future__ import annotations

import hashlib
import io
import os
import socket
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import MsgspecError, Struct, field, json

from roundgate.core.rulebook.expansion import placeholder
from roundgate.host.errors import ChangedMeanwhile, OutOfReach, Trouble
from roundgate.host.files import digest, read_bytes, write_durably
from roundgate.host.logs.ends import PACKED
from roundgate.host.rented.protocol import Remote, RemoteFiles, leads_out, moment_of

if TYPE_CHECKING:
    from roundgate.core.rulebook.model import Rulebook

_SETTLED = 120.0
"""Seconds for which a file must have had its size and time until it counts as the same: services may know minutes."""
_AGAIN = 20.0
"""Seconds after which a place that was out of reach is tried again."""
_FRESH = 1.0
"""Seconds for which a listing is good."""
_LOG_END = 16 * 1024 * 1024
"""Bytes of a log that is read for the first time, from its end."""
_LOOKED_BACK = 512
"""Bytes by which a log is known again."""


class _Known(Struct, frozen=True, array_like=True):
    """A file of the copy: how the place listed it when it was read, and when that was first seen."""

    listed: Remote
    first_seen: float
    read: float


class _Index(Struct):
    files: dict[str, _Known] = field(default_factory=dict)
    looked: float = 0.0
    holes: dict[str, int] = field(default_factory=dict)
    """Logs of which the first bytes, so many, have not been read."""


class Mirror:
    """One rented server's files, as far as this command has to do with them."""

    def __init__(self, folder: Path, remote: RemoteFiles) -> None:
        """Read what is known of the copy."""
        self.folder = folder
        self.remote = remote
        self.mark = hashlib.sha256(f"{socket.gethostname()} {folder}".encode()).hexdigest()[:6]
        """Tells what this site writes beside the server's files from what another administrator's does."""
        self.out_of_reach: OutOfReach | None = None
        """Why the copy could not be compared with the place, where it could not."""
        self._tried = 0.0
        self._listings: dict[str, tuple[float, dict[str, Remote]]] = {}
        self._at = folder.with_name(f"{folder.name}.json")
        self._index = _Index()
        raw = read_bytes(str(self._at))
        with suppress(MsgspecError):
            self._index = json.decode(raw, type=_Index) if raw else _Index()

    @property
    def looked(self) -> float:
        """When the copy was last compared with the place, in seconds since 1970; 0 for never."""
        return self._index.looked

    # --- from the place ---

    def paths_of(self, book: Rulebook) -> list[str]:
        """Name the files that a rulebook has something to say of, patterns resolved by the place's listings."""
        found: list[str] = []
        for file in book.file.values():
            place = placeholder(file.path)
            if place is None:
                found.append(file.path)
                continue
            number, pattern = place
            parts = file.path.split("/")
            for name in self._listed("/".join(parts[:number])):
                if pattern.fullmatch(name):
                    found.append("/".join((*parts[:number], name, *parts[number + 1 :])))
        return [path for path in dict.fromkeys(found) if path]

    def pull_book(self, book: Rulebook) -> None:
        """Bring what a rulebook names up to date; where the place is out of reach, the copy has to do.

        Raises Trouble where there is no copy yet, or the place says no.
        """
        try:
            self.pull(self.paths_of(book))
            if book.rulebook.version is not None:  # mostly a log, which is added to and never read anew
                self.pull_log(book.rulebook.version.file)
        except OutOfReach as error:
            if not self.looked:
                raise
            self._tried, self.out_of_reach = time.monotonic(), error

    def refresh(self, paths: Iterable[str]) -> None:
        """Bring files up to date as far as the place can be reached. Raises Trouble where it says no."""
        if self.out_of_reach is None or time.monotonic() - self._tried > _AGAIN:
            self._tried, self.out_of_reach = time.monotonic(), None
            try:
                self.pull(paths)
            except OutOfReach as error:
                self.out_of_reach = error

    def pull(self, paths: Iterable[str], *, whole: bool = False) -> None:
        """Read what has changed, or with ``whole`` everything, and keep it. Raises OutOfReach, Trouble."""
        now = time.time()
        if whole:
            self._listings.clear()
        for path in dict.fromkeys(paths):
            target = self._target(path)
            above, _, name = path.rpartition("/")
            listed = self._listed(above).get(name)
            known = self._index.files.get(path)
            if listed is None or listed.is_folder:
                target.unlink(missing_ok=True)
                self._index.files.pop(path, None)
                continue
            if listed.leads_out:
                raise leads_out(path, self.remote.address)
            is_same = known is not None and known.listed == listed
            first_seen = known.first_seen if known is not None and is_same else now
            if is_same and known is not None and not whole and known.read - first_seen > _SETTLED and target.is_file():
                continue
            data = self.remote.read(path)
            self._keep(path, data)
            if data is not None:
                self._index.files[path] = _Known(listed, first_seen, now)
        self._index.looked = now
        self._write_index()

    def _target(self, path: str) -> Path:
        """Return where the copy of a file is. Raises Trouble for a path that leads out of the server's folder."""
        if path.startswith("/") or ".." in path.split("/"):
            raise Trouble(f"{path} leads out of the folder on {self.remote.address.host}.", "Correct the rulebook.")
        return self.folder / path

    def _listed(self, folder: str) -> dict[str, Remote]:
        held = self._listings.get(folder)
        if held is None or time.monotonic() - held[0] > _FRESH:
            held = self._listings[folder] = (time.monotonic(), self.remote.listing(folder))
        return held[1]

    def _keep(self, path: str, data: bytes | None) -> None:
        """Make the copy of a file what the place has."""
        target = self._target(path)
        if data is None:
            target.unlink(missing_ok=True)
        elif read_bytes(str(target)) != data:
            target.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            write_durably(str(target), data)

    def _write_index(self) -> None:
        # Where it cannot be kept, everything is read again the next time.
        with suppress(OSError):
            write_durably(str(self._at), json.encode(self._index))

    # --- to the place ---

    def compare(self, expected: Mapping[str, str | None]) -> None:
        """See that files there have these digests, None for one that is not there.

        Raises ChangedMeanwhile, OutOfReach or Trouble.
        """
        for path, wanted in expected.items():
            if digest(self.remote.read(path)) != wanted:
                raise ChangedMeanwhile(path)

    def push(self, contents: Mapping[str, bytes | None], mark: str) -> None:
        """Write all files of a round: each beside its place first, and then by its name; None removes one.

        Raises OutOfReach or Trouble at any point: what is written then is put back by the round.
        """
        for path, data in contents.items():
            if data is not None:
                self._write_checked(self._beside(path, mark), data)
        for path, data in contents.items():
            if data is None:
                self.remote.remove(path)
            else:
                self.remote.rename(self._beside(path, mark), path)
            if self.remote.read(path) != data:
                raise Trouble(f"{path} is not what was written, on {self.remote.address.host}.", "")
        self._listings.clear()

    def _write_checked(self, path: str, data: bytes) -> None:
        above = path.rpartition("/")[0]
        if above and not self._listed(above):  # it is not there, or empty
            self.remote.make_folders(above)
        self.remote.write(path, data)
        if self.remote.read(path) != data:
            raise Trouble(
                f"{path} came out otherwise than it was sent, on {self.remote.address.host}.",
                "See whether there is room left.",
            )

    def _beside(self, path: str, mark: str) -> str:
        above, _, name = path.rpartition("/")
        beside = f".{name}.roundgate-{mark}-{self.mark}"
        return f"{above}/{beside}" if above else beside

    def sweep(self, paths: Iterable[str], marks: Sequence[str]) -> None:
        """Remove what an interrupted write has left beside its place. Raises OutOfReach, Trouble."""
        self._listings.clear()
        for path in dict.fromkeys(paths):
            for mark in marks:
                # Whether they are there is not looked up: some services do not list what begins with a dot.
                self.remote.remove(self._beside(path, mark))
                self.remote.remove(f"{self._beside(path, mark)}-old")

    # --- logs ---

    def pull_logs(self, patterns: Sequence[str], *, whole: bool = False) -> None:
        """Bring the copies of the logs up to date that fit patterns of a rulebook whose last part may have ``*``.

        With ``whole`` those that are packed too, and those of which only the end has been read so far, to their start.
        Raises OutOfReach, Trouble.
        """
        for path in self._logs(patterns):
            if whole or not path.endswith(PACKED):
                self.pull_log(path, whole=whole)

    def _logs(self, patterns: Sequence[str]) -> list[str]:
        found = []
        for pattern in patterns:
            above, _, last = pattern.rpartition("/")
            if "*" not in above:
                names = [name for name, one in self._listed(above).items() if not one.is_folder]
                found += [f"{above}/{name}" if above else name for name in names if fnmatchcase(name, last)]
        return list(dict.fromkeys(found))

    def pull_log(self, path: str, *, whole: bool = False) -> None:
        """Bring the copy of a log up to date: what has come since is added to it. Raises OutOfReach, Trouble.

        Of a long one that was never read, only the end comes, unless ``whole`` is wanted; the copy has a hole then.
        """
        target = self._target(path)
        above, _, name = path.rpartition("/")
        listed = self._listed(above).get(name)
        if listed is None:
            return
        have = target.stat().st_size if target.is_file() else 0
        is_holed = path in self._index.holes
        if have == listed.size and not (whole and is_holed):
            return
        target.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        goes_on = 0 < have < listed.size and not path.endswith(PACKED) and not (whole and is_holed)
        if not (goes_on and self._read_on(path, target, have)):
            start = 0 if whole or path.endswith(PACKED) else max(0, listed.size - _LOG_END)
            self._read_anew(path, target, start)
        moment = moment_of(listed.modified)
        if moment is not None and target.is_file():  # who comes and goes is read from the oldest log on
            os.utime(target, (moment, moment))

    def _read_on(self, path: str, target: Path, have: int) -> bool:
        """Add to a copy what has come since; return whether the log is still the one that was read before."""
        looked_back = min(have, _LOOKED_BACK)
        with target.open("r+b") as file:
            file.seek(have - looked_back)
            before = file.read()
            new = io.BytesIO()
            self.remote.fetch(path, new, have - looked_back)
            if not new.getvalue().startswith(before):
                return False
            file.seek(have)
            file.write(new.getvalue()[looked_back:])
        return True

    def _read_anew(self, path: str, target: Path, start: int) -> None:
        target.unlink(missing_ok=True)
        # Before the first byte: a line that breaks must not leave a hole that nobody knows of.
        if start:
            self._index.holes[path] = start
        else:
            self._index.holes.pop(path, None)
        self._write_index()
        with target.open("wb") as file:
            os.fchmod(file.fileno(), 0o600)
            file.seek(start)
            is_there = self.remote.fetch(path, file, start)
        if not is_there:
            target.unlink()

    # --- what no rulebook names ---

    def has(self, path: str) -> bool | None:
        """Return whether the place has something of that name; None where it is out of reach. Raises Trouble."""
        above, _, name = path.strip("/").rpartition("/")
        try:
            return name in self._listed(above)
        except OutOfReach:
            return None

    def names(self, folder: str) -> list[str]:
        """Name the files in a folder of the place; of the copy, where the place is out of reach. Raises Trouble."""
        folder = folder.removeprefix(".")
        with suppress(OutOfReach):
            return [name for name, one in self._listed(folder).items() if not one.is_folder]
        here = self._target(folder)
        return [path.name for path in here.iterdir() if path.is_file()] if here.is_dir() else []

    def pull_below(self, root: str, wants: Callable[[str, Remote], bool]) -> None:
        """Bring what is below a folder, as far as it is wanted, up to date; its folders are made here too.

        Raises OutOfReach, Trouble.
        """
        wanted = []
        for path, one in self.remote.walk(root, wants):
            if one.is_folder:
                self._target(path).mkdir(mode=0o700, parents=True, exist_ok=True)
            else:
                wanted.append(path)
        self.pull(wanted)
