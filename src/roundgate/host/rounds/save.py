"""The step save: every file that the round may touch, copied after the stop, durable before anything is written."""

from __future__ import annotations

import os
import shutil
from collections.abc import Mapping

from msgspec import json

from roundgate.host.errors import Trouble
from roundgate.host.files import Folder, digest, read_bytes, sync_folder, write_durably
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import RoundEnd
from roundgate.host.site import Site

_INDEX = "saved.json"


def save(round: Round, paths: list[str]) -> None:
    """Save the files. Raises RoundEnd where there is no room."""
    try:
        _save(round, paths)
        if round.options.backup:
            _save_worlds(round)
    except OSError as error:
        why = error.strerror or str(error)
        raise RoundEnd(
            "failed", f"The files could not be saved ({why}), so nothing was changed.", "Make room."
        ) from error


def _save(round: Round, paths: list[str]) -> None:
    folder = round.make_folder()
    places = round.server.files_folder
    index: dict[str, str | None] = {}
    for path in paths:
        data = read_bytes(places.resolve(path))
        index[path] = digest(data)
        if data is not None:
            write_durably(str(folder / _file_name(path)), data)
    write_durably(str(folder / _INDEX), json.encode(index))
    sync_folder(str(folder))
    sync_folder(str(folder.parent))


def _file_name(path: str) -> str:
    return "before-" + path.replace("%", "%25").replace("/", "%2F")


def _save_worlds(round: Round) -> None:
    """Copy the folders that hold worlds, and make the copies durable."""
    for name in round.server.book.server.worlds:
        source = Folder(str(round.server.folder)).resolve(name)
        copy = round.folder / "worlds" / name
        if not os.path.isdir(source):  # noqa: PTH112
            continue
        shutil.copytree(source, copy, symlinks=True)
        for file in copy.rglob("*"):
            if file.is_file() and not file.is_symlink():
                handle = os.open(file, os.O_RDONLY)
                os.fsync(handle)
                os.close(handle)
        round.note("save", f"the worlds in {name} are saved in {copy}")


def saved_files(site: Site, number: int) -> Mapping[str, bytes | None]:
    """Give the files as they were before a round, None for one that was not there. Raises Trouble if they are lost."""
    folder = site.state / "rounds" / str(number)
    raw = read_bytes(str(folder / _INDEX))
    if raw is None:
        raise Trouble(f"Round {number} saved no files.", "roundgate rounds")
    saved: dict[str, bytes | None] = {}
    for path, mark in json.decode(raw, type=dict[str, str | None]).items():
        data = read_bytes(str(folder / _file_name(path))) if mark is not None else None
        if digest(data) != mark:
            raise Trouble(f"The saved copy of {path} in {folder} is damaged.", "Restore it from a backup of your own.")
        saved[path] = data
    return saved
