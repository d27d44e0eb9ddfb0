"""The only module that reads and writes a server's files.

A file is written beside its place, synced, given the old one's mode and owner, and renamed over it. Several files are
one transaction: ``prepare`` writes every new content beside its place, a manifest of the old and new digests is made
durable, and only then ``commit`` makes the first rename.
"""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct, json

from roundgate.core.files import Unreadable
from roundgate.core.text import NotText, Text, decode
from roundgate.host.errors import Trouble

LARGEST = 200 * 1024 * 1024
_TEMPORARY = ".{name}.roundgate-{mark}"


class Replacement(Struct, frozen=True):
    """One file of a transaction; digests are SHA-256 in hexadecimal, None where the file is not there."""

    path: str
    target: str
    temporary: str | None
    old: str | None
    new: str | None


class Folder(Struct, frozen=True):
    """A server's folder, and the folders outside it that the site file allows its links to lead to."""

    root: str
    allowed: tuple[str, ...] = ()

    def resolve(self, path: str) -> str:
        """Follow links to where a file really is. Raises Trouble where that is outside the allowed folders."""
        real = os.path.realpath(os.path.join(self.root, path))
        for home in (self.root, *self.allowed):
            top = os.path.realpath(home)
            if real == top or real.startswith(top + os.sep):
                return real
        raise Trouble(
            f"{path} leads to {real}, outside the server's folder.",
            "Name that folder under 'outside' in the site file if Round Gate may write there.",
        )


def digest(data: bytes | None) -> str | None:
    """Give the SHA-256 of a file's bytes, None for a file that is not there."""
    import hashlib  # it loads a large library, and a command that only looks needs none of it

    return None if data is None else hashlib.sha256(data).hexdigest()


def read_bytes(path: str) -> bytes | None:
    """Give a file's bytes, or None where it does not exist. Raises OSError for anything else."""
    try:
        with open(path, "rb") as file:
            return file.read(LARGEST + 1)
    except FileNotFoundError:
        return None


def read_texts(folder: Folder, paths: Iterable[str]) -> tuple[dict[str, Text], dict[str, Unreadable]]:
    """Read files as texts: those that could be read, by path, and for the others the cause."""
    texts: dict[str, Text] = {}
    unreadable: dict[str, Unreadable] = {}
    for path in paths:
        try:
            data = read_bytes(folder.resolve(path))
            if data is not None and len(data) > LARGEST:
                cause = f"{path} is larger than {LARGEST >> 20} MB, too large for a configuration file"
                unreadable[path] = Unreadable("file-unreadable", cause)
            elif data is not None:
                texts[path] = decode(data)
        except NotText as error:
            unreadable[path] = Unreadable("file-not-text", f"{path}: {error}")
        except OSError as error:
            why = (error.strerror or str(error)).lower()
            unreadable[path] = Unreadable("file-unreadable", f"{path} cannot be read: {why}")
        except Trouble as error:
            unreadable[path] = Unreadable("file-unreadable", error.what.rstrip("."))
    return texts, unreadable


def sync_folder(path: str) -> None:
    """Make the names in a folder durable."""
    handle = os.open(path, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def write_durably(path: str, data: bytes, mode: int = 0o600) -> None:
    """Write a file of our own so that it is wholly there or not at all, and durable."""
    temporary = path + ".new"
    handle = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, mode)
    try:
        _write_all(handle, data)
        os.fsync(handle)
    finally:
        os.close(handle)
    os.replace(temporary, path)
    sync_folder(os.path.dirname(path))


def _write_all(handle: int, data: bytes) -> None:
    view = memoryview(data)
    while view:
        view = view[os.write(handle, view) :]


def replace_file(path: str, before: bytes, data: bytes) -> None:
    """Write one file of no server: beside its place, then renamed over it. A link stays one.

    Raises Trouble where the file is no longer what ``before`` says, or cannot be written.
    """
    target = os.path.realpath(path)
    if read_bytes(target) != before:
        raise Trouble(f"{path} was changed by somebody else just now.", "Look at it, then try again.")
    temporary = _temporary(target, "edit")
    try:
        _write_beside(target, temporary, data)
        os.replace(temporary, target)
    except OSError as error:
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        raise Trouble(
            f"{path} cannot be written: {(error.strerror or str(error)).lower()}.", "Nothing was changed."
        ) from error
    sync_folder(os.path.dirname(target))


def prepare(folder: Folder, contents: Mapping[str, bytes | None], mark: str) -> list[Replacement]:
    """Write every new content beside its place, with the old file's mode and owner; nothing is replaced yet.

    None as content stands for a file that is to go. On failure what was written is removed again.
    """
    made: list[Replacement] = []
    try:
        for path, data in contents.items():
            made.append(_prepare_one(folder, path, data, mark))
    except BaseException:
        discard(made)
        raise
    return made


def _prepare_one(folder: Folder, path: str, data: bytes | None, mark: str) -> Replacement:
    target = folder.resolve(path)
    old = read_bytes(target)
    temporary = None
    if data is not None:
        temporary = _temporary(target, mark)
        try:
            _write_beside(target, temporary, data)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(temporary)
            raise
    return Replacement(path, target, temporary, digest(old), digest(data))


def _temporary(target: str, mark: str) -> str:
    return os.path.join(os.path.dirname(target), _TEMPORARY.format(name=os.path.basename(target), mark=mark))


def sweep(folder: Folder, paths: Iterable[str], mark: str) -> None:
    """Remove what a broken-off ``prepare`` of these paths may have left beside them."""
    for path in paths:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(_temporary(folder.resolve(path), mark))


def write_obstacle(folder: Folder, path: str) -> str:
    """Say what would keep this user from writing a file, or give an empty text. Raises Trouble as ``resolve`` does."""
    target = folder.resolve(path)
    if os.path.exists(target) and not os.access(target, os.W_OK):
        return f"{path} is write-protected"
    if not os.access(os.path.dirname(target), os.W_OK):
        return f"The folder that holds {path} is write-protected"
    return ""


def _write_beside(target: str, temporary: str, data: bytes) -> None:
    try:
        like = os.stat(target)
        if not os.access(target, os.W_OK):
            raise PermissionError(13, "it is write-protected", target)
    except FileNotFoundError:
        like = None
    with contextlib.suppress(FileNotFoundError):
        os.unlink(temporary)
    handle = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    try:
        _write_all(handle, data)
        if like is not None:
            _take_after(handle, like)
        os.fsync(handle)
    finally:
        os.close(handle)


def _take_after(handle: int, like: os.stat_result) -> None:
    """Give a new file the owner and mode of the old one; an owner that the system does not let us give is kept out."""
    mine = os.fstat(handle)
    if (mine.st_uid, mine.st_gid) != (like.st_uid, like.st_gid):
        os.fchown(handle, like.st_uid, like.st_gid)
    os.fchmod(handle, stat.S_IMODE(like.st_mode))


def manifest_bytes(replacements: Sequence[Replacement]) -> bytes:
    """Write a transaction down."""
    return json.encode(replacements)


def read_manifest(data: bytes) -> list[Replacement]:
    """Read a transaction that was written down."""
    return json.decode(data, type=list[Replacement])


def commit(replacements: Sequence[Replacement]) -> None:
    """Rename every new file over the old one and make it durable.

    Raises Trouble before the first rename where a file has changed since it was prepared.
    """
    for one in replacements:
        if digest(read_bytes(one.target)) != one.old:
            raise Trouble(f"{one.path} was changed by somebody else just now.", "Look at it, then apply again.")
    for one in replacements:
        if one.temporary is not None:
            os.replace(one.temporary, one.target)
        elif one.old is not None:
            os.unlink(one.target)
    for parent in dict.fromkeys(os.path.dirname(one.target) for one in replacements):
        sync_folder(parent)


def discard(replacements: Sequence[Replacement]) -> None:
    """Remove what ``prepare`` wrote, as far as it is still there."""
    for one in replacements:
        if one.temporary is not None:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(one.temporary)


def strangers(replacements: Sequence[Replacement]) -> list[str]:
    """Name the files that are neither as before the transaction nor as after it: somebody else wrote them."""
    return [one.path for one in replacements if digest(read_bytes(one.target)) not in (one.old, one.new)]
