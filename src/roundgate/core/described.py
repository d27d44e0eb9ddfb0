"""JSON Schemas of our models, with the docstrings below their fields as descriptions.

Python forgets the docstring of a field, but the source has it. A command that only reads such a model pays nothing for
its words: they are read when somebody asks for a schema. A last line ``Example: VALUE`` is the example.
"""

from __future__ import annotations

import ast
import inspect
import sys
from collections.abc import Iterator
from functools import cache
from itertools import pairwise
from types import ModuleType
from typing import Any, get_args, get_type_hints

import msgspec
from msgspec import Struct

DRAFT = "https://json-schema.org/draft/2020-12/schema"
_EXAMPLE = "\n\nExample: "


def described_schema(model: type[Struct], title: str) -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of a model and all in it. Raises KeyError where a field has no docstring."""
    schema: dict[str, Any] = msgspec.json.schema(model)
    schema |= {"$schema": DRAFT, "title": title}
    for definition in schema["$defs"].values():
        if "description" in definition:  # some versions of msgspec keep the docstring's indentation
            definition["description"] = inspect.cleandoc(definition["description"])
    for part in dict.fromkeys(_models_in(model)):
        names = {field.name: field.encode_name for field in msgspec.structs.fields(part)}
        docstrings = _docstrings_of(part)
        for name, encoded in names.items():
            about, _, example = docstrings[name].partition(_EXAMPLE)
            described = schema["$defs"][part.__name__]["properties"][encoded]
            described["description"] = " ".join(about.replace("``", "`").split())
            if example:
                described["examples"] = [example]
    return schema


def _models_in(kind: Any) -> Iterator[type[Struct]]:
    """Yield the models that a type is made of, itself first."""
    if isinstance(kind, type) and issubclass(kind, Struct):
        yield kind
        for hint in get_type_hints(kind).values():
            yield from _models_in(hint)
    for part in get_args(kind):
        yield from _models_in(part)


def _docstrings_of(model: type[Struct]) -> dict[str, str]:
    """Return the docstring of each field, those that it inherits included."""
    found: dict[str, str] = {}
    for base in reversed(model.__mro__):
        if issubclass(base, Struct):
            found |= _docstrings_in(sys.modules[base.__module__]).get(base.__name__, {})
    return found


@cache
def _docstrings_in(module: ModuleType) -> dict[str, dict[str, str]]:
    """Return the docstrings of the fields of each class of a module."""
    classes = [node for node in ast.parse(inspect.getsource(module)).body if isinstance(node, ast.ClassDef)]
    return {node.name: dict(_field_docstrings(node.body)) for node in classes}


def _field_docstrings(body: list[ast.stmt]) -> Iterator[tuple[str, str]]:
    for field, below in pairwise(body):
        match field, below:
            case ast.AnnAssign(target=ast.Name(id=name)), ast.Expr(value=ast.Constant(value=str(text))):
                yield name, inspect.cleandoc(text)
