"""Folders of this machine from which a backup is made, and room for it."""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from roundgate.host.errors import Trouble

_ROOM = 64 * 1024 * 1024
"""Bytes that stay free."""


class FetchedTree(NamedTuple):
    """What is to be saved, in a folder of this machine."""

    folder: Path
    left_out: Sequence[str]
    """Links of a rented machine that lead out of the server's folder."""


def must_have_room(folder: Path, needed: int) -> None:
    """See that so many bytes find room, and some are left. Raises Trouble."""
    free = shutil.disk_usage(folder).free
    if free < needed + _ROOM:
        raise Trouble(
            f"There may be no room for the backup: {needed >> 20} MB are to be saved, and {free >> 20} MB are free.",
            "Make room, or delete older backups.",
        )
