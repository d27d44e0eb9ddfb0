"""The record of a server's process: what a new keeper needs in order to take a running server over.

One file of a fixed size, made once and overwritten in place, so that a full disk cannot keep it from being current.
A process is known by its number and the moment of its birth: numbers are used again.
"""

from __future__ import annotations

import os
from typing import NotRequired, TypedDict, cast

from roundgate.host.keeper.pipes import process_on_pipes

_NAME = "process.json"
_SIZE = 64 * 1024
"""Bytes; room for the identifiers of some thousand players."""


class ProcessRecord(TypedDict):
    """How the server stood when the keeper last wrote it down; times in seconds since 1970."""

    process: int | None
    birth: int
    """When the process began, in clock ticks since the machine's boot."""
    boot: str
    """The machine's boot; after another one, nothing of the process is left."""
    started: float
    ready: float | None
    wanted: bool
    """Whether the server is meant to be up."""
    crashes: int
    players: list[str]
    round: int | None
    """The round that holds the server."""
    outside: NotRequired[bool]
    """Whether somebody else has started it: its input and output are not the keeper's."""


def write_record(state: str, record: ProcessRecord) -> None:
    """Write the record in a state folder. What cannot be written is lost, for the server's life must go on."""
    import json  # a command that only reads when a process began needs none of it

    data = json.dumps(record).encode() + b"\n"
    if len(data) > _SIZE:
        # Better a keeper that has lost count of the players than one that does not find its server.
        data = json.dumps({**record, "players": []}).encode() + b"\n"
    try:
        handle = os.open(os.path.join(state, _NAME), os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC, 0o600)
    except OSError:
        return
    try:
        if os.fstat(handle).st_size < _SIZE:
            # Taken while there is room: on a disk that is full later, the record can still be overwritten.
            os.posix_fallocate(handle, 0, _SIZE)
        os.pwrite(handle, data, 0)
    except OSError:
        return
    finally:
        os.close(handle)


def read_record(state: str) -> ProcessRecord | None:
    """Read the record in a state folder; None where there is none, or it makes no sense."""
    import json

    try:
        with open(os.path.join(state, _NAME), "rb") as file:
            found = json.loads(file.read(_SIZE).partition(b"\n")[0])
    except (OSError, ValueError, RecursionError):
        return None
    optional = ("players", "outside")
    if not isinstance(found, dict) or not all(
        isinstance(found.get(name), kind) for name, kind in _KINDS.items() if name in found or name not in optional
    ):
        return None
    return cast(ProcessRecord, found)


_KINDS = {
    "process": int | None,
    "birth": int,
    "boot": str,
    "started": float | int,
    "ready": float | int | None,
    "wanted": bool,
    "crashes": int,
    "players": list,
    "round": int | None,
    "outside": bool,
}


def birth_of(process: int) -> int | None:
    """Return when a process began, in clock ticks since boot; None where it does not live."""
    try:
        with open(f"/proc/{process}/stat", "rb") as file:
            fields = file.read().rpartition(b")")[2].split()
    except OSError:
        return None
    # Counted behind the last parenthesis: a process may have spaces and parentheses in its name. Zombies count as gone.
    return None if fields[0] in (b"Z", b"X") else int(fields[19])


def boot_mark() -> str:
    """Return a mark of the machine's boot."""
    try:
        with open("/proc/sys/kernel/random/boot_id", encoding="ascii") as file:
            return file.read().strip()
    except OSError:
        return ""


def lives(record: ProcessRecord) -> bool:
    """Return whether the process of a record is still there, and is not another one with its number."""
    process = record["process"]
    return process is not None and record["boot"] == boot_mark() and birth_of(process) == record["birth"]


def current_record(state: str) -> ProcessRecord | None:
    """Return record as it is in truth: with a server in it that a keeper started, and died before noting it down."""
    record = read_record(state)
    if record is not None and lives(record):
        return record
    process = process_on_pipes(state)
    birth = None if process is None else birth_of(process)
    if process is None or birth is None:
        return record
    old: ProcessRecord = record or _NOTHING
    return {**old, "process": process, "birth": birth, "boot": boot_mark(), "ready": None, "wanted": True}


_NOTHING: ProcessRecord = {
    "process": None,
    "birth": 0,
    "boot": "",
    "started": 0.0,
    "ready": None,
    "wanted": False,
    "crashes": 0,
    "players": [],
    "round": None,
}


def needs_keeper(record: ProcessRecord | None) -> bool:
    """Return whether there is something to look after: a server that lives, or one that should, since this boot."""
    if record is None or record["boot"] != boot_mark():
        return False
    return lives(record) or record["wanted"] or record["round"] is not None
