"""The four floors, core, host, api and cli: each knows only the floors below it."""

from __future__ import annotations

import ast
import re
from collections.abc import Callable
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


def importing(floor: str, is_wrong: Callable[[str], bool]) -> list[tuple[Path, str]]:
    """Return each import of a floor that it may not have, with its module."""
    return [(path, name) for path in modules(HOUSE / floor) for name in imports(path) if is_wrong(name)]


def test_the_core_knows_neither_machine_nor_screen() -> None:
    assert not importing("core", lambda name: name.startswith(ABOVE_CORE) or name.split(".")[0] in MACHINE)
    assert not [path for path in modules(HOUSE / "core") if source(path).names & {"print", "open", "input", "exit"}]


def test_the_host_and_the_api_know_no_screen() -> None:
    assert not importing("host", lambda name: name.startswith(("roundgate.api", *SCREEN)))
    assert not importing("api", lambda name: name.startswith((*SCREEN, "sys")))


def test_the_keeper_itself_imports_only_the_standard_library_and_what_is_light() -> None:
    light = ("roundgate.host.errors", "roundgate.host.patterns", "roundgate.host.handles", "roundgate.core.unseen")
    allowed = ("roundgate.host.keeper", *light)
    heavy = ("roundgate", "msgspec", "psutil")
    assert not importing("host/keeper", lambda name: name.startswith(heavy) and not name.startswith(allowed))


def test_the_stand_in_and_the_program_share_nothing() -> None:
    for path in modules(SOURCE / "gullwind_standin"):
        assert not [name for name in imports(path) if name.startswith("roundgate")]
    for path in modules(HOUSE):
        assert not [name for name in imports(path) if name.startswith("gullwind_standin")]


def test_only_one_module_writes_a_servers_files() -> None:
    """Renames and unlinks of files stand in host/files.py and its places; the keeper has its own log and socket."""
    writing = {"replace", "rename", "unlink", "remove", "truncate"}
    found = [
        str(path.relative_to(HOUSE))
        for path in modules(HOUSE)
        if path.parent.name != "keeper" and source(path).of_os & writing
    ]
    assert found == ["host/files.py", "host/places.py"]


OPENS = {
    "host/places.py": "the walk by handles itself",
    "host/handles.py": "the same",
    "host/fleet/networks.py": "facts of processes, in /proc",
    "host/drivers/taking_over.py": "facts of processes, in /proc",
    "host/files.py": "writes through the walk, and reads what this user has named or what is our own",
    "host/backups/archives.py": "archives in the folder of backups",
    "host/backups/aside.py": "what was unpacked into the site's own folder, to be sent",
    "host/backups/fetching.py": "what was fetched into the site's own folder",
    "host/backups/in_place.py": "the plan in a round's folder",
    "host/backups/manifest.py": "manifests in the folder of backups",
    "host/backups/unpacking.py": "a new folder, by its handle",
    "host/backups/watch.py": "a log in the state folder",
    "host/books.py": "the state file, and the folders of rounds",
    "host/cache.py": "a cache of this user's",
    "host/checking.py": "the names below a folder that was named; each is read through the walk",
    "host/lobby.py": "memory in the state folder",
    "host/logs/ends.py": "the keeper's log in the state folder",
    "host/logs/slow_patterns.py": "memory in the state folder",
    "host/notices/outbox.py": "the outbox in the state folder",
    "host/notices/secrets.py": "the file of secrets in the site's folder",
    "host/people/book.py": "the people book in the site's folder",
    "host/people/permissions.py": "the catalogue in the site's folder",
    "host/people/ranks.py": "expectations in the site's folder, and a file that was named",
    "host/people/seen.py": "memory in the state folder",
    "host/adopting.py": "the site file",
    "host/drivers/outside.py": "memory in the state folder",
    "host/rented/adoption.py": "the site file, and the secrets beside it",
    "host/rented/mirror.py": "copies of a rented server's files in the state folder",
    "host/rounds/process.py": "a log in the state folder",
    "host/rounds/snapshot/retention.py": "the folders of rounds",
    "host/rounds/snapshot/save.py": "the folders of rounds",
    "host/rounds/write.py": "the folders of rounds",
    "host/rulebooks.py": "rulebooks",
    "host/servers.py": "memory in the state folder",
    "host/standalone.py": "a file that was named",
    "host/timetable/looking.py": "marks in the state folder",
    "host/worlds.py": "memory in the state folder",
    "api/fit.py": "the machine's cores, in /sys",
    "api/presets.py": "presets in the site's folder",
    "api/rank_sides.py": "a file that was named",
    "cli/changes/editor.py": "a file that was named, of no server",
    "cli/changes/private_copy.py": "copies of this user's",
    "cli/changes/repairs.py": "a file that was named, of no server",
    "cli/complete.py": "names for the shell",
    "cli/demo_rented.py": "the demo's own files",
    "cli/demo_site.py": "the same",
    "cli/ranks/tables.py": "a file that was named",
    "cli/running/prompting.py": "the console's history",
    "cli/screen/trouble.py": "error reports",
    "cli/who/roster.py": "a file that was named",
}
"""The modules that open or list paths by their names, each with what it opens; no path in a server's folder is among
them. ``host/keeper`` is a house of its own: it opens its state, and a server's files by ``open_real``."""
OPENING = {"open", "read_bytes", "read_text", "iterdir", "glob", "rglob", "walk", "fwalk", "listdir", "scandir"}


def opens_paths(path: Path) -> bool:
    """Whether a module opens or lists something by a path: a driver, a call, or the walk that is opened is none."""
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if not isinstance(node, ast.Call):
            continue
        if isinstance(node.func, ast.Name) and node.func.id in ("open", "read_bytes"):
            return True
        if isinstance(node.func, ast.Attribute) and node.func.attr in OPENING:
            is_walk = node.func.attr in ("open", "walk") and ast.unparse(node.func.value) != "os"
            mode = node.args[0] if node.args else None
            if not is_walk or (isinstance(mode, ast.Constant) and str(mode.value)[:1] in "rwax"):
                return True
    return False


@pytest.mark.parametrize("floor", ["host", "api", "cli"])
def test_nothing_but_the_walk_by_handles_opens_a_path_of_a_servers_folder(floor: str) -> None:
    found = {
        str(path.relative_to(HOUSE))
        for path in modules(HOUSE / floor)
        if path.parent.name != "keeper" and opens_paths(path)
    }
    assert found == {name for name in OPENS if name.startswith(f"{floor}/")}


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


def test_a_command_that_a_message_proposes_is_data_and_not_a_text() -> None:
    written = []
    for path in modules(HOUSE):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                at = re.search(r"^(?:  (?:do|next): )?roundgate [a-z]", node.value)
                if at is not None and "\n" not in node.value:
                    written.append(f"{path.relative_to(HOUSE)}:{node.lineno}: {node.value[:60]}")
    assert not written, "make it with typed_command, which names the server and quotes what needs it"
