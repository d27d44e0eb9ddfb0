"""The folder in which a round that puts a backup back keeps what comes and what goes: in the server's own, so that
renames suffice; on a rented machine as here.
"""

from __future__ import annotations

import hashlib
import os
import shutil
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from roundgate.host.errors import Trouble
from roundgate.host.places import Folder
from roundgate.host.servers import Server
from roundgate.host.site import PLACES, make_private

if TYPE_CHECKING:
    from roundgate.host.rented.protocol import RemoteFiles


def aside_of(server: Server, round: int) -> str:
    """Return the name of a round's folder, in the server's own."""
    if server.mirror is None:
        return f".{_ASIDE}{round}"
    # Not hidden, as some services do not list what is; and another administrator's site has rounds of the same numbers.
    return f"{_ASIDE}{round}-{server.mirror.mark}"


_ASIDE = "roundgate-restore-"


class SwapHome(Protocol):
    """A server's folder, as far as a swap needs it. What is done raises OSError, or Trouble, OutOfReach of a place."""

    def fill(self, path: str, unpack: Callable[[Path], object]) -> None:
        """Make a folder hold what ``unpack`` puts into a new folder of this machine."""

    def is_there(self, path: str) -> bool:
        """Return whether there is anything of that name, a link too."""

    def move(self, path: str, name: str) -> None:
        """Give something another name, which nothing has; folders for it are made."""

    def clear(self, path: str) -> None:
        """Delete a folder; what cannot be deleted stays."""


def swap_home(server: Server) -> SwapHome:
    """Return a server's folder, here or on a rented machine."""
    return RemoteHome(server, server.mirror.remote) if server.mirror is not None else LocalHome(server)


class LocalHome:
    """See SwapHome."""

    def __init__(self, server: Server) -> None:
        """Touch nothing yet."""
        self._home = Folder(str(server.folder))

    def fill(self, path: str, unpack: Callable[[Path], object]) -> None:
        """See SwapHome."""
        unpack(Path(self._home.root) / path)
        self._own(path.partition("/")[0])

    def _own(self, top: str) -> None:
        """Give what root has unpacked to whom the server's folder belongs."""
        # Only root can give files away; anybody else has unpacked them as who they are.
        if os.geteuid():
            return
        owner = Path(self._home.root).stat()
        # The deepest first: whoever owns a folder can put other files into it.
        for path in [top, *(found.path for found in self._home.walk(top))][::-1]:
            with self._home.exact(path) as place:
                os.chown(place.name, owner.st_uid, owner.st_gid, dir_fd=place.folder, follow_symlinks=False)

    def is_there(self, path: str) -> bool:
        """See SwapHome. Raises Trouble for a link on the way."""
        try:
            with self._home.exact(path) as place:
                return place.stat() is not None
        except FileNotFoundError:
            return False

    def move(self, path: str, name: str) -> None:
        """See SwapHome. Renames within one file system are atomic, and take no time for gigabytes."""
        self._home.move(path, name)

    def clear(self, path: str) -> None:
        """See SwapHome."""
        shutil.rmtree(Path(self._home.root) / path, ignore_errors=True)


class RemoteHome:
    """See SwapHome."""

    def __init__(self, server: Server, files: RemoteFiles) -> None:
        """Touch nothing yet."""
        self._server, self._files = server, files

    def fill(self, path: str, unpack: Callable[[Path], object]) -> None:
        """See SwapHome. Each file is read back and compared after it was sent."""
        self._clear_former()
        make_private(self._server.site.state / PLACES)
        here = self._server.site.state / PLACES / f"{self._server.name}.restore"
        shutil.rmtree(here, ignore_errors=True)
        try:
            unpack(here)
            for folder, _, names in os.walk(here):
                far = f"{path}/{Path(folder).relative_to(here).as_posix()}".removesuffix("/.")
                self._files.make_folders(far)
                for name in names:
                    self._send(Path(folder) / name, f"{far}/{name}")
        finally:
            shutil.rmtree(here, ignore_errors=True)

    def _clear_former(self) -> None:
        """Remove what an earlier round of this site could not, as the place was out of reach."""
        assert self._server.mirror is not None
        for name in self._files.listing():
            if name.startswith(_ASIDE) and name.endswith(f"-{self._server.mirror.mark}"):
                self.clear(name)

    def _send(self, source: Path, path: str) -> None:
        if source.is_symlink():
            raise Trouble(f"{path} is a link, which cannot be put onto a rented machine.", "Restore it with --to.")
        with source.open("rb") as file:
            self._files.send(path, file)
            file.seek(0)
            sent, came = hashlib.file_digest(file, "sha256"), _Digest()
        if not self._files.fetch(path, came) or came.seen.digest() != sent.digest():
            raise Trouble(
                f"{path} came out otherwise than it was sent, on {self._files.address.host}.",
                "See whether there is room left.",
            )

    def is_there(self, path: str) -> bool:
        """See SwapHome."""
        return self._files.find(path) is not None

    def move(self, path: str, name: str) -> None:
        """See SwapHome."""
        above = name.rpartition("/")[0]
        if above:
            self._files.make_folders(above)
        self._files.move(path, name)

    def clear(self, path: str) -> None:
        """See SwapHome."""
        with suppress(Trouble):
            self._files.remove_tree(path)


class _Digest:
    def __init__(self) -> None:
        self.seen = hashlib.sha256()

    def write(self, data: bytes, /) -> None:
        self.seen.update(data)
