"""How long rounds keep the files that they saved: old copies are deleted when a round of the same server ends."""

from __future__ import annotations

import os
import shutil
import time
from contextlib import suppress
from pathlib import Path

from msgspec import json

from roundgate.host.books import SUMMARY
from roundgate.host.rounds.snapshot.save import DELETED, INDEX, KEPT, MANIFEST, WORLDS, Deletion
from roundgate.host.site import Site
from roundgate.host.store import Store

_STAYS = {SUMMARY, MANIFEST, DELETED}
"""What is small and still needed: the rounds are put back from it should the state file be lost."""


def delete_old(site: Site, store: Store, server: str) -> None:
    """Delete what old rounds of a server saved, as ``[rounds]`` in the site file says.

    Their journals go too; how they ended stays. Rounds that are open keep everything, and copies of what others had
    written (``kept-...``) stay in any case. An interrupted deletion is finished by the next one. Of worlds that rounds
    saved, which are much larger, as many stay as ``[backup]`` says of backups. Raises OSError, or sqlite3.Error.
    """
    closed = [number for number in store.closed_rounds(server) if _holds_copies(_folder(site, number))]
    old = closed[site.file.rounds.keep :] if site.file.rounds.keep else []
    for number in old:
        _delete(_folder(site, number))
    if site.file.rounds.keep:
        store.forget_journals(server, site.file.rounds.keep)
    worlds = [folder for number in closed if (folder := _folder(site, number) / WORLDS).is_dir()]
    for folder in worlds[site.file.backup.keep :] if site.file.backup.keep else ():
        shutil.rmtree(folder)


def _folder(site: Site, number: int) -> Path:
    return site.state / "rounds" / str(number)


def _holds_copies(folder: Path) -> bool:
    return folder.is_dir() and not (folder / DELETED).exists()


def _delete(folder: Path) -> None:
    # The indexes go first: where one is there, all copies that it names are.
    for name in INDEX.values():
        (folder / name).unlink(missing_ok=True)
    for entry in list(os.scandir(folder)):
        if entry.name in _STAYS or entry.name.startswith(KEPT):
            continue
        if entry.is_dir(follow_symlinks=False):
            shutil.rmtree(entry.path)
        else:
            # Somebody may clear up by hand at the same time.
            with suppress(FileNotFoundError):
                Path(entry).unlink()
    # Last, for it says that nothing is left to delete.
    (folder / DELETED).write_bytes(json.encode(Deletion(time.time())))
