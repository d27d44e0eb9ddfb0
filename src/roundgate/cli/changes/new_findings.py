"""What the slate of a server would be: the findings that new operations bring, what a round would do, what waits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from msgspec.structs import replace

from roundgate.core.checks import check_after, sameness
from roundgate.core.findings import Finding, in_order
from roundgate.core.operations import Operation, merged
from roundgate.core.slate import Outcome

if TYPE_CHECKING:
    from roundgate.cli.changes.holder import Holder
    from roundgate.host.rounds.gather import Gathered
    from roundgate.host.servers import Server
    from roundgate.host.store import Store, Waiting


def new_findings(
    holder: Holder, waiting: Sequence[Operation], operations: Sequence[Operation]
) -> tuple[list[Finding], Outcome]:
    """Check what the slate would be with the operations on it; give what they bring that is not wrong already.

    The outcome is that of the whole slate, with them.
    """
    _, before = holder.outcome(waiting)
    after = list(waiting)
    for operation in operations:
        after = merged(after, operation)
    now, outcome = holder.outcome(after)
    touched = {operation.file for operation in operations}  # in the other files nothing new can be wrong
    old = {sameness(one) for one in check_after(holder.name, before, now.unreadable, touched)}
    found = check_after(holder.name, outcome, now.unreadable, touched)
    spoilt = touched & set(now.unreadable)
    new = [one for one in found if sameness(one) not in old or one.place.file in spoilt]
    told = [_not_put(one) if one.code == "slate-stuck" else replace(one, waiting=True) for one in in_order(new)]
    return told, outcome


def _not_put(finding: Finding) -> Finding:
    """Say that what cannot be done was not put on the slate: there is nothing to discard."""
    return replace(finding, do="")


def gathered_now(server: Server, store: Store) -> Gathered:
    """Gather what a round would do now."""
    from roundgate.host.drivers import driver_of
    from roundgate.host.rounds.gather import gather_at_rest

    driver = driver_of(server)
    try:
        return gather_at_rest(server, store.slate(server.name), driver.state())
    finally:
        driver.close()


def matching(server: Server, waiting: Sequence[Waiting], names: Sequence[str]) -> list[Waiting]:
    """Give what waits under some names, each as a person may say it."""
    from roundgate.cli.changes.targets import find_name

    wanted = {find_name(server.book, name) or name for name in names}
    return [one for one in waiting if one.operation.shown_name in wanted]
