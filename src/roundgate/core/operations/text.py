"""A file's text as somebody changed it in an editor, kept as the lines that changed."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from roundgate.core.differences import groups
from roundgate.core.formats.protocol import Document, EditRefused
from roundgate.core.operations.base import Change, Operation, Target
from roundgate.core.text import Text


class Hunk(Struct, frozen=True):
    """Lines that give way to others, line ends included; a few lines around them tell the place."""

    before: tuple[str, ...]
    after: tuple[str, ...]


class EditText(Operation, frozen=True, tag="edit"):
    """Change a file's text as somebody did in an editor."""

    hunks: tuple[Hunk, ...]

    def make(self, target: Target) -> tuple[Change, Document]:
        """See Operation."""
        text = edited(target.document.text, self.hunks)
        text.encode()
        if text == target.document.text:
            return Change(self, self.file, self.file, "as it is", "as it is"), target.document
        changed = target.format.read(text, target.document.dialect)
        return Change(self, self.file, self.file, "as it is", "edited by hand"), changed


def hunks_between(before: str, after: str, context: int = 2) -> tuple[Hunk, ...]:
    """Return the differences of two texts, each with a few lines around it."""
    old, new = before.splitlines(keepends=True), after.splitlines(keepends=True)
    return tuple(
        Hunk(tuple(old[group[0][1] : group[-1][2]]), tuple(new[group[0][3] : group[-1][4]]))
        for group in groups(old, new, context)
    )


def edited(text: Text, hunks: Sequence[Hunk]) -> Text:
    """Make an edit by hand on a text that may have changed since. Raises EditRefused where its place has."""
    lines = text.body.splitlines(keepends=True)
    for hunk in hunks:
        at = _only_place(lines, hunk.before)
        if at is None and _only_place(lines, hunk.after) is not None:
            continue
        if at is None:
            raise EditRefused("the lines that were edited have changed on disk since; edit the file again")
        lines[at : at + len(hunk.before)] = hunk.after
    return text.with_body("".join(lines))


def _only_place(lines: list[str], wanted: Sequence[str]) -> int | None:
    if not wanted:
        return 0 if not lines else None
    found = [at for at in range(len(lines) - len(wanted) + 1) if lines[at : at + len(wanted)] == list(wanted)]
    return found[0] if len(found) == 1 else None
