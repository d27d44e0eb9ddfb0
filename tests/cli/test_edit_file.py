"""``edit``: a copy in the person's own editor, checked when it closes; again, keep, or give up."""

from __future__ import annotations

import os
import shutil
import signal
import sys
from pathlib import Path

import pytest

from conftest import SiteUnderTest, wait_for
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
    """Tell the editor what to do each time; return the environment for the call."""
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
    assert "there is no terminal to ask on; nothing was changed" in done.stderr
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
    assert "cancelled, nothing was changed" in heard
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


WAITS = """
import pathlib, signal, sys
path = pathlib.Path(sys.argv[1])
path.write_text(path.read_text() + "Lantern Run\\n")
signal.signal(signal.SIGHUP, lambda *_: sys.exit(0))
pathlib.Path({ready!r}).touch()
signal.pause()
"""


def kept_in(folder: Path) -> list[Path]:
    """Name the private copies that are still there."""
    return [path for path in sorted(folder.glob("roundgate-edit-*/*")) if path.name != ".origin"]


def test_what_was_written_outlives_a_terminal_that_closes(regatta: SiteUnderTest, tmp_path: Path) -> None:
    """The editor even ends well: nobody has seen the check, so nothing goes onto the slate by itself."""
    script, ready = tmp_path / "editor.py", tmp_path / "ready"
    script.write_text(WAITS.format(ready=str(ready)))
    env = {"EDITOR": f"{sys.executable} {script}", "VISUAL": "", "TMPDIR": str(tmp_path)}
    with Terminal([sys.executable, "-m", "roundgate", "edit", "courses.txt"], regatta.folder, **env) as terminal:
        wait_for(ready.exists)
        os.killpg(terminal.process.pid, signal.SIGHUP)
        assert terminal.end() == 1
        assert "nothing was changed" in terminal.text
    (kept,) = kept_in(tmp_path)
    assert kept.read_text() == "Harbour Mile\nThe Narrows\nLantern Run\n"
    assert (kept.stat().st_mode | kept.parent.stat().st_mode) & 0o077 == 0
    assert "the slate is empty" in regatta.ok("slate", "regatta")
    nothing = {"EDITOR": "true", "VISUAL": "", "TMPDIR": str(tmp_path)}
    assert f"was not taken over; it is kept in {kept}" in regatta.run("edit", "courses.txt", env=nothing).stdout
    assert str(kept) not in regatta.run("edit", "ranks.yml", "--new-file", env=nothing).stdout, "another file"
    shutil.rmtree(kept.parent)
    assert regatta.run("edit", "courses.txt", env=nothing).stdout == "courses.txt: nothing was changed.\n"


def test_what_was_written_is_kept_where_somebody_else_was_faster(site: SiteUnderTest, tmp_path: Path) -> None:
    path, script = tmp_path / "ranks.yml", tmp_path / "editor.py"
    path.write_text("ranks:\n  deckhand: 1\n")
    script.write_text(
        f"import pathlib, sys\npathlib.Path({str(path)!r}).write_text('ranks:\\n  deckhand: 7\\n')\n"
        "pathlib.Path(sys.argv[1]).write_text('ranks:\\n  deckhand: 2\\n')\n"
    )
    env = {"EDITOR": f"{sys.executable} {script}", "VISUAL": "", "TMPDIR": str(tmp_path)}
    code, heard = in_terminal(site, env, "", "edit", str(path))
    assert code != 0 and path.read_text() == "ranks:\n  deckhand: 7\n"
    (kept,) = kept_in(tmp_path)
    assert kept.read_text() == "ranks:\n  deckhand: 2\n" and str(kept) in heard.replace("\r\n", "")


def test_what_was_written_is_kept_at_ctrl_c_and_not_where_it_is_given_up(
    regatta: SiteUnderTest, editor: Path, tmp_path: Path
) -> None:
    for answer, kept in (("g\n", 0), ("\x04", 1), ("k\n", 1)):
        env = {**plan(editor, "boat.slots=16=>boat.slots=99"), "TMPDIR": str(tmp_path)}
        in_terminal(regatta, env, answer, "edit", "regatta", "gullwind.properties")
        assert len(kept_in(tmp_path)) == kept, answer
    assert "boat.slots=99" in kept_in(tmp_path)[0].read_text()


def test_a_script_leaves_no_copies(regatta: SiteUnderTest, editor: Path, tmp_path: Path) -> None:
    env = {**plan(editor, "boat.slots=16=>boat.slots=\\u12"), "TMPDIR": str(tmp_path)}
    assert "no terminal to ask" in regatta.run("edit", "regatta", "gullwind.properties", env=env).stderr
    assert kept_in(tmp_path) == []


@pytest.mark.parametrize("answer", ["\r", "g\r"])
def test_an_editor_that_returns_at_once_is_waited_for(regatta: SiteUnderTest, tmp_path: Path, answer: str) -> None:
    """It hands the file to a window of its own, in which a person works on while the command is back already."""
    window = tmp_path / "window.sh"
    window.write_text(f'#!/bin/sh\necho "$1" >{tmp_path}/asked\n')
    window.chmod(0o755)
    call = [sys.executable, "-m", "roundgate", "edit", "regatta", "courses.txt"]
    with Terminal(call, regatta.folder, EDITOR=str(window), VISUAL="") as terminal:
        terminal.until("press Enter here")
        copy = Path((tmp_path / "asked").read_text().strip())
        assert str(copy) in terminal.text.replace("\r\n", "")
        copy.write_text("Harbour Mile\nLantern Run\n")
        terminal.type(answer)
        assert terminal.end() == (1 if "g" in answer else 0), terminal.text
    assert ("+Lantern Run" in regatta.ok("slate", "regatta")) == ("g" not in answer)
    assert not copy.exists()


@pytest.mark.parametrize("what", ["mkfifo", "mkdir"])
def test_an_editor_that_leaves_no_file_changes_nothing(regatta: SiteUnderTest, tmp_path: Path, what: str) -> None:
    script = tmp_path / "editor.sh"
    script.write_text(f'#!/bin/sh\nrm "$1"; {what} "$1"\n')
    script.chmod(0o755)
    for words in (("edit", "regatta", "courses.txt"), ("edit", str(regatta.folder / "roundgate.toml"))):
        done = regatta.run(*words, env={"EDITOR": str(script), "VISUAL": ""})
        assert done.returncode == 1 and "no longer a file" in done.stderr, done.stderr
    assert "the slate is empty" in regatta.ok("slate", "regatta")
