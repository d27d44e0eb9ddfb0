"""From the words of ``add``, ``remove`` and ``move`` to operations on lists."""

from __future__ import annotations

from roundgate.cli.names import list_of, setting_of
from roundgate.core.checks.lists import item_problem
from roundgate.core.files import ServerFiles
from roundgate.core.nearest import nearest
from roundgate.core.slate import AddItem, MoveItem, Operation, RemoveItem, items_at
from roundgate.host.errors import Trouble, WrongWords
from roundgate.host.servers import Server
from roundgate.host.store import Store


def _list(server: Server, word: str) -> tuple[str, str]:
    """Give a list's name and its file's path: of one that the rulebook knows, or of any by FILE:PATH."""
    if ":" in word:
        target = setting_of(server, word)
        return f"{target.file}:{target.key}", target.file
    name, spec = list_of(server, word)
    return name, server.book.file[spec.file].path


def _number(number: int) -> int:
    if number < 1:
        raise WrongWords("Entries are numbered from 1.", "Give a number from 1.")
    return number - 1


def added(server: Server, word: str, item: str, at: int | None) -> Operation:
    """Make the operation that adds an entry. Raises Trouble for an entry of the wrong form."""
    name, path = _list(server, word)
    known = server.book.list.get(name)
    wrong = item_problem(item, server.book.kind[known.item]) if known else None
    if wrong:
        do = f'roundgate add {server.name} {name} "{wrong[1]}"' if wrong[1] else f"roundgate explain {name}"
        raise Trouble(f"{wrong[0]} Nothing was changed.", do)
    return AddItem(path, name, item, None if at is None else _number(at))


def removed(server: Server, store: Store, word: str, item: str) -> Operation:
    """Make the operation that removes an entry. Raises Trouble where it is not in the list."""
    name, path = _list(server, word)
    _must_hold(server, store, name, path, item)
    return RemoveItem(path, name, item)


def moved(server: Server, store: Store, word: str, item: str, to: int) -> Operation:
    """Make the operation that moves an entry. Raises Trouble where it is not in the list."""
    name, path = _list(server, word)
    _must_hold(server, store, name, path, item)
    return MoveItem(path, name, item, _number(to))


def _items(files: ServerFiles, name: str) -> list[str]:
    file, _, key = name.partition(":")
    document = files.document(file)
    return items_at(document, document.resolve(key)) if document else []


def _must_hold(server: Server, store: Store, name: str, path: str, item: str) -> None:
    """See that an entry is in the list, or will be with what waits on the slate. Raises Trouble."""
    _, outcome = server.outcome([one.operation for one in store.slate(server.name)], [path])
    items = outcome.after.items(name) if name in server.book.list else _items(outcome.after, name)
    if item not in items:
        near = nearest(item, items)
        hint = f"Did you mean {near}?" if near else f"It holds: {', '.join(items)}"
        raise Trouble(f"'{item}' is not in {name} of {server.name}.", hint)
