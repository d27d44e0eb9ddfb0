"""The step save: every file that the round may touch, copied after the stop, durable before anything is written."""

from __future__ import annotations

import os
import shutil
import stat
import time
from collections.abc import Collection, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

from msgspec import MsgspecError, Struct, json

from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.host.books import SUMMARY
from roundgate.host.errors import Trouble
from roundgate.host.files import Folder, digest, read_bytes, sync_folder, write_durably
from roundgate.host.places import Found
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import RoundAborted
from roundgate.host.site import Site
from roundgate.host.site_file.checking import SITE_FILE

INDEX = {"before": "saved.json", "started": "started.json"}
"""The indexes of the two sets of copies: the files before the round wrote, and as the running server had read them."""
MANIFEST = "manifest.json"
DELETED = "deleted.json"
WORLDS = "worlds"
KEPT = "kept-"
"""How the copies of what others had written begin: they may be somebody's only copy."""


class Deletion(Struct, frozen=True):
    """What a round's folder remembers once the files that it saved are deleted."""

    at: float
    """When they were deleted, in seconds since 1970."""


def save_ahead(round: Round) -> None:
    """Save while the server still runs what is the same after its stop: the outage need not wait for the disk.

    That is what it had started with, and the files that it never writes itself; ``save`` compares those once more.
    What cannot be saved now is saved then, or its failure told.
    """
    save_started(round)
    kept = {file.path for file in round.server.book.file.values() if file.rewritten == "never"}
    with suppress(OSError, Trouble):
        folder = round.make_folder()
        for path, text in round.workspace.read().files.texts.items():
            if path in kept:
                data = text.encode()
                write_durably(str(folder / _file_name("before", path)), data)
                round.saved_ahead[path] = digest(data)


def save(round: Round, paths: Sequence[str], needed: Collection[str]) -> Mapping[str, bytes | None]:
    """Save the files; return the bytes of each, None where there is none.

    One that cannot be read is left out, unless the round is to write it. Raises RoundAborted where there is no room, or
    a file that is needed cannot be read.
    """
    places = round.server.files_folder
    contents: dict[str, bytes | None] = {}
    try:
        round.server.fetch(paths)
        for path in paths:
            try:
                contents[path] = places.read(path)
            except (OSError, Trouble):
                if path in needed:
                    raise
                round.journal.note(Step.SAVE, f"{path} cannot be read, and is left as it is")
        _save(round, "before", contents)
    except Trouble as error:
        raise RoundAborted(
            RoundOutcome.FAILED, f"The files could not be saved, so nothing was changed: {error.what}", error.do
        ) from error
    except OSError as error:
        raise _no_room(error) from error
    return contents


def _no_room(error: OSError) -> RoundAborted:
    why = error.strerror or str(error)
    place = f": {error.filename}" if error.filename else ""
    return RoundAborted(
        RoundOutcome.FAILED,
        f"The files could not be saved ({why}{place}), so nothing was changed.",
        "Make room, or correct the permissions; then apply again.",
    )


def _save(round: Round, kind: str, contents: Mapping[str, bytes | None]) -> None:
    folder = round.make_folder()
    index = {path: digest(data) for path, data in contents.items()}
    for path, data in contents.items():
        if data is not None and (kind != "before" or round.saved_ahead.get(path) != index[path]):
            write_durably(str(folder / _file_name(kind, path)), data)
            round.saved_ahead.pop(path, None)
    # The index comes last: where it is there, all copies that it names are.
    write_durably(str(folder / INDEX[kind]), json.encode(index))
    sync_folder(str(folder))
    sync_folder(str(folder.parent))


def _file_name(kind: str, path: str) -> str:
    # A flat name, reversible, so that two paths never share a copy.
    return f"{kind}-" + path.replace("%", "%25").replace("/", "%2F")


def save_started(round: Round) -> None:
    """Keep the files as the running server had read them, should those on disk turn out not to start it."""
    started = Folder(f"{round.server.state}/started")
    # A second line of defence: where there is no room for it, the first one, the files before the write, is kept.
    with suppress(OSError, Trouble):
        _save(round, "started", {path: started.read(path) for path in round.server.paths()})


def save_worlds(round: Round) -> None:
    """Copy the folders that hold worlds, and make the copies durable. Raises RoundAborted where there is no room."""
    try:
        if round.server.mirror is not None:
            _fetch_worlds(round)
            return
        for name in round.server.book.server.worlds:
            _save_world(round, name)
    except OSError as error:
        raise _no_room(error) from error


def _fetch_worlds(round: Round) -> None:
    """Copy the worlds of a rented server. Raises RoundAborted, OSError."""
    from roundgate.host.backups.fetching import fetched  # most servers are here

    copies = round.make_folder() / WORLDS
    try:
        with fetched(round.server, round.server.book.server.worlds) as tree:
            shutil.copytree(tree.folder, copies, dirs_exist_ok=True)
    except Trouble as error:
        raise RoundAborted(RoundOutcome.FAILED, f"The worlds cannot be saved: {error.what}", error.do) from error
    for name in sorted(path.name for path in copies.iterdir()):
        round.journal.note(Step.SAVE, f"the worlds in {name} are saved in {copies / name}")


def _save_world(round: Round, name: str) -> None:
    home = round.server.files_folder
    copies = round.make_folder() / WORLDS
    try:
        with home.exact(name) as place:
            is_folder = (about := place.stat()) is not None and stat.S_ISDIR(about.st_mode)
        if is_folder:
            (copies / name).mkdir(parents=True, exist_ok=True)
            for found in home.walk(name):
                _save_entry(home, found, copies / found.path)
    except FileNotFoundError:
        return
    except Trouble as error:  # a link took the place of something; that this much is not saved must be known
        raise RoundAborted(RoundOutcome.FAILED, f"The worlds cannot be saved: {error.what}", error.do) from error
    if is_folder:
        round.journal.note(Step.SAVE, f"the worlds in {name} are saved in {copies / name}")


def _save_entry(home: Folder, found: Found, copy: Path) -> None:
    """Copy one file, folder or link of a world, durably; pipes and devices are left out."""
    mode = found.about.st_mode
    if stat.S_ISDIR(mode):
        copy.mkdir(exist_ok=True)
    elif copy.is_symlink() or copy.exists():  # one of the folders with worlds lies in another
        return
    elif stat.S_ISLNK(mode):
        copy.symlink_to(found.target)
    elif stat.S_ISREG(mode):
        with home.exact(found.path) as place, place.open() as file, copy.open("xb") as into:
            shutil.copyfileobj(file, into)
            into.flush()
            os.fchmod(into.fileno(), stat.S_IMODE(mode) & 0o777)
            os.utime(into.fileno(), ns=(found.about.st_atime_ns, found.about.st_mtime_ns))
            os.fsync(into.fileno())


def keep_copy(round: Round, path: str, data: bytes, why: str) -> None:
    """Keep bytes that somebody wrote and that are about to be replaced, beside the snapshot, and say so."""
    folder = round.make_folder()
    number = 0
    # Never over an earlier copy: both may be somebody's work.
    while (copy := folder / f"{KEPT}{number}-{_file_name('', path)[1:]}").exists():
        number += 1
    write_durably(str(copy), data)
    round.journal.note(
        Step.REWIND if round.journal.degraded else Step.WRITE, f"{path}: {why}; that version is kept as {copy}"
    )


def saved_files(site: Site, number: int, kind: str = "before") -> dict[str, bytes | None]:
    """Return the files that a round saved, None for one that was not there. Raises Trouble if they are lost."""
    folder = site.state / "rounds" / str(number)
    raw = read_bytes(str(folder / INDEX[kind]))
    if raw is None:
        _refuse_deleted(site, number)
        raise Trouble(f"Round {number} saved no files.", typed_command("rounds"))
    try:
        index = json.decode(raw, type=dict[str, str | None])
    except MsgspecError as error:
        raise Trouble(
            f"The list of what round {number} saved, in {folder}, is damaged.", "Restore it from your own backup."
        ) from error
    saved: dict[str, bytes | None] = {}
    for path, mark in index.items():
        data = read_bytes(str(folder / _file_name(kind, path))) if mark is not None else None
        # A copy that the disk has damaged must not be put back as if it were the old file.
        if digest(data) != mark:
            raise Trouble(f"The saved copy of {path} in {folder} is damaged.", "Restore it from your own backup.")
        saved[path] = data
    return saved


def _refuse_deleted(site: Site, number: int) -> None:
    raw = read_bytes(str(site.state / "rounds" / str(number) / DELETED))
    if raw is None:
        return
    day = ""
    with suppress(MsgspecError):
        day = time.strftime(" on %Y-%m-%d", time.localtime(json.decode(raw, type=Deletion).at))
    raise Trouble(
        f"The files that round {number} saved were deleted{day}, as 'keep' of [rounds] in {SITE_FILE} says.",
        typed_command("backup list"),
    )


def write_summary(round: Round) -> None:
    """Let the round's folder remember the round, in case the state file is lost. A full disk is no reason to fail."""
    with suppress(OSError):
        summary = round.store.summary(round.number)
        if summary is not None and round.folder.is_dir():
            write_durably(str(round.folder / SUMMARY), json.encode(summary))
