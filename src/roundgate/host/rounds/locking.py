"""One round a server at a time: a lock that the system releases when its holder dies."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundKind
from roundgate.core.values.units import format_seconds
from roundgate.host.backups.aside import aside_of, swap_home
from roundgate.host.errors import Busy, NeedsRecovery
from roundgate.host.keeper.record import birth_of
from roundgate.host.servers import Server
from roundgate.host.store import RoundRow, Store


@contextmanager
def held(server: Server, store: Store, number: int = 0) -> Iterator[None]:
    """Hold a server for round ``number``. Raises Busy that says who holds it and since when."""
    from filelock import FileLock, Timeout  # a command that only looks locks nothing

    # The lock dies with its holder, so no stale lock file ever has to be deleted by hand.
    lock = FileLock(f"{server.state}/lock", blocking=False, mode=0o600)  # on a full disk the old file does
    try:
        lock.acquire()
    except Timeout as error:
        raise busy(server, store, number) from error
    try:
        yield
    finally:
        lock.release()


def busy(server: Server, store: Store, number: int = 0) -> Busy:
    """Describe who holds a server and since when."""
    other = next((row for row in store.open_rounds(server.name) if row.number != number), None)
    if other is None:
        return Busy(f"{server.name} is held by another command just now.", "Try again in a moment.")
    since = time.strftime("%H:%M:%S", time.localtime(other.began))
    ago = format_seconds(int(time.time() - other.began))
    return Busy(
        f"{server.name} is held by round {other.number} ({other.kind}) of {other.by}, since {since} ({ago} ago).",
        typed_command("rounds show", "", other.number),
    )


def broken_off(server: Server, store: Store) -> RoundRow | None:
    """Return the round of a server that has not ended though nobody works on it any more."""
    return next((row for row in store.open_rounds(server.name) if not is_at_work(row)), None)


def is_at_work(row: RoundRow) -> bool:
    """Return whether the process of a round lives, and is not another one that has its number by now."""
    return row.process > 0 and birth_of(row.process) == row.birth


def refuse_broken_off(server: Server, store: Store) -> None:
    """Refuse to go on where an earlier round was interrupted; one that had not touched anything is just closed.

    Raises NeedsRecovery.
    """
    row = broken_off(server, store)
    if row and not any(line.step == "stop" for line in store.journal(row.number)):
        store.close_round(row.number, "failed", "The round was interrupted before anything was changed.")
        if row.kind == RoundKind.RESTORE:
            swap_home(server).clear(aside_of(server, row.number))
    elif row:
        raise NeedsRecovery(
            f"Round {row.number} of {server.name} was interrupted and must be finished first.",
            typed_command("rounds recover", server.name),
        )
