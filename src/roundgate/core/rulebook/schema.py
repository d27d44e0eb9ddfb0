"""JSON Schema (2020-12): of rulebooks, and of a game's own JSON, YAML and TOML files out of its rulebook.

An editor that knows schemas completes and checks with them what people type.
"""

from __future__ import annotations

from typing import Any

import msgspec

from roundgate.core import values
from roundgate.core.described import DRAFT, described_schema
from roundgate.core.formats.shared.paths import parse_path
from roundgate.core.rulebook.expansion import beneath
from roundgate.core.rulebook.model import Rulebook, Setting, TomlValue
from roundgate.core.values import ValueProblem

SCHEMA_FORMATS = ("json", "yaml", "toml")
"""The formats of files that a schema can describe."""
_NUMBERS = ("int", "port", "duration", "size")
"""Types whose stored value is a whole number."""
_DECIMALS = ("decimal", "percent")


def rulebook_schema() -> dict[str, Any]:
    """Return the schema of rulebooks, each word with what it means."""
    made = described_schema(Rulebook, "A rulebook of Round Gate")
    made["$defs"]["Setting"]["properties"]["type"]["enum"] = list(values.KINDS)
    for name in ("Setting", "File", "ListOf"):  # a layer says only what it changes
        made["$defs"][name]["required"] = []
    return msgspec.json.decode(msgspec.json.encode(made), type=dict[str, Any])  # defaults as JSON has them


def file_schema(book: Rulebook, file: str) -> dict[str, Any]:
    """Return the schema of one file of a game. Raises KeyError where the rulebook has no such file."""
    spec = book.file[file]
    files = beneath(book, file)
    root: dict[str, Any] = {
        "$schema": DRAFT,
        "title": spec.path,
        "description": spec.about,
        "type": "object",
    }
    for name, setting in book.setting.items():
        path = parse_path(setting.key)
        if setting.file in files and all(isinstance(step, str) for step in path):
            _put(root, [str(step) for step in path], {"title": name, **_value_schema(setting)})
    return root


def _put(node: dict[str, Any], path: list[str], made: dict[str, Any]) -> None:
    """Put the schema of a value at its place below a table."""
    for step in path[:-1]:
        node = node.setdefault("properties", {}).setdefault(step, {"type": "object"})
    node.setdefault("properties", {})[path[-1]] = made


def _value_schema(spec: Setting) -> dict[str, Any]:
    made = _plain_schema(spec)
    specials = [_stored(special, spec) for special in spec.special.values()]
    if specials:
        made = {"anyOf": [made, {"enum": specials}]}
    parts = (spec.about, values.describe(spec), spec.advice)
    described = ". ".join(f"{word[0].upper()}{word[1:]}".rstrip(".") for word in parts if word)
    made["description"] = described + "."
    if spec.default is not None:
        try:
            default = values.store(values.default_of(spec) or "", spec)
        except ValueProblem:
            default = str(spec.default)
        made["default"] = _typed(default, spec)
    if spec.type == "secret":
        made["writeOnly"] = True
    return made


def _stored(value: TomlValue, spec: Setting) -> Any:
    return _typed(values.as_stored(value, spec), spec)


def _typed(stored: str, spec: Setting) -> Any:
    """Return a stored value as the file's own kind."""
    if spec.type in _NUMBERS and not spec.suffix:
        return int(stored)
    if spec.type in _DECIMALS:
        return float(stored)
    return stored == spec.spelling[0] if spec.type == "bool" and spec.spelling == ("true", "false") else stored


def _plain_schema(spec: Setting) -> dict[str, Any]:
    if spec.type == "bool":
        return {"type": "boolean"} if spec.spelling == ("true", "false") else {"enum": list(spec.spelling)}
    if spec.type in (*_NUMBERS, *_DECIMALS) and not spec.suffix and not spec.prefix:
        made: dict[str, Any] = {"type": "number" if spec.type in _DECIMALS else "integer"}
        if spec.type == "port":
            made |= {"minimum": 1, "maximum": 65535}
        if spec.range:
            made |= {"minimum": _number(spec.range[0]), "maximum": _number(spec.range[1])}
        if spec.step and spec.range and not spec.range[0] % spec.step:
            made["multipleOf"] = _number(spec.step)
        return made
    if spec.type == "choice":
        return {"enum": list(spec.choices)}
    made = {"type": "string"}
    if spec.type in ("text", "secret") and not (spec.prefix or spec.suffix):
        if spec.length and not spec.line_break:
            made |= {"minLength": spec.length[0], "maxLength": spec.length[1]}
        if spec.pattern:
            made["pattern"] = f"^(?:{spec.pattern})$"
    return made


def _number(value: float) -> int | float:
    return int(value) if value == int(value) else value
