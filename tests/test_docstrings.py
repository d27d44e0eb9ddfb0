"""Every public function that raises an error names it in its docstring, so that a caller knows what to catch."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import pytest

from roundgate.cli import commands

HOUSE = Path(__file__).parent.parent / "src" / "roundgate"
COMMANDS = {(line.module.rpartition(".")[2], line.function) for line in commands.COMMANDS}
NOT_FOR_CALLERS = {"AssertionError", "NotImplementedError", "AttributeError", "SystemExit"}


def raised(node: ast.AST) -> Iterator[str]:
    """Give the names of the errors that a function raises itself, not in a function inside it."""
    for child in ast.iter_child_nodes(node):
        if isinstance(child, ast.FunctionDef | ast.Lambda):
            continue
        if isinstance(child, ast.Raise) and child.exc is not None:
            error = child.exc.func if isinstance(child.exc, ast.Call) else child.exc
            name = error.id if isinstance(error, ast.Name) else error.attr if isinstance(error, ast.Attribute) else ""
            if name[:1].isupper():
                yield name
        yield from raised(child)


def callable_from_outside(tree: ast.Module | ast.ClassDef) -> Iterator[ast.stmt]:
    """Give what a module and its classes hold, without what is inside functions."""
    for node in tree.body:
        yield node
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
            yield from callable_from_outside(node)


@pytest.mark.parametrize("path", sorted(HOUSE.rglob("*.py")), ids=lambda path: str(path.relative_to(HOUSE)))
def test_what_a_public_function_raises_is_in_its_docstring(path: Path) -> None:
    for node in callable_from_outside(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.FunctionDef) and (not node.name.startswith("_") or node.name == "__init__"):
            words = ast.get_docstring(node) or ""
            if (path.stem, node.name) in COMMANDS:  # its docstring is the help that a user reads
                continue
            missing = sorted({name for name in raised(node) if name not in words} - NOT_FOR_CALLERS)
            assert not missing, f"{path.name}:{node.lineno} {node.name} raises {', '.join(missing)}"
