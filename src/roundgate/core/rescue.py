"""Edits made by hand in a file that the running server will overwrite, saved as operations."""

from __future__ import annotations

from collections.abc import Sequence

from roundgate.core.files import ServerFiles
from roundgate.core.formats.protocol import Document
from roundgate.core.formats.shared.key_value import KeyFile
from roundgate.core.formats.shared.paths import format_path
from roundgate.core.operations.base import Operation
from roundgate.core.operations.values import SetValue, Unset


def rescue(now: ServerFiles, started: ServerFiles | None, waiting: Sequence[Operation]) -> list[Operation]:
    """Find edits made by hand since the server started, in files that it rewrites when it stops.

    What is on the slate for the same key stands: it was asked for later, or knowingly.
    """
    if started is None:
        return []
    taken = {(entry.file, entry.claimed_key) for entry in waiting if entry.claimed_key}
    found: list[Operation] = []
    for file in now.book.file.values():
        if file.rewritten != "at-stop" or started.texts.get(file.path) == now.texts.get(file.path):
            continue  # before a document is asked for: its format would be loaded for nothing
        old, new = started.document(file.path), now.document(file.path)
        if old is None or new is None:
            continue
        before, after = _keys(old), _keys(new)
        for key in dict.fromkeys((*after, *before)):
            if before.get(key) != after.get(key) and (file.path, key) not in taken:
                found.append(_kept(now, file.path, key, after.get(key)))
    return found


def _keys(document: Document) -> dict[str, str]:
    """Return each key's value, the key as a person would write it."""
    if isinstance(document, KeyFile):
        return dict(document.plain())
    return {format_path(entry.path): entry.value for entry in document.entries()}


def _kept(files: ServerFiles, path: str, key: str, stored: str | None) -> Operation:
    named = (name for name, spec in files.book.setting.items() if spec.key == key and files.path_of(spec) == path)
    name = next(named, "")
    return Unset(path, key, None, name, True) if stored is None else SetValue(path, key, stored, stored, name, True)
