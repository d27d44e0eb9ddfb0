"""What people get wrong in JSON, found by a reader that does not give up.

It runs only where the strict decoder fails."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import TYPE_CHECKING

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.json.reader import JsonError, decoded, strict_form
from roundgate.core.formats.json.recovery import JsonScan
from roundgate.core.formats.protocol import Dialect
from roundgate.core.formats.shared.bracket_recovery import FAR
from roundgate.core.formats.shared.common_problems import (
    empty,
    flood,
    handful,
    hidden_characters,
    merge_markers,
    not_utf8,
    with_place,
)
from roundgate.core.formats.shared.repair_loop import only_proven
from roundgate.core.formats.shared.single_slip import JSON, with_single_slip
from roundgate.core.patterns import lazy

if TYPE_CHECKING:
    from roundgate.core.formats.json.document import JsonDocument

_HALF = lazy(r"(?<!\\)(?:\\\\)*(\\u[dD](?:[89abAB][0-9a-fA-F]{2}(?!\\u[dD][c-fC-F])|[c-fC-F][0-9a-fA-F]{2}))")


def problems_of(document: JsonDocument) -> list[Problem]:
    """Find every problem of a JSON text, in the order of the file."""
    body = document.text.body
    if nothing := empty(body, "error"):
        return nothing
    error = document.error
    if error is None:
        return flood([*_doubles(document), *_in_texts(document), *not_utf8(document.text, "error")])
    if marks := list(merge_markers(body)):
        return marks
    if wrong := list(not_utf8(document.text, "error")):
        return wrong
    if str(error) == "too deep":
        cause = "Brackets are nested more than a few hundred deep here."
        return [problem("too-deep", (error.at, error.at + 1), cause, "Restore the file from a backup.")]
    reader = JsonScan(document, error.at + FAR)
    reader.run()
    strict = partial(_first_error, document.dialect)
    found = with_single_slip(body, handful(reader.found), JSON, strict)
    if not any(mistake.level == "error" for mistake in found):
        at = min(error.at, max(len(body) - 1, 0))
        cause = "The reader of JSON cannot go on here."
        return [*found, problem("not-understood", (at, at + 1), cause, "Compare with a line that works.")]
    return with_place(only_proven(body, found, strict), error.at, body)


def _first_error(dialect: Dialect, body: str) -> tuple[int, int] | None:
    """Return where the strict decoder gives up, or None."""
    try:
        decoded(strict_form(body, dialect))
    except JsonError as error:
        return error.at, error.at
    return None


def _doubles(document: JsonDocument) -> Iterator[Problem]:
    if not document.has_doubles:
        return
    yield from _doubles_in(document, document.locate(()).start, ())  # type: ignore[union-attr]


def _doubles_in(document: JsonDocument, start: int, path: tuple[str | int, ...]) -> Iterator[Problem]:
    children = list(document.children(start))
    last = {child.step: child for child in children}
    for child in children:
        if document.strict[child.start] in "{[":
            yield from _doubles_in(document, child.start, (*path, child.step))
        if last[child.step] is not child:
            line = document.text.place(last[child.step].key_start)[0]
            cause = f"{child.step} is set again in line {line}, and for most servers only the last one counts."
            yield problem("key-twice", (child.key_start, child.key_end), cause, "Delete the one that should not count.")


def _in_texts(document: JsonDocument) -> Iterator[Problem]:
    body = document.text.body
    yield from hidden_characters(body)
    if "\\ud" in body or "\\uD" in body:
        for half in _HALF.finditer(body):
            if body[half.start(1) - 6 : half.start(1) - 3].lower() in ("\\ud",) and half[1][3] in "cdefCDEF":
                continue
            cause = "This escape is only half of a character, and the other half is missing."
            yield problem("half-character", half.span(1), cause, "Write both halves, or the character itself.")
