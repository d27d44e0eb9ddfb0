"""What every way to the files of a rented machine can do; what is above it knows no more."""

from __future__ import annotations

from typing import Protocol

from msgspec import Struct

from roundgate.host.errors import Trouble
from roundgate.host.rented.address import Address

WITHIN = 20.0
"""Seconds without a byte, after which a service counts as gone."""
LARGEST = 200 * 1024 * 1024
"""Bytes of a file that is read whole."""


class Remote(Struct, frozen=True, array_like=True):
    """What a listing says of a file."""

    size: int
    modified: str
    """As the service writes it; it is only ever compared."""
    is_folder: bool = False
    leads_out: bool = False
    """Whether it is a link that leads out of the server's folder, as far as the service tells that."""


class RemoteFiles(Protocol):
    """The files below one folder. A connection that has broken is made anew; what is under way then is told.

    Each method raises OutOfReach where the service does not answer, and Trouble where it says no.
    """

    address: Address

    def listing(self, folder: str = "") -> dict[str, Remote]:
        """Return what a folder holds, by name; nothing where there is no such folder."""

    def read(self, path: str, start: int = 0) -> bytes | None:
        """Return the bytes of a file, from a place on; None where it is not there."""

    def write(self, path: str, data: bytes) -> None:
        """Write a whole file under a name that is nobody's yet."""

    def rename(self, path: str, name: str) -> None:
        """Give a file another name, over whatever has that name."""

    def remove(self, path: str) -> None:
        """Remove a file, if it is there."""

    def close(self) -> None:
        """Hang up."""


def leads_out(path: str, address: Address) -> Trouble:
    """Return what is said of a link that leads out of the server's folder."""
    return Trouble(
        f"{path} on {address.host} is a link that leads out of the server's folder.", "Put the file itself there."
    )
