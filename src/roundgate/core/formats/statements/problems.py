"""What people get wrong in a file of statements: a lost semicolon, quote, brace or sign."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import empty, flood, hidden_characters, merge_markers
from roundgate.core.formats.shared.single_slip import STATEMENTS, Search
from roundgate.core.formats.shared.slips import SLOW, tries_for
from roundgate.core.formats.statements.reader import Reader, StatementError

if TYPE_CHECKING:
    from roundgate.core.formats.statements.document import StatementsDocument

_EXPECTED = {
    "semicolon": ("semicolon-missing", "A semicolon is missing before this.", "Write ; where the statement ends."),
    "equals": ("equals-missing", "There is no equals sign between the key and its value.", "Write =."),
    "quote": ("quote-unclosed", "This quote is opened and not closed on its line.", "Write a quote."),
    "value": ("value-missing", "There is no value here.", "Write a value."),
    "closing": ("bracket-unclosed", "A closing brace is missing before this.", "Write }."),
}


def problems_of(document: StatementsDocument) -> list[Problem]:
    """Find what is wrong with a file of statements: the first mistake, or what is doubtful in a file without one."""
    body = document.text.body
    if nothing := empty(body):
        return nothing
    error = document.error
    if error is None:
        return flood([*_doubles(document), *hidden_characters(body)])
    if marks := list(merge_markers(body)):
        return marks
    slip = Search(body, STATEMENTS, (error.at, error.at), _is_right).run(tries_for(body, SLOW))
    if slip is not None:
        return [slip]
    at = min(error.at, max(len(body.rstrip()) - 1, 0))
    code, cause, do = _EXPECTED.get(
        str(error), ("not-understood", "The reader cannot go on here.", "Compare with a line that works.")
    )
    return [problem(code, (at, at + 1), cause, do)]


def _is_right(body: str) -> bool:
    try:
        Reader(body).read()
    except StatementError:
        return False
    return True


def _doubles(document: StatementsDocument) -> Iterator[Problem]:
    """Find keys that stand twice in one class."""
    last = {statement.path: statement for statement in document.statements}
    for statement in document.statements:
        if last[statement.path] is not statement and statement.value is not None:
            line = document.text.place(last[statement.path].key_start)[0]
            cause = f"{statement.path[-1]} is set again in line {line}, and only the last one counts."
            do = "Delete the one that should not count."
            yield problem("key-twice", (statement.key_start, statement.key_end), cause, do)
