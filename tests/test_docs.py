"""The documents: the README's examples run as they stand, every picture is there, and the pages are current."""

from __future__ import annotations

import doctest
import json
import os
import re
import runpy
import shlex
import shutil
import subprocess
import sys
from collections.abc import Iterator, Sequence
from importlib import import_module
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
import typer

from conftest import SiteUnderTest

ROOT = Path(__file__).parent.parent
README = (ROOT / "README.md").read_text("utf-8")
TOUR = (ROOT / "docs" / "tour.md").read_text("utf-8")


def examples() -> Iterator[tuple[str, str]]:
    """Yield each command of the console blocks of README and tour, and what it should print."""
    for block in re.findall(r"```console\n(.*?)```", README + TOUR, re.DOTALL):
        for part in re.split(r"^\$ ", block, flags=re.MULTILINE)[1:]:
            command, _, output = part.partition("\n")
            yield command, output


@pytest.fixture
def saltmarsh(tmp_path: Path) -> Iterator[SiteUnderTest]:
    """The demo's own site, its servers and lobby running."""
    from roundgate.cli import demo

    site = SiteUnderTest(tmp_path)
    lobby, port = demo._start_lobby(tmp_path)
    demo._make_site(tmp_path, port)
    site.ok("start", "@all")
    yield site
    site.end()
    lobby.terminate()
    lobby.wait()
    assert lobby.stdout is not None
    lobby.stdout.close()


def test_the_readmes_examples_print_what_the_readme_says(saltmarsh: SiteUnderTest) -> None:
    checker, count = doctest.OutputChecker(), 0
    for command, wanted in examples():
        done = saltmarsh.run(*shlex.split(command)[1:])
        output = done.stderr + done.stdout
        flags = doctest.ELLIPSIS | doctest.NORMALIZE_WHITESPACE
        assert checker.check_output(wanted, output, flags), f"$ {command}\n{output}\n--- the README says:\n{wanted}"
        count += 1
    assert count >= 9


def test_every_picture_is_linked_and_every_link_leads_somewhere() -> None:
    pictures = {path.name for path in (ROOT / "docs" / "screenshots").glob("*.png")}
    linked = set(re.findall(r"docs/screenshots/([\w.-]+)", README))
    assert linked == pictures and len(pictures) < 20
    assert len(README.splitlines()) <= 150
    for link in re.findall(r"\]\(([\w./-]+)\)", README):
        assert (ROOT / link).exists(), link


def test_the_page_of_findings_is_current() -> None:
    made = runpy.run_path(str(ROOT / "docs" / "make_findings.py"))["findings"]()
    assert (ROOT / "docs" / "findings.md").read_text("utf-8") == made, "run: python docs/make_findings.py"


def test_the_page_and_the_schema_of_the_site_file_are_current() -> None:
    made = runpy.run_path(str(ROOT / "docs" / "make_site.py"))
    assert (ROOT / "docs" / "site.md").read_text("utf-8") == made["page"](), "run: python docs/make_site.py"
    assert json.loads((ROOT / "docs" / "site.schema.json").read_text("utf-8")) == made["site_schema"]()


def test_the_example_of_the_api_runs_as_it_stands(site: SiteUnderTest) -> None:
    site.add("regatta", "boat.slots=16\n")
    site.ok("start")
    [code] = re.findall(r"```python\n(.*?)```", (ROOT / "docs" / "api.md").read_text("utf-8"), re.DOTALL)
    code = code.replace('"saltmarsh-demo"', repr(str(site.folder)))
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=100, check=True)
    lines = done.stdout.splitlines()
    assert lines[0] == "race.slots 16 -> 24" and lines[-1] == "proven", done.stdout


def ragged_lines(shown: str, width: int) -> list[str]:
    """Return lines above the options that end in the middle of a sentence though the next word would have fitted."""
    lines = [line.strip() for line in shown.partition("╭")[0].splitlines()]
    return [
        line
        for line, following in pairwise(lines)
        if line and following and line[-1] not in ".:;" and len(line) + 1 + len(following.split()[0]) < width - 4
    ]


def test_every_command_has_help_and_a_line_in_the_list() -> None:
    from typer.testing import CliRunner

    from roundgate.cli.grammar.commands import COMMANDS, every_command
    from roundgate.cli.grammar.group import loaded
    from roundgate.cli.main import build

    listed = subprocess.run([sys.executable, "-m", "roundgate", "--help"], capture_output=True, text=True, check=True)
    pages = {(line.name,): None for line in COMMANDS if line.verbs} | dict(every_command())
    for path, line in pages.items():
        name = " ".join(path)
        shown = CliRunner().invoke(build(), [*path, "--help"], env={"COLUMNS": "100"}).stdout
        rows = shown.splitlines()
        assert "Usage" in shown and len(shown) > 200 and len(rows) <= 60, name
        assert max(map(len, rows)) <= 100, name
        assert "Raises" not in shown, f"{name}: what a caller in Python must know is no help at a terminal"
        assert not ragged_lines(shown, 100), f"{name}: {ragged_lines(shown, 100)}"
        if line is None:
            assert path[0] in listed.stdout
            continue
        above = listed if len(path) == 1 else CliRunner().invoke(build(), [path[0], "--help"])
        assert re.search(rf"\b{path[-1]} +{re.escape(line.help[:30])}", above.stdout), f"{name} is in no list"
        options = [param for param in loaded(line).params if param.param_type_name == "option" and not param.hidden]
        assert all(option.help for option in options), f"{name}: an option has no help"
        function = getattr(import_module(f"roundgate.cli.{line.module}"), line.function)
        for word in re.findall(r"\S*\[\S+", function.__doc__):
            assert word in shown, f"{name}: {word}"


def called(program: Any, words: Sequence[str]) -> Any:
    """Return the command that words call; its options are parsed. Raises UsageError for a call that is none."""
    context = program.make_context("roundgate", list(words))
    while context._protected_args:  # the group that it is in, then the command itself
        name, command, rest = context.command.resolve_command(context, [*context._protected_args, *context.args])
        context = command.make_context(name, rest, parent=context)
    return context.command


def test_every_call_in_the_documents_is_one_that_the_program_takes() -> None:
    from roundgate.cli.main import build

    program, count = typer.main.get_command(build()), 0
    for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
        for block in re.findall(r"```(?:console|sh)\n(.*?)```", page.read_text("utf-8"), re.DOTALL):
            for call in re.findall(r"^(?:\$ )?roundgate (.+)$", block, re.MULTILINE):
                called(program, shlex.split(call.partition(" | ")[0].partition(" && ")[0], comments=True))
                count += 1
    assert count > 60


def test_the_man_pages_are_current_and_have_every_command_and_option() -> None:
    from roundgate.cli.grammar.commands import every_command
    from roundgate.cli.grammar.group import loaded

    made = runpy.run_path(str(ROOT / "docs" / "make_man.py"))["pages"]()
    there = {path.name: path.read_text("utf-8") for path in (ROOT / "man").iterdir()}
    assert there == made, "run: python docs/make_man.py"
    for path, line in every_command():
        page = made[f"roundgate-{path[0]}.1"]
        assert all(f"\n.SS {verb}\n" in page for verb in path[1:])
        for param in loaded(line).params:
            if param.param_type_name == "option" and not param.hidden:
                assert all(option.replace("-", "\\-") in page for option in param.opts), (path, param.opts)
    groff = shutil.which("groff")
    for name in made if groff else ():
        done = subprocess.run(
            [str(groff), "-man", "-Tascii", "-ww", "-z", str(ROOT / "man" / name)], capture_output=True
        )
        assert not done.stderr, f"{name}: {done.stderr.decode()}"


def test_what_prints_json_is_described_and_nothing_else_is() -> None:
    from roundgate.cli.grammar.commands import every_command
    from roundgate.cli.screen.outputs import OUTPUTS

    printing = set()
    for path, line in every_command():
        function = getattr(import_module(f"roundgate.cli.{line.module}"), line.function)
        if "as_json" in function.__annotations__:
            printing.add(" ".join(path))
    described = {name.split(" SERVER")[0].split(" FILE")[0] for name in OUTPUTS}
    assert described == printing


def test_the_page_and_the_schema_of_the_json_output_are_current() -> None:
    made = runpy.run_path(str(ROOT / "docs" / "make_json.py"))
    assert (ROOT / "docs" / "json.md").read_text("utf-8") == made["page"](), "run: python docs/make_json.py"
    assert json.loads((ROOT / "docs" / "json.schema.json").read_text("utf-8")) == made["schema"]()


def test_the_hooks_for_version_control_take_every_ending_that_is_sure() -> None:
    from roundgate.core.formats import ENDINGS

    hooks = (ROOT / ".pre-commit-hooks.yaml").read_text("utf-8")
    patterns = set(re.findall(r"files: (.*)", hooks))
    assert len(patterns) == 1
    sure = [ending for name, endings in ENDINGS.items() if name != "lines" for ending in endings]
    for ending in sure:
        assert re.search(patterns.copy().pop(), f"server{ending}"), ending
    assert not re.search(patterns.pop(), "notes.txt"), "any text may be called so"


def test_the_page_and_the_schema_of_rulebooks_are_current() -> None:
    made = runpy.run_path(str(ROOT / "docs" / "make_rulebook.py"))
    assert (ROOT / "docs" / "rulebook_reference.md").read_text("utf-8") == made["page"](), (
        "python docs/make_rulebook.py"
    )
    assert json.loads((ROOT / "docs" / "rulebook.schema.json").read_text("utf-8")) == made["rulebook_schema"]()


def test_the_worked_example_of_the_rulebooks_page_runs_as_it_stands(tmp_path: Path) -> None:
    """Each command is typed into a shell; what it prints must be what the page says."""
    page = (ROOT / "docs" / "rulebook.md").read_text("utf-8")
    program = tmp_path / "roundgate"
    program.write_text(f'#!/bin/sh\nexec "{sys.executable}" -m roundgate "$@"\n')
    program.chmod(0o755)
    home = tmp_path / "club"
    home.mkdir()
    count = 0
    try:
        for block in re.findall(r"```console\n(.*?)```", page, re.DOTALL):
            for part in re.split(r"^\$ ", block, flags=re.MULTILINE)[1:]:
                lines = part.split("\n")
                ends = [at for at, line in enumerate(lines) if line == "END"] if "<<'END'" in lines[0] else [0]
                command, wanted = "\n".join(lines[: ends[0] + 1]), "\n".join(lines[ends[0] + 1 :])
                done = subprocess.run(
                    ["bash", "-c", command],
                    cwd=home,
                    env={**os.environ, "PATH": f"{tmp_path}:{os.environ['PATH']}", "XDG_CONFIG_HOME": str(tmp_path)},
                    capture_output=True,
                    text=True,
                    check=False,
                    timeout=60,
                )
                output = done.stdout + done.stderr
                flags = doctest.ELLIPSIS | doctest.NORMALIZE_WHITESPACE
                assert doctest.OutputChecker().check_output(wanted, output, flags), f"$ {command}\n{output}"
                count += 1
    finally:
        subprocess.run([str(program), "--site", str(home), "stop", "spindrift"], check=False, capture_output=True)
    assert count >= 14


def test_the_drafted_rulebook_of_the_documents_is_what_the_program_drafts(site: SiteUnderTest) -> None:
    page = (ROOT / "docs" / "rulebook.md").read_text("utf-8")
    [given] = re.findall(r"```properties\n(.*?)```", page, re.DOTALL)
    [wanted] = re.findall(r"```toml\n(\[file\.harbour\].*?)```", page, re.DOTALL)
    home = site.folder / "harbour"
    home.mkdir()
    (home / "harbour.properties").write_text(given)
    with (site.folder / "roundgate.toml").open("a") as file:
        file.write('[server.harbour]\nfolder = "harbour"\nstart = ["./launch.sh"]\n')
    site.ok("rulebook", "draft", "harbour")
    assert wanted.rstrip() in (site.folder / "rulebooks" / "harbour.toml").read_text()
