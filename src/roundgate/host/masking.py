"""Blanking out secrets in what a server or a file says."""

from __future__ import annotations

from collections.abc import Iterable

from roundgate.core.operations.base import Operation
from roundgate.core.secrets import HIDDEN, is_secret, secret_entries
from roundgate.host.workspace import Workspace

_SHORTEST = 3
"""Characters; blanking out anything shorter would make a log unreadable and hide nothing."""


def secrets_of(workspace: Workspace, waiting: Iterable[Operation]) -> set[str]:
    """Return the secrets on a server's disk and among operations that wait. Files that cannot be read have none."""
    try:
        book, files = workspace.book, workspace.read().files
        found = [
            entry.new_value for entry in waiting if entry.new_value and is_secret(book, entry.file, entry.value_key)
        ]
        for path in files.texts:
            document = files.document(path)
            found += [entry.value for entry in secret_entries(book, path, document)] if document else []
    except Exception:  # noqa: BLE001 - no content of a file may keep the server from being stopped
        return set()
    return {value for value in found if len(value) >= _SHORTEST}


def without(line: str, secrets: Iterable[str]) -> str:
    """Space out every secret that stands in a line."""
    for secret in sorted(secrets, key=len, reverse=True):
        line = line.replace(secret, HIDDEN)
    return line
