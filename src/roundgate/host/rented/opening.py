"""Opening what a rented server has: its files."""

from __future__ import annotations

from pathlib import Path

from roundgate.host.notices.secrets import Secrets
from roundgate.host.rented.address import parse_address
from roundgate.host.rented.ftp import FtpFiles
from roundgate.host.rented.mirror import Mirror
from roundgate.host.site import Site
from roundgate.host.site_file.tables import ServerEntry

_OPEN: dict[tuple[Path, str], Mirror] = {}
"""The places that this process has to do with: one connection is enough for each, and some services allow no more."""


def open_mirror(site: Site, folder: Path, entry: ServerEntry) -> Mirror:
    """Open the copy of a rented server's files in its folder. Raises Trouble where its secret is not there."""
    key = (folder, entry.folder)
    if key not in _OPEN:
        _OPEN[key] = _opened(site, folder, entry)
    return _OPEN[key]


def _opened(site: Site, folder: Path, entry: ServerEntry) -> Mirror:
    trusted = str(site.folder / entry.certificate) if entry.certificate else ""
    remote = FtpFiles(parse_address(entry.folder), str(Secrets(site).fill(entry.password)), trusted)
    return Mirror(folder, remote)


def out_of_reach() -> list[tuple[str, str, float]]:
    """Return the servers that could not be reached by this process: name, why, and when their copy was up to date."""
    return [
        (folder.name, mirror.out_of_reach.what, mirror.looked)
        for (folder, _), mirror in _OPEN.items()
        if mirror.out_of_reach is not None
    ]
