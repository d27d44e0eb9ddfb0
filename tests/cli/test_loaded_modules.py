"""What a command loads: a tab in the shell, or a look, must not wait for the modules of other commands."""

from __future__ import annotations

import os
import pkgutil
import subprocess
import sys

import pytest

import roundgate
from conftest import SiteUnderTest

NEVER_FOR_A_LOOK = {"core.checks", "core.review", "core.operations.records", "api.proposal"}
COMPLETING = {"_ROUNDGATE_COMPLETE": "complete_bash", "COMP_WORDS": "roundgate show reg", "COMP_CWORD": "2"}


def loaded(site: SiteUnderTest, *words: str, **environment: str) -> set[str]:
    """Run the program in a process of its own; return the modules that it imported."""
    done = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "roundgate", *words],
        cwd=site.folder, env={**os.environ, **environment}, capture_output=True, text=True, timeout=60,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    lines = [line for line in done.stderr.splitlines() if line.startswith("import time:")]
    return {line.rpartition("|")[2].strip().removeprefix("roundgate.") for line in lines}


def test_a_tab_loads_the_site_file_and_not_what_a_command_works_with(regatta: SiteUnderTest) -> None:
    modules = loaded(regatta, **COMPLETING)
    assert "host.site" in modules
    assert modules & {*NEVER_FOR_A_LOOK, "api.server", "host.store", "core.rulebook.model", "sqlite3", "rich"} == set()


@pytest.mark.parametrize("words", [["show", "regatta"], ["explain", "regatta", "race.slots"], ["status"]])
def test_a_look_loads_no_checks_no_review_and_no_changes(regatta: SiteUnderTest, words: list[str]) -> None:
    modules = loaded(regatta, *words)
    assert "host.store" in modules
    assert modules & {*NEVER_FOR_A_LOOK, "rich", "rapidfuzz", "numpy", "httpx", "cronsim"} == set()
    assert modules & {"host.keeper.clients", "dataclasses"} == set()


def test_a_look_at_a_server_that_is_down_loads_nothing_of_people_and_changes(regatta: SiteUnderTest) -> None:
    assert loaded(regatta, "show", "regatta") & {"core.people.ids", "core.operations.values"} == set()


def test_a_set_loads_nothing_of_rounds_and_only_the_formats_of_the_files(regatta: SiteUnderTest) -> None:
    modules = loaded(regatta, "set", "regatta", "race.slots=12")
    assert {"core.checks", "core.operations.values", "core.formats.properties.document"} <= modules
    assert modules & {"host.rounds.engine", "core.formats.xml.document", "api.people", "rich", "numpy", "yaml"} == set()


def test_the_version_loads_nothing_at_all(regatta: SiteUnderTest) -> None:
    modules = loaded(regatta, "--version")
    assert {name for name in modules if name.split(".")[0] in ("api", "core", "host")} == set()
    assert "msgspec" not in modules


def test_every_module_loads_by_itself() -> None:
    """Names that only annotations need are imported for the type checker alone; none of them may be missing here."""
    modules = [
        module.name
        for module in pkgutil.walk_packages(roundgate.__path__, "roundgate.")
        if "__main__" not in module.name
    ]
    assert len(modules) > 300
    code = f"import importlib\nfor name in {modules!r}:\n    importlib.import_module(name)\n"
    done = subprocess.run([sys.executable, "-W", "error", "-c", code], capture_output=True, text=True, timeout=120)
    assert done.returncode == 0, done.stderr
