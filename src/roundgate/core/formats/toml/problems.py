"""What people get wrong in TOML.

From where the standard library's reader gives up to the mistake after it.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from roundgate.core.findings import Problem
from roundgate.core.formats.catalogue import problem
from roundgate.core.formats.shared.common_problems import (
    HIDDEN,
    empty,
    flood,
    handful,
    hidden_characters,
    merge_markers,
    not_utf8,
    visible,
)
from roundgate.core.formats.shared.repair_loop import one_after_another, only_proven
from roundgate.core.formats.shared.single_slip import TOML, with_single_slip
from roundgate.core.formats.shared.slips import SLOW, tries_for
from roundgate.core.formats.toml.reader import TomlError, read_tree
from roundgate.core.formats.toml.recovery_brackets import in_table, open_bracket, unclosed
from roundgate.core.formats.toml.recovery_lines import after_key, heading, key_start, twice
from roundgate.core.formats.toml.recovery_place import Scene, scene_at
from roundgate.core.formats.toml.recovery_texts import broken_escape, broken_text, never_closed
from roundgate.core.formats.toml.recovery_values import after_value, no_value
from roundgate.core.text import Splice

if TYPE_CHECKING:
    from roundgate.core.formats.toml.document import TomlDocument


def problems_of(document: TomlDocument) -> list[Problem]:
    """Find every problem of a TOML text, in the order of the file."""
    body = document.text.body
    if not body.strip(" \t\r\n"):  # a form feed is not a space in TOML
        return empty(body)
    wrong = list(not_utf8(document.text, "error", utf_16=False))
    if document.error is None:
        return flood([*wrong, *_halves(body), *hidden_characters(body)])
    marks = list(merge_markers(body))
    if marks:
        return marks
    found = with_single_slip(
        body, one_after_another(body, _diagnose, _not_understood), TOML, _first_error, tries_for(body, SLOW)
    )
    return handful([*wrong, *only_proven(body, found, _first_error)])


def _first_error(body: str) -> tuple[int, int] | None:
    """Return where the standard library's reader gives up, or None."""
    try:
        read_tree(body)
    except TomlError as error:
        return error.at, error.at
    return None


def _halves(body: str) -> list[Problem]:
    """Find a lone carriage return: TOML has no such line end, and the standard library's reader lets it pass."""
    found = re.search(r"\r(?!\n)", body)
    if not found:
        return []
    cause = "There is a lone carriage return here; TOML ends a line by a line feed."
    return [problem("control-character", found.span(), cause, "Write a line feed.", [Splice(*found.span(), "\n")])]


def _diagnose(body: str) -> tuple[Problem | None, int] | None:
    try:
        read_tree(body)
    except TomlError as error:
        return diagnose(body, error), error.at
    return None


def _not_understood(body: str, at: int) -> Problem:
    at = min(at, max(len(body.rstrip()) - 1, 0))
    cause = "The reader of TOML cannot go on here."
    return problem("not-understood", (at, at + 1), cause, "Compare with a line that works.")


def diagnose(body: str, error: TomlError) -> Problem | None:
    """Return the first mistake of a text that is no TOML, or None where it cannot be told."""
    at = min(error.at, max(len(body) - 1, 0))
    scene = scene_at(body, at, error)
    if str(error) == "too long":
        cause = "This number has more digits than any program reads."
        return problem("not-understood", (at, at + 1), cause, "Write a shorter number.")
    if str(error) == "too deep":
        return problem("too-deep", (0, 1), "Brackets are nested too deep.", "Restore the file.")
    found = _unseen(scene)
    if found:
        return found
    for message, look in _LOOKS:
        if message in str(error):
            found = look(scene)
            if found:
                return found
    return _line_alone(scene)


def _unseen(scene: Scene) -> Problem | None:
    found = HIDDEN.search(scene.line)
    if not found or re.search("[\"']", scene.line[: found.start()]):
        return None
    at = scene.start + found.start()
    cause = f"A character that cannot be seen (U+{ord(found[0]):04X}) is here, and no reader skips it."
    cut = Splice(at, at + 1, visible(found[0]))
    return problem("hidden-between", (at, at + 1), cause, "Delete it and type a plain space.", [cut], safe=True)


def _line_alone(scene: Scene) -> Problem | None:
    for look in (heading, unclosed, key_start, after_value):
        found = look(scene)
        if found:
            return found
    return None


_LOOKS: tuple[tuple[str, Callable[[Scene], Problem | None]], ...] = (
    ("table declaration", heading),
    ("array declaration", heading),
    ("Cannot", twice),
    ("Duplicate", twice),
    (
        "Expected '='",
        lambda scene: (
            unclosed(scene)
            if scene.body[scene.error.at : scene.error.at + 1] == ":" and open_bracket(scene) >= 0
            else after_key(scene)
        ),
    ),
    ("Invalid initial character", lambda scene: in_table(scene) or key_start(scene)),
    ("Invalid statement", key_start),
    ("Invalid value", no_value),
    ("Invalid date", no_value),
    ("Unescaped", broken_escape),
    ("hex value", broken_escape),
    ("Unicode scalar", broken_escape),
    ("Illegal character", broken_text),
    ("Unterminated string", never_closed),
    ("Expected \"'", never_closed),
    ("Expected newline or end of document", after_value),
    ("Unclosed array", unclosed),
    ("Unclosed inline table", unclosed),
    ("inline table", unclosed),
)
