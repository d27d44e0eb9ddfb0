"""What a backup holds: each file with its digest. The manifest lies beside the archive, for this user only."""

from __future__ import annotations

import re
import time
from pathlib import Path

import msgspec
from msgspec import Struct, json

from roundgate.core.next_step import typed_command
from roundgate.host.errors import Trouble
from roundgate.host.files import sync_folder, write_durably
from roundgate.host.site import Site, make_private

ENDINGS = {"tar.zst": ".tar.zst", "zip": ".zip"}
_NAME = re.compile(r"(\d+)-([A-Za-z0-9_-]+)\.json")


class SavedFile(Struct, frozen=True):
    """One file of a backup: its path from the server's folder, and what must come out of the archive again."""

    path: str
    size: int
    """Bytes."""
    digest: str
    """SHA-256, in hexadecimal digits."""
    mode: int
    changed: float
    """When it was last changed, in seconds since 1970."""


class Manifest(Struct, frozen=True):
    """One backup."""

    number: int
    server: str
    made: float
    """When it was made, in seconds since 1970."""
    what: str
    """``worlds`` or ``whole``."""
    format: str
    members: tuple[SavedFile, ...]
    links: tuple[tuple[str, str], ...] = ()
    """Symbolic links, each with what it points to; they are kept as links."""
    left_out: tuple[str, ...] = ()
    """What was not an ordinary file, such as a pipe."""
    held: bool = True
    """Whether the server was down, or held its saving meanwhile."""

    @property
    def size(self) -> int:
        """Bytes of all files."""
        return sum(member.size for member in self.members)

    @property
    def stem(self) -> str:
        """The name of its files, without an ending."""
        return f"{self.number}-{self.server}"


def folder_of(site: Site) -> Path:
    """Return the folder that holds the backups of a site; made if need be, for this user only. Raises OSError."""
    named = site.file.backup.folder
    folder = site.folder / named if named else site.state / "backups"
    if not folder.is_dir():
        make_private(site.state)
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    return folder


def archive_of(site: Site, manifest: Manifest) -> Path:
    """Return the archive of a backup."""
    return folder_of(site) / f"{manifest.stem}{ENDINGS[manifest.format]}"


def all_backups(site: Site, server: str = "") -> list[Manifest]:
    """Return the backups that there are, of one server or of all, the newest first. Damaged manifests are left out."""
    found = []
    for path in folder_of(site).iterdir():
        match = _NAME.fullmatch(path.name)
        if match and server in ("", match[2]):
            try:
                found.append(json.decode(path.read_bytes(), type=Manifest))
            except (OSError, msgspec.DecodeError):
                continue  # asked for by its number, it is told
    return sorted(found, key=lambda manifest: -manifest.number)


def backup_numbered(site: Site, number: int) -> Manifest:
    """Return one backup. Raises Trouble where there is none, or its manifest is damaged."""
    for path in folder_of(site).iterdir():
        match = _NAME.fullmatch(path.name)
        if match and int(match[1]) == number:
            try:
                return json.decode(path.read_bytes(), type=Manifest)
            except (OSError, msgspec.DecodeError) as error:
                raise Trouble(
                    f"The manifest of backup {number} is damaged: {path}.", typed_command("backup list")
                ) from error
    raise Trouble(f"There is no backup {number}.", typed_command("backup list"))


def next_number(site: Site) -> int:
    """Return the number of the next backup: above all that any file has."""
    numbers = [int(found[1]) for path in folder_of(site).iterdir() if (found := re.match(r"(\d+)-", path.name))]
    return max(numbers, default=0) + 1


def write_manifest(site: Site, manifest: Manifest) -> None:
    """Write a manifest beside its archive, durably. Raises OSError."""
    folder = folder_of(site)
    write_durably(str(folder / f"{manifest.stem}.json"), json.encode(manifest))
    sync_folder(str(folder))


def prune(site: Site, server: str) -> list[int]:
    """Delete the backups of a server that are beyond the count and the age that the site file says; give their numbers.

    The newest one always stays. Raises OSError.
    """
    rules, gone = site.file.backup, []
    for at, manifest in enumerate(all_backups(site, server)):
        is_old = rules.days and time.time() - manifest.made > rules.days * 24 * 3600
        is_beyond = rules.keep and at >= rules.keep
        if at and (is_old or is_beyond):
            for path in (archive_of(site, manifest), folder_of(site) / f"{manifest.stem}.json"):
                if path.exists():
                    path.unlink()
            gone.append(manifest.number)
    return gone
