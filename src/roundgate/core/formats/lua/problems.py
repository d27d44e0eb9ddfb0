"""What people get wrong in Lua data files. It runs only where the grammar finds a mistake; it reads on after each."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.lua.grammar import TOKEN, fields, parse, tries_left
from roundgate.core.formats.lua.recovery import Scan
from roundgate.core.formats.shared.bracket_recovery import FAR
from roundgate.core.formats.shared.common_problems import (
    CURLY,
    DASHES,
    HIDDEN,
    empty,
    flood,
    handful,
    hidden_characters,
    merge_markers,
    with_place,
)
from roundgate.core.formats.shared.repair_loop import only_proven
from roundgate.core.formats.shared.single_slip import LUA, with_single_slip
from roundgate.core.formats.shared.slips import FEWEST
from roundgate.core.patterns import lazy
from roundgate.core.text import Splice

if TYPE_CHECKING:
    from roundgate.core.formats.lua.document import LuaDocument

_LARGE = 500_000
_ODD = lazy(rf"[?!$@`\\{CURLY}{DASHES}]|{HIDDEN.pattern}")


def problems_of(document: LuaDocument) -> list[Problem]:
    """Find every problem of a Lua text, in the order of the file."""
    body = document.text.body
    if nothing := empty(body):
        return nothing
    odd = _odd_sign(body)
    if not document.has_error and odd < 0:
        doubles = [] if len(body) > _LARGE else list(_doubles(document))
        return flood(sorted([*doubles, *hidden_characters(body)], key=lambda mistake: mistake.start))
    if marks := list(merge_markers(body)):
        return marks
    gave_up = _first_error(document.root)[0] if document.has_error else odd
    scan = Scan(body, gave_up + FAR)
    scan.run()
    found = handful(scan.found)
    tries = tries_left(body)
    if tries >= FEWEST:
        found = with_single_slip(body, found, LUA, _part_not_taken, tries)
    else:
        found = [replace(mistake, safe=False) for mistake in found]
    if not any(mistake.level == "error" for mistake in found):
        at = min(gave_up, max(len(body.rstrip()) - 1, 0))
        cause = "The reader of Lua cannot go on here."
        return [*found, problem("not-understood", (at, at + 1), cause, "Compare with a line that works.")]
    found = only_proven(body, found, _part_not_taken)
    return with_place(found, min(gave_up, len(body)), body)


def _part_not_taken(body: str) -> tuple[int, int] | None:
    """Return which part of a text the grammar cannot take first, or None."""
    root = parse(body)
    if root.has_error:
        return _first_error(root)
    odd = _odd_sign(body)
    return (odd, odd) if odd >= 0 else None


def _odd_sign(body: str) -> int:
    """Find a sign outside texts that the grammar lets pass as part of a name and that no reader of Lua takes, or -1."""
    if body.isascii() and not _ODD.search(body):
        return -1
    bare = TOKEN.sub(lambda word: " " * len(word[0]) if word[0][0] in "\"'" or len(word[0]) > 3 else word[0], body)
    found = _ODD.search(bare)
    return found.start() if found else -1


def _first_error(root: Any) -> tuple[int, int]:
    """Return the span of the first part that the grammar cannot take."""
    node = root
    while True:
        child = next((child for child in node.children if child.has_error or child.is_error or child.is_missing), None)
        if child is None or node.is_error:
            return int(node.start_byte), int(node.end_byte)
        node = child


def _doubles(document: LuaDocument) -> Iterator[Problem]:
    """Find names that stand twice in one table, and calls with the same first text."""
    last: dict[tuple[str | int, ...], tuple[int, int]] = {}
    for statement in document.statements:
        is_record = statement.value is not None and statement.value.type == "table_constructor"
        if len(statement.path) == 2 and statement.path in last and is_record:
            yield _double(document, statement.path[-1], statement.key[0], last[statement.path])
        last[statement.path] = statement.key
        for item in document._items(statement):
            yield from _doubles_in(document, item.node)


def _doubles_in(document: LuaDocument, node: Any) -> Iterator[Problem]:
    if node.type != "table_constructor":
        return
    last: dict[str | int, tuple[int, int]] = {}
    yield from _call_among_fields(document, node)
    for item in fields(document.text.body, node):
        if isinstance(item.step, str) and item.step in last:
            yield _double(document, item.step, item.key_start, last[item.step])
        last[item.step] = (item.key_start, item.key_end)
        yield from _doubles_in(document, item.node)


def _call_among_fields(document: LuaDocument, node: Any) -> Iterator[Problem]:
    """Find ``name "text"`` among fields with names: Lua takes it for a call, and an equals sign was forgotten."""
    items = [child for child in node.named_children if child.type == "field"]
    odd = [item for item in items if not item.child_by_field_name("name")]
    if len(odd) != 1 or len(items) < 2:
        return
    call = odd[0].named_children[0] if odd[0].named_children else None
    if call is None or call.type != "function_call" or len(call.named_children) != 2:
        return
    name, arguments = call.named_children
    between = document.text.body[name.end_byte : arguments.start_byte]
    if name.type == "identifier" and document.text.body[arguments.start_byte] in "\"'{" and between:
        cause = "The other fields have names with an equals sign; without one Lua takes this for a call."
        repair = [Splice(name.end_byte, name.end_byte, " =")]
        span = (name.start_byte, name.end_byte)
        yield problem("equals-missing", span, cause, "Write = between them.", repair, level="warning")


def _double(document: LuaDocument, name: str | int, other: int, span: tuple[int, int]) -> Problem:
    line = document.text.place(other)[0]
    cause = f"{name} is set also in line {line}, and only the last one counts."
    return problem("key-twice", span, cause, "Delete the one that should not count.")
