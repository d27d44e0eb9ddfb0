"""Who would no longer be admin: what to think over before operations go onto a slate."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.api.server import OpenServer
from roundgate.core.operations.base import Operation
from roundgate.core.rulebook.model import RecordSet, Rulebook


def lost_admins(server: OpenServer, operations: Sequence[Operation], user: str) -> str:
    """Describe why operations should be thought over: nobody would be admin, or not the one who asks; else empty.

    ``user`` is who asks, as the system knows them; the people book says who that is.
    """
    book = server.book
    admin = {name for name, roster in book.roster.items() if roster.meaning == "admin"}
    sets = [book.records[book.roster[name].records] for name in admin]
    if not any(may_change(book, spec, operation) for spec in sets for operation in operations):
        return ""
    return _lost(server, operations, user, admin)


def may_change(book: Rulebook, spec: RecordSet, operation: Operation) -> bool:
    """Return whether an operation may change a set of records: not one that changes a value elsewhere in its file."""
    if operation.file != book.file[spec.file].path:
        return False
    home, key = spec.at.partition("*")[0].rstrip(".["), operation.value_key
    return key.startswith(home) or home.startswith(key)


def _lost(server: OpenServer, operations: Sequence[Operation], user: str, admin: set[str]) -> str:
    from roundgate.core.operations.registry import merged
    from roundgate.core.people.rosters import standings_in
    from roundgate.host.people.book import load_people

    waiting = server.workspace.operations
    before = standings_in(server.workspace.outcome(waiting).after, admin)
    merged_operations = [*waiting]
    for operation in operations:
        merged_operations = merged(merged_operations, operation)
    left = {standing.id for standing in standings_in(server.workspace.outcome(merged_operations).after, admin)}
    gone = [standing for standing in before if standing.id not in left]
    if gone and not left:
        return f"{gone[-1].record.value('name') or gone[-1].id} is the last admin of {server.name}."
    people = load_people(server.server.site)
    mine = {person_id for person in people.people.values() if person.user == user for person_id in person.all_ids()}
    if any(standing.id in mine for standing in gone):
        return f"That is you: you would no longer be admin of {server.name}."
    return ""
