"""Archives of two kinds, written and read member by member; nothing in one can lead out of the folder."""

from __future__ import annotations

import hashlib
import lzma
import os
import stat
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import IO, Protocol, cast

from roundgate.core.next_step import typed_command
from roundgate.host.backups.manifest import Manifest, SavedFile
from roundgate.host.errors import Trouble

_PIECE = 1024 * 1024
Progress = Callable[[int], None]
"""Is told how many more bytes are done."""


class Readable(Protocol):
    """What can be read on."""

    def read(self, size: int = -1, /) -> bytes:
        """Return so many more bytes, or all; none at the end."""
        ...


class Writer(Protocol):
    """Puts files into an archive."""

    def file(self, member: SavedFile, source: Readable) -> None:
        """Put a file in."""
        ...

    def link(self, path: str, target: str) -> None:
        """Put a symbolic link in."""
        ...


class _Tar:
    def __init__(self, archive: tarfile.TarFile) -> None:
        self.archive = archive

    def file(self, member: SavedFile, source: Readable) -> None:
        """See Writer."""
        info = tarfile.TarInfo(member.path)
        info.size, info.mode, info.mtime = member.size, member.mode, int(member.changed)
        self.archive.addfile(info, cast(IO[bytes], source))

    def link(self, path: str, target: str) -> None:
        """See Writer."""
        info = tarfile.TarInfo(path)
        info.type, info.linkname = tarfile.SYMTYPE, target
        self.archive.addfile(info)


class _Zip:
    def __init__(self, archive: zipfile.ZipFile) -> None:
        self.archive = archive

    def file(self, member: SavedFile, source: Readable) -> None:
        """See Writer."""
        info = zipfile.ZipInfo(member.path)
        info.external_attr = (stat.S_IFREG | member.mode) << 16
        info.compress_type = zipfile.ZIP_DEFLATED
        info.file_size = member.size
        with self.archive.open(info, "w", force_zip64=True) as into:
            while piece := source.read(_PIECE):
                into.write(piece)

    def link(self, path: str, target: str) -> None:
        """See Writer."""
        info = zipfile.ZipInfo(path)
        info.external_attr = (stat.S_IFLNK | 0o777) << 16
        self.archive.writestr(info, target)


@contextmanager
def writing(path: Path, kind: str) -> Iterator[Writer]:
    """Write an archive; it is durable when the block ends. Raises OSError."""
    with path.open("xb") as raw:
        # Before anything is in it: the files may hold passwords.
        os.fchmod(raw.fileno(), 0o600)
        if kind == "zip":
            with zipfile.ZipFile(raw, "w", allowZip64=True) as packed:
                yield _Zip(packed)
        else:
            import zstandard

            with (
                zstandard.ZstdCompressor(level=6, threads=-1).stream_writer(raw, closefd=False) as squeezed,
                tarfile.open(fileobj=squeezed, mode="w|", format=tarfile.PAX_FORMAT) as archive,
            ):
                yield _Tar(archive)
        raw.flush()
        os.fsync(raw.fileno())


class ArchiveMember:
    """One member as an archive has it: its path, what it points to where it is a link, and whether it is a file."""

    def __init__(self, path: str, link: str, *, is_file: bool) -> None:
        """Keep what it is."""
        self.path, self.link, self.is_file = path, link, is_file


def members(path: Path, manifest: Manifest) -> Iterator[tuple[ArchiveMember, IO[bytes] | None]]:
    """Yield each member of a backup's archive with its bytes, in order. Use it within ``damage_told``.

    An archive that holds much more than its manifest names is damaged: it is not read to its end.
    """
    yield from _zipped(path) if manifest.format == "zip" else _tarred(path, _most_of_tar(manifest))


def _most_of_tar(manifest: Manifest) -> int:
    """Return how many bytes the plain tar of a backup can have: its files in blocks, and heads with long names."""
    names = [member.path for member in manifest.members] + [part for link in manifest.links for part in link]
    return manifest.size + sum(4096 + 4 * len(name.encode("utf-8", "replace")) for name in names) + 65536


_DAMAGE = (
    *(tarfile.TarError, zipfile.BadZipFile, zlib.error, lzma.LZMAError, struct.error),
    # What is encrypted or packed in an unknown way, and numbers that cannot be.
    *(EOFError, ValueError, RuntimeError, OverflowError, LookupError),
)
"""What the libraries raise for an archive that is damaged, or was made to harm."""


@contextmanager
def damage_told(path: Path) -> Iterator[None]:
    """Report that an archive is damaged, or not there, wherever that shows. Raises Trouble."""
    try:
        yield
    except FileNotFoundError as error:
        if error.filename is not None and Path(error.filename) == path:
            raise Trouble(f"The archive {path} is not there.", typed_command("backup list")) from error
        raise
    except _DAMAGE as error:
        raise Trouble(f"The archive {path.name} is damaged: {error}.", typed_command("backup list")) from error
    except OSError as error:
        if error.errno:
            raise
        raise Trouble(f"The archive {path.name} is damaged: {error}.", typed_command("backup list")) from error


def _zipped(path: Path) -> Iterator[tuple[ArchiveMember, IO[bytes] | None]]:
    with zipfile.ZipFile(path) as archive:
        for info in archive.infolist():
            mode = info.external_attr >> 16
            if info.is_dir():
                continue
            with archive.open(info) as file:
                if stat.S_ISLNK(mode):
                    target = file.read(_LONGEST_LINK + 1)
                    yield ArchiveMember(info.filename, target.decode("utf-8", "replace"), is_file=False), None
                else:
                    yield ArchiveMember(info.filename, "", is_file=not mode or stat.S_ISREG(mode)), file


def _tarred(path: Path, most: int) -> Iterator[tuple[ArchiveMember, IO[bytes] | None]]:
    import zstandard

    with path.open("rb") as raw:
        try:
            with (
                zstandard.ZstdDecompressor().stream_reader(raw, closefd=False) as plain,
                tarfile.open(fileobj=cast(IO[bytes], _Bounded(plain, most)), mode="r|") as archive,
            ):
                for info in archive:
                    if info.isdir():
                        continue
                    link = info.linkname if info.issym() or info.islnk() else ""
                    file = archive.extractfile(info) if info.isreg() else None
                    yield ArchiveMember(info.name, link, is_file=info.isreg()), file
        except zstandard.ZstdError as error:
            raise ValueError(str(error)) from error


class _Bounded:
    """Reads on, up to so many bytes: thirty packed kilobytes can become gigabytes. Raises ValueError beyond them."""

    def __init__(self, source: Readable, most: int) -> None:
        self.source, self.left = source, most

    def read(self, size: int = -1, /) -> bytes:
        """Read on."""
        piece = self.source.read(size)
        self.left -= len(piece)
        if self.left < 0:
            raise ValueError("it holds more than was saved")
        return piece


_LONGEST_LINK = 4096
"""Bytes of what a link points to: PATH_MAX of Linux."""
_MOST_LINKS = 40
"""Links that the system follows on one way; source: path_resolution(7)."""
PLAIN_MODE = 0o777
"""The rights that a file may have: a backup makes no program that runs with its owner's rights."""


def leads_outside(path: str, links: Mapping[str, str]) -> bool:
    """Return whether a link leads out of the folder that its path is in, by way of ``links``, all that there are.

    Each alone may stay inside: ``a/b/up -> ../..`` does, and ``z -> a/b/up/..`` does by its letters.
    """
    at: list[str] = []
    left, followed = path.split("/")[::-1], 0
    while left:
        part = left.pop()
        if part == ".." and not at:
            return True
        if part == "..":
            at.pop()
        elif part not in ("", "."):
            at.append(part)
            target = links.get("/".join(at))
            if target is not None:
                followed += 1
                if target.startswith("/") or "\0" in target:
                    return True
                if followed > _MOST_LINKS:
                    return False  # it leads nowhere
                at.pop()
                left += target.split("/")[::-1]
    return False


def refuse_odd(found: ArchiveMember) -> None:
    """Refuse a member whose path leads out of the folder, or that is neither a file nor a link. Raises Trouble."""
    parts = PurePosixPath(found.path).parts
    # Our own archives hold no such path; one that does was made or changed by somebody else.
    if not parts or found.path.startswith(("/", "\\")) or ".." in parts or "\\" in found.path or "\0" in found.path:
        raise Trouble(f"The archive holds '{found.path}', which leads out of the folder. Nothing was restored.")
    if not found.link and not found.is_file:
        raise Trouble(f"The archive holds '{found.path}', which is not an ordinary file. Nothing was restored.")


def copy_counted(
    source: IO[bytes], into: IO[bytes] | None, most: int | None = None, told: Progress | None = None
) -> tuple[int, str]:
    """Read all of a file, or just more than ``most`` bytes, writing it where wanted; return its size and its digest."""
    seen, size = hashlib.sha256(), 0
    while most is None or size <= most:
        piece = source.read(_PIECE if most is None else min(_PIECE, most + 1 - size))
        if not piece:
            break
        seen.update(piece)
        size += len(piece)
        if into is not None:
            into.write(piece)
        if told is not None:
            told(len(piece))
    return size, seen.hexdigest()


def verify(path: Path, manifest: Manifest, told: Progress | None = None) -> list[str]:
    """Read a whole archive again and compare it with its manifest; describe what is wrong. Raises Trouble."""
    wanted = {member.path: member for member in manifest.members}
    links = dict(manifest.links)
    wrong: list[str] = []
    with damage_told(path):
        for found, source in members(path, manifest):
            if found.link:
                if links.pop(found.path, None) != found.link:
                    wrong.append(f"{found.path}: the link differs from the one that was saved")
                continue
            member = wanted.pop(found.path, None)
            if member is None or source is None:
                wrong.append(f"{found.path}: was not saved")
            elif copy_counted(source, None, member.size, told) != (member.size, member.digest):
                wrong.append(f"{found.path}: the content differs from what was saved")
    return wrong + [f"{name}: is missing" for name in (*wanted, *links)]
