"""Every public function that raises an error names it in its docstring, so that a caller knows what to catch."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

from roundgate.cli.grammar import commands

HOUSE = Path(__file__).parent.parent / "src" / "roundgate"
COMMANDS = {(line.module.rpartition(".")[2], line.function) for _, line in commands.every_command()}
NOT_FOR_CALLERS = {"AssertionError", "NotImplementedError", "AttributeError", "SystemExit"}


def raised(node: ast.AST) -> Iterator[str]:
    """Yield the names of the errors that a function raises itself, not in a function inside it."""
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
    """Yield what a module and its classes hold, without what is inside functions."""
    for node in tree.body:
        yield node
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
            yield from callable_from_outside(node)


def unsaid(path: Path) -> Iterator[str]:
    """Yield each function of a module that raises what its docstring does not name."""
    for node in callable_from_outside(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.FunctionDef) and (not node.name.startswith("_") or node.name == "__init__"):
            words = ast.get_docstring(node) or ""
            if (path.stem, node.name) in COMMANDS:  # its docstring is the help that a user reads
                continue
            missing = sorted({name for name in raised(node) if name not in words} - NOT_FOR_CALLERS)
            if missing:
                yield f"{path}:{node.lineno} {node.name} raises {', '.join(missing)}"


def test_what_a_public_function_raises_is_in_its_docstring() -> None:
    found = [line for path in sorted(HOUSE.rglob("*.py")) for line in unsaid(path)]
    assert not found, "\n".join(found)


def test_an_error_that_is_not_said_is_found(tmp_path: Path) -> None:
    module = tmp_path / "quay.py"
    module.write_text('def moor() -> None:\n    """Moor it."""\n    raise ValueError\n')
    assert [line.split(" ", 1)[1] for line in unsaid(module)] == ["moor raises ValueError"]
