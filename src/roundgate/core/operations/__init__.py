"""The operations: each kind of change of a file, and how they are stored. A new kind is one line of ``KINDS``."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from msgspec import DecodeError, json, to_builtins

from roundgate.core.operations.base import Change, Operation
from roundgate.core.operations.copies import CopyFile
from roundgate.core.operations.lists import AddItem, MoveItem, RemoveItem, items_at
from roundgate.core.operations.names import Rename, Switch
from roundgate.core.operations.records import (
    AddRecord,
    FollowRename,
    MoveRecord,
    RemoveRecord,
    RenameRecord,
    SetField,
    SwitchRecord,
)
from roundgate.core.operations.repairs import Mend
from roundgate.core.operations.text import EditText
from roundgate.core.operations.values import SetValue, Unset

KINDS: tuple[type[Operation], ...] = (
    SetValue,
    Unset,
    Switch,
    Rename,
    AddItem,
    RemoveItem,
    MoveItem,
    Mend,
    EditText,
    CopyFile,
    SetField,
    AddRecord,
    RemoveRecord,
    RenameRecord,
    MoveRecord,
    SwitchRecord,
    FollowRename,
)
_BY_TAG = {str(kind.__struct_config__.tag): kind for kind in KINDS}


def stored(operation: Operation) -> bytes:
    """Give an operation as it is stored: JSON with its kind and the version of its fields."""
    return json.encode({**to_builtins(operation), "version": operation.version})


def read_stored(raw: bytes | str) -> Operation:
    """Read a stored operation. Raises DecodeError where it is damaged, or of a kind or version that is not known."""
    found: Any = json.decode(raw)
    kind = _BY_TAG.get(str(found.get("type"))) if isinstance(found, dict) else None
    if kind is None:
        raise DecodeError("it is no operation that this version knows")
    version = found.pop("version", 1)
    if not isinstance(version, int) or version > kind.version:
        raise DecodeError(f"it was stored by a newer version ({found['type']} {version})")
    return json.decode(json.encode(found), type=kind)


def merged(waiting: Sequence[Operation], new: Operation) -> list[Operation]:
    """Put an operation on a slate, in the place of what it replaces."""
    return new.put_on(waiting)


__all__ = [
    "KINDS",
    "AddItem",
    "AddRecord",
    "Change",
    "CopyFile",
    "EditText",
    "FollowRename",
    "Mend",
    "MoveItem",
    "MoveRecord",
    "Operation",
    "RemoveItem",
    "RemoveRecord",
    "Rename",
    "RenameRecord",
    "SetField",
    "SetValue",
    "Switch",
    "SwitchRecord",
    "Unset",
    "items_at",
    "merged",
    "read_stored",
    "stored",
]
