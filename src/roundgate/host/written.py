"""What earlier rounds wrote, compared with what is on disk now."""

from __future__ import annotations

from roundgate.core.files import ServerFiles, plain_form
from roundgate.core.formats.places import find_key
from roundgate.host.servers import Server
from roundgate.host.store import Store, value_digest


def drifted(server: Server, store: Store, files: ServerFiles) -> dict[str, int]:
    """Return settings that no longer hold what a round wrote, and the unknown keys that are gone, with the round."""
    found = {
        name: number
        for name, (number, mark) in store.written(server.name).items()
        if name in server.book.setting
        and value_digest(server.name, name, plain_form(server.book, name, files.stored(name))) != mark
    }
    return {**found, **taken_out(server, store, files)}


def taken_out(server: Server, store: Store, files: ServerFiles) -> dict[str, int]:
    """Return the keys that no rulebook describes, that a round wrote, and that are no longer in their files."""
    gone: dict[str, int] = {}
    for name, (number, mark) in store.written(server.name).items():
        file, colon, key = name.partition(":")
        document = files.document(file) if colon and name not in server.book.setting else None
        if document is None or find_key(document, key) is not None:
            continue
        if mark != value_digest(server.name, name, plain_form(server.book, name, None)):
            gone[name] = number
    return gone
