"""The four floors, core, host, api and cli: each knows only the floors below it."""

from __future__ import annotations

import ast
from functools import cache
from pathlib import Path
from typing import NamedTuple

import pytest

SOURCE = Path(__file__).parent.parent / "src"
HOUSE = SOURCE / "roundgate"
SCREEN = ("roundgate.cli", "typer", "rich", "gullwind")
ABOVE_CORE = ("roundgate.host", "roundgate.api", *SCREEN)
MACHINE = {
    "os",
    "socket",
    "subprocess",
    "sqlite3",
    "psutil",
    "pathlib",
    "time",
    "shutil",
    "signal",
    "filelock",
    "threading",
}


def modules(folder: Path) -> list[Path]:
    return sorted(folder.rglob("*.py"))


class Source(NamedTuple):
    """What the tests want to know of a module; kept in place of its tree, which is many times as large."""

    imports: tuple[str, ...]
    """The modules that it imports: at its head, inside a function, or for its types."""
    taken: frozenset[str]
    """What it imports out of modules, with their names."""
    names: frozenset[str]
    of_os: frozenset[str]
    """The attributes of ``os`` that it uses."""


@cache
def source(path: Path) -> Source:
    imports: list[str] = []
    taken, names, of_os = set(), set(), set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            imports += [alias.name for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            imports.append(node.module)
            taken |= {f"{node.module}.{alias.name}" for alias in node.names}
        elif isinstance(node, ast.Name):
            names.add(node.id)
        elif isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "os":
            of_os.add(node.attr)
    return Source(tuple(imports), frozenset(taken), frozenset(names), frozenset(of_os))


def imports(path: Path) -> tuple[str, ...]:
    return source(path).imports


@pytest.mark.parametrize("path", modules(HOUSE / "core"), ids=lambda path: str(path.relative_to(HOUSE)))
def test_the_core_knows_neither_machine_nor_screen(path: Path) -> None:
    for name in imports(path):
        assert not name.startswith(ABOVE_CORE), name
        assert name.split(".")[0] not in MACHINE, name
    assert not source(path).names & {"print", "open", "input", "exit"}


@pytest.mark.parametrize("path", modules(HOUSE / "host"), ids=lambda path: str(path.relative_to(HOUSE)))
def test_the_host_knows_no_screen(path: Path) -> None:
    for name in imports(path):
        assert not name.startswith(("roundgate.api", *SCREEN)), name


@pytest.mark.parametrize("path", modules(HOUSE / "api"), ids=lambda path: path.name)
def test_the_api_knows_no_screen(path: Path) -> None:
    for name in imports(path):
        assert not name.startswith((*SCREEN, "sys")), name


@pytest.mark.parametrize("path", modules(HOUSE / "host" / "keeper"), ids=lambda path: path.name)
def test_the_keeper_itself_imports_only_the_standard_library_and_the_patterns(path: Path) -> None:
    allowed = ("roundgate.host.keeper", "roundgate.host.errors", "roundgate.host.patterns")
    for name in imports(path):
        assert name.startswith(allowed) or not name.startswith(("roundgate", "msgspec", "psutil")), name


def test_the_stand_in_and_the_program_share_nothing() -> None:
    for path in modules(SOURCE / "gullwind_standin"):
        assert not [name for name in imports(path) if name.startswith("roundgate")]
    for path in modules(HOUSE):
        assert not [name for name in imports(path) if name.startswith("gullwind_standin")]


@pytest.mark.parametrize(
    "path", [module for module in modules(HOUSE) if module.parent.name != "keeper"], ids=lambda path: path.name
)
def test_only_one_module_writes_a_servers_files(path: Path) -> None:
    """Renames and unlinks of files stand in host/files.py and its places; the keeper has its own log and socket."""
    if path in (HOUSE / "host" / "files.py", HOUSE / "host" / "places.py", HOUSE / "host" / "keeper" / "config.py"):
        return
    assert not source(path).of_os & {"replace", "rename", "unlink", "remove", "truncate"}


def test_no_modules_import_each_other_in_a_circle() -> None:
    names = {
        ".".join(("roundgate", *path.relative_to(HOUSE).with_suffix("").parts)).removesuffix(".__init__"): path
        for path in modules(HOUSE)
    }
    graph = {name: ({*source(path).imports} | source(path).taken) & set(names) - {name} for name, path in names.items()}
    packages = {name for name, path in names.items() if path.name == "__init__.py"}
    left = dict(graph)
    while free := [name for name, needs in left.items() if not {need for need in needs if need in left} - packages]:
        for name in free:
            del left[name]
    assert not left, f"these are in circles, or need one: {sorted(left)}"


def test_no_folder_is_wider_than_a_person_can_overlook() -> None:
    for folder in {path.parent for path in modules(HOUSE)}:
        assert len(list(folder.glob("*.py"))) <= 25, folder
