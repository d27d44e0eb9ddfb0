"""The shapes in which files hold records: one module each, and one line of ``shape_of``."""

from __future__ import annotations

from roundgate.core.records.shapes.parts import Parts
from roundgate.core.records.shapes.protocol import Editor, Shape
from roundgate.core.records.shapes.signs import Signs
from roundgate.core.records.shapes.texts import Texts
from roundgate.core.records.shapes.tree import Tree
from roundgate.core.records.shapes.turned import Turned
from roundgate.core.rulebook.model import RecordSet

__all__ = ["Editor", "Shape", "shape_of"]

_TREE, _TEXTS, _PARTS, _SIGNS, _TURNED = Tree(), Texts(), Parts(), Signs(), Turned()


def shape_of(spec: RecordSet) -> Shape:
    """Return the shape of a set, by the keys of its rulebook table that only one shape has."""
    if spec.parts:
        return _PARTS
    if spec.turned:
        return _TURNED
    if spec.signs:
        return _SIGNS
    return _TEXTS if spec.form else _TREE
