"""Reading logs from their end."""

from __future__ import annotations

from pathlib import Path

PACKED = (".gz", ".zst", ".xz", ".bz2")
"""Endings of logs that are compressed."""
_BLOCK = 64 * 1024


def last_lines(path: Path, count: int) -> list[str]:
    """Return the last ``count`` lines of a log, however long it is; nothing where there is no log."""
    if count == 0:
        return []
    try:
        with path.open("rb") as file:
            at = file.seek(0, 2)
            data = b""
            while at > 0 and data.count(b"\n") <= count:
                step = min(_BLOCK, at)
                at = file.seek(at - step)
                data = file.read(step) + data
    except FileNotFoundError:
        return []
    return data.decode("utf-8", "replace").split("\n")[:-1][-count:]
