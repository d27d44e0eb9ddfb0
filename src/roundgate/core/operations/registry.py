"""Every kind of operation, and how operations are stored and put on a slate.

A kind's module is imported when a stored operation needs it: a command that only looks at an empty slate loads none.
"""

from __future__ import annotations

from collections.abc import Sequence
from importlib import import_module
from typing import Any

from msgspec import DecodeError, json, to_builtins

from roundgate.core.operations.base import Operation

KINDS: dict[str, tuple[str, str]] = {
    "set": ("values", "SetValue"),
    "unset": ("values", "Unset"),
    "switch": ("names", "Switch"),
    "rename": ("names", "Rename"),
    "add": ("lists", "AddItem"),
    "remove": ("lists", "RemoveItem"),
    "move": ("lists", "MoveItem"),
    "mend": ("repairs", "Mend"),
    "edit": ("text", "EditText"),
    "copy": ("copies", "CopyFile"),
    "record-set": ("records", "SetField"),
    "record-add": ("records", "AddRecord"),
    "record-remove": ("records", "RemoveRecord"),
    "record-rename": ("records", "RenameRecord"),
    "record-move": ("records", "MoveRecord"),
    "record-switch": ("records", "SwitchRecord"),
    "record-follow": ("records", "FollowRename"),
}
"""The kinds by the tag with which they are stored: the module of this folder, and the class in it."""


def kind_of(tag: str) -> type[Operation] | None:
    """Return the kind that is stored with a tag; None where there is none."""
    if tag not in KINDS:
        return None
    module, name = KINDS[tag]
    found: type[Operation] = getattr(import_module(f"roundgate.core.operations.{module}"), name)
    return found


def stored(operation: Operation) -> bytes:
    """Return an operation as it is stored: JSON with its kind and the version of its fields."""
    return json.encode({**to_builtins(operation), "version": operation.version})


def read_stored(raw: bytes | str) -> Operation:
    """Read a stored operation. Raises DecodeError where it is damaged, or of a kind or version that is not known."""
    found: Any = json.decode(raw)
    kind = kind_of(str(found.get("type"))) if isinstance(found, dict) else None
    if kind is None:
        raise DecodeError("it is not an operation that this version knows")
    version = found.pop("version", 1)
    if not isinstance(version, int) or version > kind.version:
        raise DecodeError(f"it was stored by a newer version ({found['type']} {version})")
    return json.decode(json.encode(found), type=kind)


def merged(waiting: Sequence[Operation], new: Operation) -> list[Operation]:
    """Put an operation on a slate, in the place of what it replaces."""
    return new.put_on(waiting)
