"""Opening what a rented server has: its files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from roundgate.host.notices.secrets import Secrets
from roundgate.host.rented.address import parse_address
from roundgate.host.rented.mirror import Mirror
from roundgate.host.rented.protocol import RemoteFiles
from roundgate.host.site import PLACES, Site, make_private
from roundgate.host.site_file.tables import ServerEntry

if TYPE_CHECKING:
    from roundgate.host.rented.ssh import Ssh

_OPEN: dict[tuple[Path, str], Mirror] = {}
"""The places that this process has to do with: one connection is enough for each, and some services allow no more."""


def open_mirror(site: Site, folder: Path, entry: ServerEntry) -> Mirror:
    """Open the copy of a rented server's files in its folder. Raises Trouble where its secret is not there."""
    key = (folder, entry.folder)
    if key not in _OPEN:
        _OPEN[key] = _opened(site, folder, entry)
    return _OPEN[key]


def _opened(site: Site, folder: Path, entry: ServerEntry) -> Mirror:
    return Mirror(folder, open_files(site, folder.name, entry))


def open_files(site: Site, server: str, entry: ServerEntry) -> RemoteFiles:
    """Return the way to a rented server's files; nothing is connected yet. Raises Trouble."""
    return files_at(site, server, entry, str(Secrets(site).fill(entry.password)))


def files_at(site: Site, server: str, entry: ServerEntry, password: str) -> RemoteFiles:
    """Return the way to the files of a server that may not be one of the site yet."""
    address = parse_address(entry.folder)
    if address.scheme == "sftp":
        from roundgate.host.rented.sftp import SftpFiles

        return SftpFiles(address, ssh_of(site, server, entry, password))

    from roundgate.host.rented.ftp import FtpFiles

    trusted = str(site.folder / entry.certificate) if entry.certificate else ""
    return FtpFiles(address, password, trusted)


def ssh_of(site: Site, server: str, entry: ServerEntry, password: str) -> Ssh:
    """Return how ``ssh`` is called for a server."""
    from roundgate.host.rented.ssh import Ssh

    configuration = str(site.folder / entry.ssh_config) if entry.ssh_config else ""
    make_private(site.state / PLACES)
    return Ssh(server, parse_address(entry.folder), password, site.folder, configuration)


def out_of_reach() -> list[tuple[str, str, float]]:
    """Return the servers that could not be reached by this process: name, why, and when their copy was up to date."""
    return [
        (folder.name, mirror.out_of_reach.what, mirror.looked)
        for (folder, _), mirror in _OPEN.items()
        if mirror.out_of_reach is not None
    ]
