"""What every way to the files of a rented machine can do; what is above it knows no more."""

from __future__ import annotations

import calendar
import io
import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from typing import BinaryIO, Protocol

from msgspec import Struct

from roundgate.host.errors import OutOfReach, Trouble
from roundgate.host.rented.address import Address

WITHIN = 20.0
"""Seconds without a byte, after which a service counts as gone."""
LARGEST = 200 * 1024 * 1024
"""Bytes of a file that is read whole."""
PIECE = 8 * 1024 * 1024
"""Bytes of a large file that are asked for at once."""
_DEEPEST = 40
"""Folders in folders: a link that leads to a folder above it would never end."""
Progress = Callable[[int], None]
"""Is told how many more bytes are done."""


class Remote(Struct, frozen=True, array_like=True):
    """What a listing says of a file."""

    size: int
    modified: str
    """As the service writes it; it is only ever compared, but for ``moment_of``."""
    is_folder: bool = False
    leads_out: bool = False
    """Whether it is a link that leads out of the server's folder, as far as the service tells that."""


class Sink(Protocol):
    """Takes what is fetched."""

    def write(self, data: bytes, /) -> object:
        """Take the next bytes."""


class RemoteFiles(ABC):
    """The files below one folder. A connection that has broken is made anew; what is under way then is told.

    Each method raises OutOfReach where the service does not answer, and Trouble where it says no.
    """

    address: Address
    renames_over: bool | None = None
    """Whether a file can be renamed over another one; None as long as nobody has tried."""

    @abstractmethod
    def listing(self, folder: str = "") -> dict[str, Remote]:
        """Return what a folder holds, by name; nothing where there is no such folder."""

    @abstractmethod
    def fetch(self, path: str, into: Sink, start: int = 0) -> bool:
        """Write the bytes of a file, from a place on, into something; return False where it is not there.

        A line that breaks is tried again from where it broke.
        """

    @abstractmethod
    def send(self, path: str, source: BinaryIO, told: Progress = lambda _: None) -> None:
        """Write a whole file under a name that is nobody's yet."""

    @abstractmethod
    def rename(self, path: str, name: str) -> None:
        """Give a file another name, over whatever has that name."""

    @abstractmethod
    def move(self, path: str, name: str) -> None:
        """Give a file or a folder another name, which nothing has; its folder is there."""

    @abstractmethod
    def remove(self, path: str) -> None:
        """Remove a file, if it is there."""

    @abstractmethod
    def make_folder(self, path: str) -> None:
        """Make a folder, unless it is there; the one above it is there."""

    @abstractmethod
    def remove_folder(self, path: str) -> None:
        """Remove an empty folder, if it is there."""

    @abstractmethod
    def close(self) -> None:
        """Hang up."""

    def read(self, path: str, start: int = 0) -> bytes | None:
        """Return the bytes of a file, from a place on; None where it is not there. Raises OutOfReach, Trouble."""
        taken = _Limited(path)
        return taken.getvalue() if self.fetch(path, taken, start) else None

    def write(self, path: str, data: bytes) -> None:
        """Write a whole file under a name that is nobody's yet. Raises OutOfReach, Trouble."""
        self.send(path, io.BytesIO(data))

    def walk(
        self, root: str = "", wants: Callable[[str, Remote], bool] = lambda _path, _one: True, depth: int = 0
    ) -> Iterator[tuple[str, Remote]]:
        """Yield everything below a folder that is wanted, each folder before what is in it. Raises OutOfReach, Trouble.

        A folder that is not wanted is left out with all that is in it.
        """
        if depth > _DEEPEST:
            return
        for name, one in sorted(self.listing(root).items()):
            path = f"{root}/{name}" if root else name
            if not wants(path, one):
                continue
            yield path, one
            if one.is_folder and not one.leads_out:
                yield from self.walk(path, wants, depth + 1)

    def find(self, path: str) -> Remote | None:
        """Return what a listing says of a path; None where it is not there. Raises OutOfReach, Trouble."""
        above, _, name = path.rpartition("/")
        return self.listing(above).get(name)

    def make_folders(self, path: str) -> None:
        """Make a folder and those above it, unless they are there. Raises OutOfReach, Trouble."""
        parts = path.split("/")
        for count in range(1, len(parts) + 1):
            self.make_folder("/".join(parts[:count]))

    def remove_tree(self, root: str) -> None:
        """Remove a folder and all that is in it, if it is there; links go, and what they lead to stays.

        Raises OutOfReach, Trouble.
        """
        for name, one in self.listing(root).items():
            path = f"{root}/{name}"
            try:
                # Also what is listed as a folder: it may be a link to one, which is no more than a name.
                self.remove(path)
            except OutOfReach:
                raise
            except Trouble:
                if not one.is_folder:
                    raise
                self.remove_tree(path)
        self.remove_folder(root)


def is_plain(name: str) -> bool:
    """Return whether a name of a listing is that of something in the folder, and leads nowhere else."""
    return name not in ("", ".", "..") and "/" not in name and "\0" not in name


class _Limited(io.BytesIO):
    """Holds a file that is read whole. Raises Trouble for one that is too large."""

    def __init__(self, path: str) -> None:
        super().__init__()
        self._path = path

    def write(self, data: bytes, /) -> int:  # type: ignore[override]  # what is fetched is bytes
        if self.tell() + len(data) > LARGEST:
            raise Trouble(f"{self._path} is larger than {LARGEST >> 20} MB.", "It is no configuration file.")
        return super().write(data)


def moment_of(modified: str) -> float | None:
    """Return a time of a listing in seconds since 1970: MLSD's digits, or the number itself."""
    digits = modified.partition(".")[0]
    if not (digits.isascii() and digits.isdigit()):
        return None
    if len(digits) < 14:
        return float(digits)
    try:
        return float(calendar.timegm(time.strptime(digits[:14], "%Y%m%d%H%M%S")))
    except ValueError:
        return None


def leads_out(path: str, address: Address) -> Trouble:
    """Return what is said of a link that leads out of the server's folder."""
    return Trouble(
        f"{path} on {address.host} is a link that leads out of the server's folder.", "Put the file itself there."
    )
