"""The file formats: the explicit registry, and the one way to make an edit."""

from __future__ import annotations

from roundgate.core.formats.lines import LINES
from roundgate.core.formats.properties import PROPERTIES
from roundgate.core.formats.protocol import Document, Edit, EditRefused, Format

FORMATS: dict[str, Format] = {one.name: one for one in (PROPERTIES, LINES)}


def format_of(file_name: str) -> Format | None:
    """Tell the format that a file's name says, or None."""
    lowered = file_name.lower()
    return next((one for one in FORMATS.values() if lowered.endswith(one.endings)), None)


def apply_edit(kind: Format, document: Document, edit: Edit) -> Document:
    """Make an edit and give the new document, or raise EditRefused: exactly the asked-for change, or nothing.

    The new text is read again twice, by the format's own reader and by an independent one; both must find just
    what the edit promised.
    """
    text = document.text.spliced(edit.splices)
    text.encode()
    changed = kind.read(text)
    if changed.pairs() != edit.expected or kind.read_plainly(text) != edit.expected:
        raise EditRefused("the edit would change more than was asked for, so nothing was changed; please report this")
    return changed
