"""Checking many files: read one after another, on as many cores as there are where there are many."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from itertools import islice
from pathlib import Path

from msgspec import json

from roundgate.core.findings import Finding, Place
from roundgate.host.files import LARGEST, read_bytes

_MANY = 200
_CHUNK = 100
_LARGE = 1_000_000


def check_files(paths: Sequence[str], given: str = "") -> Iterator[tuple[str, list[Finding]]]:
    """Check files, in order; few at a time are held, whatever their number.

    Small calls stay in this process: a second one costs more than they do.
    """
    cores = os.cpu_count() or 1
    if cores < 2 or len(paths) < 2 or (len(paths) < _MANY and _size(paths) < 2 * _LARGE):
        for path in paths:
            yield path, check_file(path, given)
        return
    yield from _on_all_cores(paths, given, cores)


def _size(paths: Sequence[str]) -> int:
    total = 0
    for path in paths:
        try:
            total += Path(path).stat().st_size
        except OSError:
            continue
    return total


def _on_all_cores(paths: Sequence[str], given: str, cores: int) -> Iterator[tuple[str, list[Finding]]]:
    from concurrent.futures import Future, ProcessPoolExecutor
    from multiprocessing import get_context

    size = max(1, min(_CHUNK, len(paths) // (cores * 4) or 1))
    chunks = _chunks(paths, size)
    with ProcessPoolExecutor(cores, get_context("fork")) as pool:
        waiting: list[tuple[list[str], Future[list[bytes]]]] = []
        for chunk in islice(chunks, cores * 3):
            waiting.append((chunk, pool.submit(_check_chunk, chunk, given)))
        while waiting:
            chunk, future = waiting.pop(0)
            for path, found in zip(chunk, future.result(), strict=True):
                yield path, json.decode(found, type=list[Finding]) if found else []
            following = next(chunks, None)
            if following:
                waiting.append((following, pool.submit(_check_chunk, following, given)))


def _chunks(paths: Iterable[str], size: int) -> Iterator[list[str]]:
    several = iter(paths)
    while chunk := list(islice(several, size)):
        yield chunk


def _check_chunk(paths: Sequence[str], given: str) -> list[bytes]:
    return [json.encode(found) if (found := check_file(path, given)) else b"" for path in paths]


def check_file(path: str, given: str = "") -> list[Finding]:
    """Check one file."""
    from roundgate.core.checks.loose import check_loose

    try:
        data = read_bytes(path)
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        return [_unreadable(path, f"{path} cannot be read: {why}.")]
    if data is None:
        return [_unreadable(path, f"There is no file {path}.")]
    if len(data) > LARGEST:
        return [_unreadable(path, f"{path} is larger than {LARGEST >> 20} MB, too large for a configuration file.")]
    return check_loose(path, data, given)


def _unreadable(path: str, cause: str) -> Finding:
    return Finding("file-unreadable", "error", Place(path), cause, "Look whether the name is right.")


def files_below(folder: str) -> list[str]:
    """Name the files of a known format in a folder and all below it, in order; hidden ones are left out."""
    from roundgate.core.formats import format_name

    found = []
    for root, folders, names in os.walk(folder):
        folders[:] = sorted(name for name in folders if not name.startswith("."))
        found += [f"{root}{os.sep}{name}" for name in sorted(names) if format_name(name) and name[0] != "."]
    return found
