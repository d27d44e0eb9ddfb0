"""An open site: its servers, and the store of what is remembered of them."""

from __future__ import annotations

from pathlib import Path

from roundgate.api.server import OpenServer
from roundgate.host.servers import Server
from roundgate.host.site import Site, choose_one, choose_servers, find_site
from roundgate.host.store import Store


class OpenSite:
    """A site whose store is open. Close it, or use it as a context manager."""

    def __init__(self, site: Site, here: Path | None = None) -> None:
        """Open the store. ``here`` is the folder that tells which server is meant where none is named.

        Raises Trouble where the store cannot be opened.
        """
        self.site = site
        self.here = here or site.folder
        self.store = Store(site.state)
        self._open: dict[tuple[str, bool], OpenServer] = {}

    def __enter__(self) -> OpenSite:
        """Return the site itself."""
        return self

    def __exit__(self, *_error: object) -> None:
        """Close the store."""
        self.close()

    def close(self) -> None:
        """Close the store."""
        self.store.close()

    @property
    def names(self) -> list[str]:
        """The names of its servers, as in the site file."""
        return list(self.site.file.server)

    def server(self, word: str | None = None, *, lenient: bool = False) -> OpenServer:
        """Return the one server that a word means; ``lenient`` where a broken rulebook must not be in the way.

        Raises UnknownName or WrongUsage.
        """
        return self.opened(choose_one(self.site, word, self.here), lenient=lenient)

    def servers(self, word: str | None = "@all", *, lenient: bool = False) -> list[OpenServer]:
        """Return the servers that a word means: a name, several by commas, ``@tag`` or ``@all``. Raises UnknownName."""
        if word == "@all":
            return [self.opened(name, lenient=lenient) for name in self.names]
        return [self.opened(name, lenient=lenient) for name in choose_servers(self.site, word, self.here)]

    def opened(self, name: str, *, lenient: bool = False) -> OpenServer:
        """Return a server by its whole name, the same object each time."""
        key = (name, lenient)
        if key not in self._open:
            self._open[key] = OpenServer(Server(self.site, name, lenient), self.store)
        return self._open[key]


def open_site(folder: str | Path | None = None) -> OpenSite:
    """Open the site in a folder, else the one that ROUNDGATE_SITE names, else the nearest one upward from here.

    Raises NoSite, or Trouble where the site file is wrong.
    """
    here = Path.cwd()
    return OpenSite(find_site(None if folder is None else str(folder), here), here)
