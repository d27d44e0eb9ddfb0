"""Patterns of a rulebook that took too long on what a server wrote: remembered, so that ``status`` can name them."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from contextlib import suppress

from msgspec import MsgspecError, json

from roundgate.core.rulebook.model import Rulebook
from roundgate.host.errors import Trouble
from roundgate.host.files import read_bytes, write_durably
from roundgate.host.servers import Server

_FILE = "slow-patterns.json"


def remember_slow(state: str, patterns: Sequence[str]) -> None:
    """Remember patterns beside those of before, in a server's state folder."""
    if not patterns:
        return
    # Whether it is told decides nothing.
    with suppress(OSError):
        known = _known(state)
        write_durably(f"{state}/{_FILE}", json.encode(sorted({*known, *patterns})))


def slow_ones(server: Server) -> list[str]:
    """Name the keys of a rulebook's table ``[server]`` whose patterns were too slow; a changed one is forgotten."""
    if not os.path.exists(f"{server.state}/{_FILE}"):  # noqa: PTH110 - a path object for each of 200 servers takes longer
        return []
    known = _known(server.state)
    with suppress(Trouble):  # a broken rulebook is told elsewhere
        return [name for name, patterns in _patterns_of(server.book) if known & set(patterns)]
    return []


def _known(state: str) -> set[str]:
    # A memory that is damaged is none: a slow pattern is found again.
    with suppress(OSError, MsgspecError):
        raw = read_bytes(f"{state}/{_FILE}")
        return set(json.decode(raw, type=list[str])) if raw else set()
    return set()


def _patterns_of(book: Rulebook) -> Iterable[tuple[str, Sequence[str]]]:
    server = book.server
    yield "ready", [server.ready]
    yield "joined", [server.joined]
    yield "left", [server.left]
    yield "failures", server.failures
    yield "log-prefix", [server.log_prefix]
    yield "stdin-refuses", [server.stdin_refuses]
    version = book.rulebook.version
    yield "version", [version.match] if version else []
