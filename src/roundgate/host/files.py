"""The only module that writes a server's files.

A file is written beside its place, synced, given the old one's mode and owner, and changes places with it. Several
files are one transaction: ``prepare`` writes every new content beside its place, a manifest of the old and new digests
is made durable, and only then ``commit`` begins.
"""

from __future__ import annotations

import contextlib
import os
import stat
import time
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence

from msgspec import Struct, json

from roundgate.core.files import Unreadable
from roundgate.core.text import NotText, Text, decode
from roundgate.host.errors import ChangedMeanwhile, Trouble
from roundgate.host.handles import NotAFile
from roundgate.host.places import LARGEST, Folder, OpenPlace, read_handle

__all__ = ["LARGEST", "Folder", "NotAFile"]

_TEMPORARY = ".{name}.roundgate-{mark}"

_UMASK = os.umask(0o077)
os.umask(_UMASK)
"""The mask that this process was started with, for new files that have no neighbours."""


class Replacement(Struct, frozen=True):
    """One file of a transaction; digests are SHA-256 in hexadecimal, None where the file is not there."""

    path: str
    target: str
    temporary: str | None
    old: str | None
    new: str | None


def digest(data: bytes | None) -> str | None:
    """Return the SHA-256 of a file's bytes, None for a file that is not there."""
    import hashlib  # it loads a large library, and a command that only looks needs none of it

    return None if data is None else hashlib.sha256(data).hexdigest()


def read_bytes(path: str) -> bytes | None:
    """Return a file's bytes, or None where it does not exist. Raises OSError for anything else, a pipe too."""
    try:
        # Without O_NONBLOCK, opening a named pipe waits until somebody writes to it.
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY)
    except FileNotFoundError:
        return None
    return read_handle(handle, path)


def text_of(path: str, data: bytes) -> Text | Unreadable:
    """Return a file's text, or why its bytes are none."""
    if len(data) > LARGEST:
        cause = f"{path} is larger than {LARGEST >> 20} MB, too large for a configuration file"
        return Unreadable("file-unreadable", cause)
    try:
        return decode(data)
    except NotText as error:
        return Unreadable("file-not-text", f"{path}: {error}")


class SeenTexts:
    """Texts as they were read last, given again as long as the disk says that their files are the same.

    A file is known by its device, inode, size and times. One that was modified just before it was looked at is read
    again the next time: another write in the same tick of the clock would not show in its times.
    """

    def __init__(self) -> None:
        """Hold nothing yet."""
        self._held: dict[str, tuple[tuple[int, ...], Text]] = {}

    def look(self, folder: Folder, path: str) -> tuple[tuple[int, ...] | None, Text | None]:
        """Return a file's signature, None where it cannot be trusted, and its text where that is known for it."""
        try:
            found = folder.stat(path)
        except (OSError, ValueError, Trouble):
            return None, None
        tick = _TICK if found.st_mtime_ns % _SECOND else _COARSE_TICK
        if time.time_ns() - found.st_mtime_ns < tick:
            return None, None
        signature = (found.st_dev, found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns)
        held = self._held.get(path)
        return signature, held[1] if held is not None and held[0] == signature else None

    def keep(self, path: str, signature: tuple[int, ...] | None, text: Text) -> None:
        """Remember what was read of a file after its signature was taken."""
        if signature is not None:
            self._held[path] = (signature, text)


_SECOND = 1_000_000_000
_TICK = 50_000_000
_SETTLED = 2 * _SECOND
"""Nanoseconds after which a file that its server writes while it runs is taken to be written."""
_COARSE_TICK = 2 * _SECOND
"""Nanoseconds between two different times of a file: file systems that know no parts of a second may take two."""


def read_texts(
    folder: Folder, paths: Iterable[str], seen: SeenTexts | None = None
) -> tuple[dict[str, Text], dict[str, Unreadable]]:
    """Read files as texts: those that could be read, by path, and for the others the cause.

    What ``seen`` holds is not read again while its file is the same. A file that somebody seems to be writing just now
    is read until it is at rest.
    """
    texts, unreadable = _read_each(folder, paths, seen)
    unfinished = [path for path, text in texts.items() if _seems_unfinished(folder, path, text)]
    unfinished += [
        path for path, why in unreadable.items() if why.code == "file-not-text" and _just_written(folder, path)
    ]
    if unfinished:
        now, causes = read_at_rest(folder, unfinished)
        texts = {path: now.get(path, text) for path, text in {**texts, **now}.items() if path not in causes}
        unreadable = {path: causes.get(path, why) for path, why in {**unreadable, **causes}.items() if path not in now}
    return texts, unreadable


def _seems_unfinished(folder: Folder, path: str, text: Text) -> bool:
    """Whether a file's writer is probably at it: it is empty or ends within a line, and was written just now."""
    return not text.body.endswith("\n") and _just_written(folder, path)


def _just_written(folder: Folder, path: str, within: int = _TICK) -> bool:
    """Whether a file was written so lately, in nanoseconds, that its writer may not have finished."""
    try:
        age = time.time_ns() - folder.stat(path).st_mtime_ns
    except (OSError, ValueError, Trouble):
        return False
    return abs(age) < within


def _read_each(
    folder: Folder, paths: Iterable[str], seen: SeenTexts | None = None
) -> tuple[dict[str, Text], dict[str, Unreadable]]:
    """Read each file once, whoever may be writing it."""
    texts: dict[str, Text] = {}
    unreadable: dict[str, Unreadable] = {}
    for path in _that_may_be_there(folder, list(paths)):
        signature, text = seen.look(folder, path) if seen else (None, None)
        if text is not None:
            texts[path] = text
            continue
        try:
            data = folder.read(path)
            found = None if data is None else text_of(path, data)
            if isinstance(found, Text):
                texts[path] = found
                if seen is not None:
                    seen.keep(path, signature, found)
            elif found is not None:
                unreadable[path] = found
        except (OSError, ValueError) as error:
            why = (getattr(error, "strerror", None) or str(error)).lower()
            unreadable[path] = Unreadable("file-unreadable", f"{path} cannot be read: {why}")
        except Trouble as error:
            unreadable[path] = Unreadable("file-unreadable", error.what.rstrip("."))
    return texts, unreadable


_FEW = 4
"""Paths up to which it is quicker to try each."""


def _that_may_be_there(folder: Folder, paths: list[str]) -> list[str]:
    """Leave out what a look at the folder shows to be missing: of the files of a rulebook, most servers have a few."""
    if len(paths) <= _FEW:
        return paths
    try:
        names = {*os.listdir(folder.root), "", ".", ".."}
    except OSError:
        return paths
    return [path for path in paths if path.partition("/")[0] in names]


_AT_REST = (0.01, 0.02, 0.03, 0.05, 0.08)
"""Seconds between two reads of a file that its server may be writing just now."""


def read_at_rest(folder: Folder, paths: Iterable[str]) -> tuple[dict[str, Text], dict[str, Unreadable]]:
    """Read files that a server writes while it runs: until twice the same comes out, else the longest that was seen.

    A file that is emptied and then written is seen shorter than it is.
    """
    wanted = list(paths)
    if not any(_just_written(folder, path, _SETTLED) for path in wanted):
        return _read_each(folder, wanted)
    best, unreadable = _read_each(folder, wanted)
    last = best
    for pause in _AT_REST:
        time.sleep(pause)  # nothing tells when a server has finished writing
        now, unreadable = _read_each(folder, wanted)
        if now == last and not any(_seems_unfinished(folder, path, text) for path, text in now.items()):
            return now, unreadable
        longer = {path for path, text in now.items() if path not in best or len(text.body) >= len(best[path].body)}
        best = {**best, **{path: now[path] for path in longer}}
        last = now
    return best, {path: why for path, why in unreadable.items() if path not in best}


def sync_folder(path: str) -> None:
    """Make the names in a folder durable."""
    handle = os.open(path, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def write_durably(path: str, data: bytes, mode: int = 0o600) -> None:
    """Write a file of our own so that it is wholly there or not at all, and durable; two at once do not mix."""
    temporary = f"{path}.{os.getpid()}-{os.urandom(4).hex()}.new"
    handle = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, mode)
    try:
        try:
            _write_all(handle, data)
            os.fsync(handle)
        finally:
            os.close(handle)
        # The new bytes are on disk before the name points at them; the other way round, a power cut leaves an empty
        # file.
        os.replace(temporary, path)
    except BaseException:
        # What the caller must hear of is why it was not written, not that the rest could not be cleared away.
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        raise
    sync_folder(os.path.dirname(path) or ".")


def _write_all(handle: int, data: bytes) -> None:
    view = memoryview(data)
    while view:
        view = view[os.write(handle, view) :]


def replace_file(path: str, before: bytes, data: bytes, within: str | None = None) -> None:
    """Write one file of no server: beside its place, then in its place. A link stays one.

    Raises Trouble where the file is no longer what ``before`` says, leads out of the folder ``within``, or cannot be
    written.
    """
    root = os.path.realpath(within) if within is not None else os.path.dirname(os.path.realpath(path))
    folder = Folder(root)
    name = os.path.relpath(os.path.join(os.path.realpath(os.path.dirname(path)), os.path.basename(path)), root)
    name = os.path.realpath(path) if within is None else name
    try:
        made = prepare(folder, {name: data}, f"edit-{os.getpid()}", {name: digest(before)})
        try:
            commit(folder, made)
        except BaseException:
            discard(folder, made)
            raise
    except ChangedMeanwhile as error:
        raise Trouble(f"{path} was changed by somebody else just now.", "Look at it, then try again.") from error
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        raise Trouble(f"{path} cannot be written: {why}.", "Nothing was changed.") from error


def prepare(
    folder: Folder, contents: Mapping[str, bytes | None], mark: str, expected: Mapping[str, str | None] | None = None
) -> list[Replacement]:
    """Write every new content beside its place, with the old file's mode and owner; nothing is replaced yet.

    None as content stands for a file that is to go. ``expected`` are the digests that the files must still have. On
    failure what was written is removed again. Raises ChangedMeanwhile, OSError or Trouble.
    """
    made: list[Replacement] = []
    try:
        for path, data in contents.items():
            made.append(_prepare_one(folder, path, data, mark))
            if expected is not None and path in expected and made[-1].old != expected[path]:
                raise ChangedMeanwhile(path)
    except BaseException:
        discard(folder, made)
        raise
    return made


def _prepare_one(folder: Folder, path: str, data: bytes | None, mark: str) -> Replacement:
    target = folder.resolve(path)
    if data is not None:
        _make_folders(os.path.dirname(target))
    with folder.place(path) as place:
        old = place.read()
        temporary = None
        if data is not None or old is not None:
            # In the same folder, since only a rename within one file system is atomic.
            temporary = _temporary(place.name, mark)
        if data is not None and temporary is not None:
            try:
                _write_beside(place, temporary, data)
            except BaseException:
                with contextlib.suppress(OSError):
                    place.beside(temporary).unlink()
                raise
    return Replacement(path, target, temporary, digest(old), digest(data))


def _make_folders(path: str) -> None:
    """Make a folder and those above it that are missing, such as the one of a mod's first key, open as theirs is."""
    if os.path.isdir(path):
        return
    above = os.path.dirname(path)
    _make_folders(above)
    os.mkdir(path)
    os.chmod(path, os.stat(above).st_mode & 0o777)  # a round's own mask is narrower than a server may need


def _temporary(name: str, mark: str) -> str:
    return _TEMPORARY.format(name=name, mark=mark)


def sweep(folder: Folder, paths: Iterable[str], mark: str) -> None:
    """Remove what a broken-off ``prepare`` or ``commit`` of these paths may have left beside them."""
    for path in paths:
        with contextlib.suppress(FileNotFoundError), folder.place(path) as place:
            place.beside(_temporary(place.name, mark)).unlink()


def write_obstacle(folder: Folder, path: str) -> str:
    """Describe what keeps this user from writing a file; empty: nothing does. Raises Trouble as ``resolve`` does."""
    target = folder.resolve(path)
    if os.path.exists(target) and not os.access(target, os.W_OK):
        return f"{path} is write-protected"
    above = os.path.dirname(target)
    while not os.path.exists(above):
        above = os.path.dirname(above)
    if not os.access(above, os.W_OK):
        return f"The folder that holds {path} is write-protected"
    return ""


def _write_beside(place: OpenPlace, temporary: str, data: bytes) -> None:
    like = place.stat()
    if like is not None and not os.access(place.name, os.W_OK, dir_fd=place.folder):
        # A rename needs no right to the file itself: whoever protected it from writing would be passed over.
        raise PermissionError(13, "it is write-protected", place.path)
    place.beside(temporary).unlink()
    # O_EXCL and O_NOFOLLOW: somebody who guesses the name must not have us write through a link of theirs.
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
    handle = os.open(temporary, flags, 0o600, dir_fd=place.folder)
    try:
        _write_all(handle, data)
        if like is not None:
            _take_after(handle, like.st_uid, like.st_gid, stat.S_IMODE(like.st_mode))
        else:
            _take_after(handle, *_as_neighbours(place))
        os.fsync(handle)
    finally:
        os.close(handle)


def _take_after(handle: int, user: int, group: int, mode: int) -> None:
    """Give a new file its owner and mode; an owner that the system does not let us give is kept out."""
    mine = os.fstat(handle)
    if (mine.st_uid, mine.st_gid) != (user, group):
        # Owner before mode: a change of owner clears the set-user-ID bits.
        os.fchown(handle, user, group)
    os.fchmod(handle, mode)


def _as_neighbours(place: OpenPlace) -> tuple[int, int, int]:
    """Return the owner, group and mode that most files beside a new one have; one of its own kind counts before all."""
    ending = os.path.splitext(place.name)[1]
    found: Counter[tuple[int, int, int]] = Counter()
    with os.scandir(place.folder) as entries:
        for entry in entries:
            if entry.name.startswith(".") or not entry.is_file(follow_symlinks=False):
                continue
            known = entry.stat(follow_symlinks=False)
            mode = stat.S_IMODE(known.st_mode)
            if mode & 0o111 == 0:  # a program is not a model for a configuration file
                same = 1000 if os.path.splitext(entry.name)[1] == ending else 1
                found[known.st_uid, known.st_gid, mode] += same
    if found:
        return found.most_common(1)[0][0]
    home = os.fstat(place.folder)
    mine = os.geteuid()
    return (home.st_uid, home.st_gid, 0o666 & ~_UMASK) if mine == 0 else (mine, os.getegid(), 0o666 & ~_UMASK)


def manifest_bytes(replacements: Sequence[Replacement]) -> bytes:
    """Write a transaction down."""
    return json.encode(replacements)


def read_manifest(data: bytes) -> list[Replacement]:
    """Read a transaction that was written down."""
    return json.decode(data, type=list[Replacement])


Keep = Callable[[str, bytes], None]
"""Keeps what somebody else wrote into a file: its path and its bytes."""


def commit(folder: Folder, replacements: Sequence[Replacement], keep: Keep | None = None) -> None:
    """Put every new file in the old one's place and make it durable.

    Raises ChangedMeanwhile before the first one where a file has changed since it was prepared. One that changes after
    that, in the last instant, is given to ``keep``.
    """
    for replacement in replacements:
        if (
            folder.resolve(replacement.path) != replacement.target
            or digest(folder.read(replacement.path)) != replacement.old
        ):
            raise ChangedMeanwhile(replacement.path)
    for replacement in replacements:
        if replacement.temporary is not None:
            with folder.place(replacement.path) as place:
                replaced = _put(place, replacement)
                if keep is not None and digest(replaced) != replacement.old and replaced is not None:
                    keep(replacement.path, replaced)
                place.beside(replacement.temporary).unlink()
    for parent in dict.fromkeys(os.path.dirname(replacement.target) for replacement in replacements):
        sync_folder(parent)


def _put(place: OpenPlace, replacement: Replacement) -> bytes | None:
    """Put one new file in its place; return what was there, as far as the system let us keep it."""
    assert replacement.temporary is not None
    beside = place.beside(replacement.temporary)
    home = place.folder
    if replacement.new is None:
        os.replace(place.name, replacement.temporary, src_dir_fd=home, dst_dir_fd=home)
        return beside.read()
    if replacement.old is None:
        try:
            os.link(replacement.temporary, place.name, src_dir_fd=home, dst_dir_fd=home)
        except FileExistsError as error:
            raise ChangedMeanwhile(replacement.path) from error
        return None
    place.exchange(replacement.temporary)
    return beside.read()


def discard(folder: Folder, replacements: Sequence[Replacement]) -> None:
    """Remove what ``prepare`` wrote, as far as it is still there."""
    for replacement in replacements:
        if replacement.temporary is not None:
            with contextlib.suppress(FileNotFoundError), folder.place(replacement.path) as place:
                place.beside(replacement.temporary).unlink()


def written_by_others(folder: Folder, replacements: Sequence[Replacement]) -> list[str]:
    """Name the files that are neither as before the transaction nor as after it."""
    return [
        replacement.path
        for replacement in replacements
        if digest(folder.read(replacement.path)) not in (replacement.old, replacement.new)
    ]
