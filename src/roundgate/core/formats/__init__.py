"""The file formats: the explicit registry, which format a file has, and the one way to make an edit.

A format's module is imported when a file needs it: ten formats cost no more at start-up than one.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from importlib import import_module

from roundgate.core.findings import Problem
from roundgate.core.formats.protocol import Document, Edit, EditRefused, Format, Path

ENDINGS: dict[str, tuple[str, ...]] = {
    "properties": (".properties",),
    "ini": (".ini",),
    "directives": (".cfg", ".rc"),
    "lines": (".txt", ".list"),
    "json": (".json", ".jsonc"),
    "yaml": (".yml", ".yaml"),
    "toml": (".toml",),
    "xml": (".xml",),
    "launch": (".sh", ".bat", ".cmd"),
    "lua": (".lua",),
    "statements": (),
}
"""Every format by name, with the endings of file names that are usual for it; the folder ``formats/NAME`` holds it."""


class _Formats(Mapping[str, Format]):
    """The registry, each format imported when it is asked for."""

    def __init__(self) -> None:
        self._read: dict[str, Format] = {}

    def __getitem__(self, name: str) -> Format:
        if name not in self._read:
            if name not in ENDINGS:
                raise KeyError(name)
            found: Format = import_module(f"roundgate.core.formats.{name}").FORMAT
            self._read[name] = found
        return self._read[name]

    def __iter__(self) -> Iterator[str]:
        return iter(ENDINGS)

    def __len__(self) -> int:
        return len(ENDINGS)

    def __contains__(self, name: object) -> bool:
        return name in ENDINGS


FORMATS = _Formats()


def format_name(file_name: str) -> str:
    """Return the name of the format that a file's name says, or an empty text."""
    lowered = file_name.lower()
    return next((name for name, endings in ENDINGS.items() if lowered.endswith(endings)), "")


def format_of(file_name: str) -> Format | None:
    """Return the format that a file's name says, or None."""
    name = format_name(file_name)
    return FORMATS[name] if name else None


def problems_of(document: Document) -> Sequence[Problem]:
    """Find what is wrong or doubtful with a document's text, by the checks of its own format."""
    return FORMATS[document.format_name].problems(document)


def apply_edit(kind: Format, document: Document, edit: Edit) -> Document:
    """Make an edit and give the new document, or raise EditRefused: exactly the asked-for change, or nothing.

    The new text is read again by independent means, which must find just what the edit promised.
    """
    try:
        text = document.text.spliced(document.text.with_neighbours_ends(edit.splices))
    except ValueError as error:
        raise EditRefused(_UNSAFE) from error
    text.encode()
    changed = kind.read(text, document.dialect)
    if not kind.confirms(changed, edit.expected):
        raise EditRefused(_UNSAFE)
    return changed


def apply_switch(kind: Format, document: Document, path: Path, *, on: bool) -> Document:
    """Comment an entry out or let it count again; nothing is commented out that could not be let back in.

    Raises EditRefused. A line of a list goes without that promise: a comment there may be anything.
    """
    changed = apply_edit(kind, document, document.switch(path, on=on))
    if on or kind.name == "lines":
        return changed
    try:
        back = apply_edit(kind, changed, changed.switch(path, on=True))
    except EditRefused:
        back = None
    if back is None or back.plain() != document.plain():
        raise EditRefused(
            "it is written in a way that could not be let back in, so it was not commented out; remove it"
        )
    return changed


_UNSAFE = "this place is written in a way that cannot be changed safely, so nothing was changed"
