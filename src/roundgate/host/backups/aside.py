"""The folder in which a round that puts a backup back keeps what comes and what goes."""

from __future__ import annotations

import shutil
from pathlib import Path

from roundgate.host.servers import Server


def aside_of(server: Server, round: int) -> Path:
    """Return the folder of a round: in the server's own, so that renames suffice."""
    return server.folder / f".roundgate-restore-{round}"


def clear_aside(server: Server, round: int) -> None:
    """Delete it; what cannot be deleted stays."""
    shutil.rmtree(aside_of(server, round), ignore_errors=True)
