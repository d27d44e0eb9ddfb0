"""``edit``: a copy in the person's own editor, checked when it closes; again, keep, or give up."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

from conftest import SiteUnderTest
from terminals import Terminal


@pytest.fixture
def editor(tmp_path: Path) -> Path:
    """An editor that replaces OLD by NEW in its file, taking one ``OLD=>NEW`` line of its script each time."""
    script = tmp_path / "editor.py"
    script.write_text(
        "import sys, pathlib\n"
        "todo = pathlib.Path(__file__).with_name('todo.txt')\n"
        "first, *rest = todo.read_text().splitlines() or ['']\n"
        "todo.write_text('\\n'.join(rest))\n"
        "old, _, new = first.partition('=>')\n"
        "path = pathlib.Path(sys.argv[1])\n"
        "if old: path.write_bytes(path.read_bytes().replace(old.encode(), new.encode()))\n"
    )
    return script


def plan(editor: Path, *changes: str) -> dict[str, str]:
    """Tell the editor what to do each time; give the environment for the call."""
    editor.with_name("todo.txt").write_text("\n".join(changes))
    return {"EDITOR": f"{sys.executable} {editor}", "VISUAL": ""}


def in_terminal(site: SiteUnderTest, env: dict[str, str], answers: str, *words: str) -> tuple[int, str]:
    """Run the program at a pseudo-terminal and type the answers."""
    with Terminal([sys.executable, "-m", "roundgate", *words], site.folder, **env) as terminal:
        terminal.type(answers)
        return terminal.end(), terminal.text


def test_an_edit_of_a_server_goes_onto_the_slate_and_into_force(running: SiteUnderTest, editor: Path) -> None:
    courses = running.folder / "regatta" / "courses.txt"
    env = plan(editor, "The Narrows=>The Narrows\nLantern Run")
    env["EDITOR"] = env["EDITOR"]
    editor.with_name("todo.txt").write_text("The Narrows=>Lantern Run")
    done = running.run("edit", "regatta", "courses.txt", env=env)
    assert done.returncode == 0, done.stdout + done.stderr
    assert "courses.txt: as it is -> edited by hand" in " ".join(done.stdout.split())
    assert "The Narrows" in courses.read_text()
    assert "+Lantern Run" in running.ok("slate", "regatta")
    running.ok("apply", "regatta", "--yes", "--countdown", "0s")
    assert courses.read_text() == "Harbour Mile\nLantern Run\n"


def test_an_edit_is_made_on_what_the_file_has_become_since(regatta: SiteUnderTest, editor: Path) -> None:
    courses = regatta.folder / "regatta" / "courses.txt"
    courses.write_text("".join(f"ws:204{number}\n" for number in range(100, 120)))
    done = regatta.run("edit", "regatta", "courses.txt", env=plan(editor, "ws:204115=>ws:204999"))
    assert done.returncode == 0, done.stdout + done.stderr
    courses.write_text("Harbour Mile\n" + courses.read_text())
    out = regatta.ok("slate", "regatta")
    assert "+ws:204999" in out
    courses.write_text("Harbour Mile\n")
    assert (
        "the lines that were edited have changed on disk since"
        in regatta.run("slate", "regatta").stdout + regatta.run("check", "regatta").stdout
    )


def test_without_a_person_a_text_with_errors_is_not_kept(regatta: SiteUnderTest, editor: Path) -> None:
    done = regatta.run("edit", "regatta", "gullwind.properties", env=plan(editor, "boat.slots=16=>boat.slots=\\u12"))
    assert done.returncode == 1
    assert "escape-broken" in done.stdout
    assert "there is nobody to ask; nothing was changed" in done.stderr
    assert "the slate is empty" in regatta.ok("slate", "regatta")


def test_again_and_then_right(regatta: SiteUnderTest, editor: Path) -> None:
    env = plan(editor, "boat.slots=16=>boat.slots=99", "boat.slots=99=>boat.slots=24")
    code, heard = in_terminal(regatta, env, "a\n", "edit", "regatta", "gullwind.properties")
    assert code == 0, heard
    assert "value-range" in heard
    assert "+boat.slots=24" in regatta.ok("slate", "regatta")


def test_give_up(regatta: SiteUnderTest, editor: Path) -> None:
    env = plan(editor, "boat.slots=16=>boat.slots=99")
    code, heard = in_terminal(regatta, env, "g\n", "edit", "regatta", "gullwind.properties")
    assert code == 1
    assert "given up, nothing was changed" in heard
    assert "the slate is empty" in regatta.ok("slate", "regatta")


def test_keep_with_errors(regatta: SiteUnderTest, editor: Path) -> None:
    env = plan(editor, "boat.slots=16=>boat.slots=99")
    code, heard = in_terminal(regatta, env, "k\n", "edit", "regatta", "gullwind.properties")
    assert code == 0, heard
    assert "+boat.slots=99" in regatta.ok("slate", "regatta")


def test_nothing_changed_is_said(regatta: SiteUnderTest, editor: Path) -> None:
    done = regatta.run("edit", "regatta", "courses.txt", env=plan(editor, ""))
    assert (done.returncode, done.stdout) == (0, "courses.txt: nothing was changed.\n")


def test_a_file_of_no_server_is_written_with_its_mode(tmp_path: Path, editor: Path, site: SiteUnderTest) -> None:
    path = tmp_path / "ranks.yml"
    path.write_bytes(b"ranks:\r\n  deckhand: 1\r\n")
    path.chmod(0o600)
    done = site.run("edit", str(path), env=plan(editor, "deckhand: 1=>deckhand: 2"))
    assert done.returncode == 0, done.stderr
    assert path.read_bytes() == b"ranks:\r\n  deckhand: 2\r\n"
    assert path.stat().st_mode & 0o777 == 0o600


@pytest.mark.parametrize(
    ("env", "hint"),
    [
        ({"EDITOR": "/nowhere/editor", "VISUAL": ""}, "cannot be started"),
        ({"EDITOR": "false", "VISUAL": ""}, "The editor ended with 1"),
    ],
)
def test_an_editor_that_fails_changes_nothing(regatta: SiteUnderTest, env: dict[str, str], hint: str) -> None:
    done = regatta.run("edit", "regatta", "courses.txt", env=env)
    assert done.returncode == 1
    assert hint in done.stderr


def test_a_file_that_is_not_there_is_said_with_those_that_are(regatta: SiteUnderTest, editor: Path) -> None:
    done = regatta.run("edit", "regatta", "courses.tx", env=plan(editor, ""))
    assert done.returncode == 1
    assert "regatta has no file courses.tx" in done.stderr
    assert "courses.txt" in done.stderr
