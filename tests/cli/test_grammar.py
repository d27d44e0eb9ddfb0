"""The grammar of the commands: verbs, the server first, former names, and what people type that is no command."""

from __future__ import annotations

import ast
import json
import re
import shlex
import shutil
from pathlib import Path

import pytest

import roundgate
from conftest import SiteUnderTest
from roundgate.cli.grammar.commands import COMMANDS, every_command
from roundgate.cli.grammar.group import loaded
from roundgate.cli.grammar.verbs import ELSEWHERE, FORMER, FORMER_OPTIONS
from roundgate.core.quoting import PLACEHOLDERS, placeholder_in
from roundgate.demo import site as demo_site

GROUPS = {line.name: line.verbs for line in COMMANDS if line.verbs is not None}


@pytest.fixture
def quay(site: SiteUnderTest) -> SiteUnderTest:
    """Two servers with the demo's ranks and officers, both down."""
    for name in ("regatta", "harbour"):
        home = site.add(name, "boat.slots=16\n")
        for path in (Path(demo_site.__path__[0]) / "regatta").iterdir():
            if path.suffix in (".yml", ".json", ".lua"):
                shutil.copy(path, home / path.name)
    return site


def test_what_was_a_command_is_a_verb_now_and_both_do_the_same(quay: SiteUnderTest) -> None:
    for old, new in FORMER.items():
        before, now = quay.run(old, "--help"), quay.run(*new, "--help")
        assert before.stdout == now.stdout and now.returncode == 0, old
        assert before.stderr == f"note: this is 'roundgate {' '.join(new)}' now.\n" and not now.stderr


def test_a_command_without_a_verb_is_the_one_that_it_most_often_means(quay: SiteUnderTest) -> None:
    for name, verbs in GROUPS.items():
        meant = quay.run(name, verbs.default, *(["regatta"] if name == "ranks" else []))
        assert quay.run(name, *(["regatta"] if name == "ranks" else [])).stdout == meant.stdout, name
    assert quay.ok("rounds", "regatta") == quay.ok("rounds", "list", "regatta")
    assert "this is 'roundgate preset use' now" in quay.run("preset", "regatta", "gentle").stderr
    assert "this is 'roundgate backup make' now" in quay.run("backup", "regatta").stderr


@pytest.mark.parametrize(
    "words",
    [
        ["who", "race.abort"], ["may", "Wren", "race.abort"], ["why", "Tern", "race.delete"], ["of", "Wren"],
        ["grant", "marshal", "chat.mute", "race.start"], ["join", "marshal", "Skua"], ["add", "steward"],
        ["copy", "marshal", "steward"], ["default", "marshal"],
    ],
)  # fmt: skip
def test_the_server_comes_first_and_the_former_order_is_understood(quay: SiteUnderTest, words: list[str]) -> None:
    verb, *rest = words
    now = quay.run("ranks", verb, "harbour", *rest)
    slate = quay.ok("slate", "harbour")
    quay.ok("discard", "@all")
    former = quay.run("ranks", verb, *rest, "harbour")
    assert (former.stdout, former.returncode) == (now.stdout, now.returncode)
    assert now.returncode in (0, 1) and "note:" not in now.stderr
    assert f"the server comes first now: roundgate ranks {verb} harbour {shlex.join(rest)}" in former.stderr
    assert quay.ok("slate", "harbour") == slate and "the slate is empty" in quay.ok("slate", "regatta")


def test_former_options_are_understood_with_a_note(quay: SiteUnderTest) -> None:
    takers = {
        "--image": ["odds", "regatta", "{}", "x.gif"],
        "--parallel": ["restart", "regatta", "{}", "x"],
        "--continue-on-error": ["restart", "regatta", "{}", "--at", "x"],
        "--empty-timeout": ["restart", "regatta", "{}", "x"],
        "--force": ["apply", "regatta", "{}", "--at", "x"],
    }
    for old, new in FORMER_OPTIONS.items():
        words = takers[new]
        if old == "--yes-really":
            words = ["remove", "regatta", "officers/Nobody", "{}"]
        before = quay.run(*(word.format(old) for word in words))
        now = quay.run(*(word.format(new) for word in words))
        assert before.returncode == now.returncode == 2 and "No such option" not in now.stderr, words
        assert before.stderr == f"note: this is 'roundgate {words[0]} {new}' now.\n{now.stderr}"


def test_what_is_no_command_says_where_it_is(quay: SiteUnderTest) -> None:
    for word in ELSEWHERE:
        output = quay.fails(2, word, "regatta")
        assert f"There is no command '{word}'" in output
        for named in re.findall(r"'([a-z -]+)'", output)[1:]:
            known = {" ".join(path) for path, _ in every_command()} | set(GROUPS)
            assert re.sub(r" --\S+", "", named) in known, f"{word}: {named}"
        for line in re.findall(r"do: roundgate (.*)", output):
            assert quay.run(*shlex.split(line)).returncode in (0, 1), line


def test_a_slip_in_a_verb_is_corrected_in_the_whole_call(quay: SiteUnderTest) -> None:
    output = quay.fails(2, "ranks", "grnat", "regatta", "marshal", "chat.mute")
    assert "do: roundgate ranks grant regatta marshal chat.mute" in output
    assert "One of: list, show" in quay.fails(2, "rounds", "xyzzy")
    assert "PERMISSION is missing. It takes: ranks why [SERVER] WHO PERMISSION" in quay.fails(2, "ranks", "why", "Tern")
    assert "'x' is too much" in quay.fails(2, "ranks", "of", "regatta", "Tern", "x")


def test_a_placeholder_is_refused_by_every_command(quay: SiteUnderTest) -> None:
    for path, _ in every_command():
        output = quay.fails(2, *path, f"a/<{PLACEHOLDERS[len(path)]}>")
        assert "stands for what you mean" in output, path
    assert placeholder_in("<b>Sail</b>") == "" == placeholder_in("a < b > c")


def test_the_last_change_is_taken_back_alone(quay: SiteUnderTest) -> None:
    quay.ok("set", "regatta", "race.slots=24")
    quay.ok("set", "regatta", "race.laps=4", "idle.drop=10m")
    quay.ok("discard", "regatta", "--last")
    assert "race.slots" in quay.ok("slate", "regatta") and "race.laps" not in quay.ok("slate", "regatta")
    quay.ok("discard", "regatta", "--last", "--yes")
    assert "the slate is empty" in quay.ok("slate", "regatta")
    assert "0 taken off" in quay.ok("discard", "regatta", "--last")
    assert "or the last?" in quay.fails(2, "discard", "regatta", "race.slots", "--last")


def test_a_file_of_no_server_is_shown_without_its_secrets(tmp_path: Path, site: SiteUnderTest) -> None:
    path = tmp_path / "crew.json"
    path.write_text('{"mates": [{"name": "Tern"}], "rconPass": "low-tide", "long": "' + "x" * 200 + '", "slots": 4}\n')
    output = site.ok("show", str(path))
    assert "mates[0].name  Tern" in output and "low-tide" not in output and "(set, hidden)" in output
    assert site.ok("show", f"{path}:mates").splitlines()[1:] == ["mates[0].name  Tern"]
    assert site.ok("show", f"{path}:mates", f"{path}:slots").splitlines()[1:] == [
        "mates[0].name  Tern",
        "slots          4",
    ]
    assert "nothing of that name" in site.fails(2, "show", f"{path}:matez")
    assert "One file at a time" in site.fails(2, "show", str(path), "other.json")
    assert "Only sets of records" in site.fails(2, "show", str(path), "--csv")
    found = json.loads(site.ok("show", str(path), "--json"))
    rows = {row["key"]: (row["value"], row["kind"], row["line"]) for row in found["values"]}
    assert found["format"] == "json" and rows["slots"] == ("4", "number", 1)
    assert rows["rconPass"] == ("(set, hidden)", "text", 1) and "low-tide" not in json.dumps(found)
    page = site.ok("explain", f"{path}:slots", f"{path}:rconPass")
    assert "read as json" in page and "slots     4              number  1" in page and "low-tide" not in page
    assert json.loads(site.ok("explain", str(path), "--json")) == found
    assert "nothing of that name" in site.fails(2, "explain", f"{path}:matez")


def test_one_long_value_does_not_move_the_columns_of_the_others(quay: SiteUnderTest) -> None:
    quay.ok("set", "regatta", "gullwind.properties:mod.long=" + "x" * 200, "--new")
    quay.ok("set", "regatta", "race.slots=24")
    quay.ok("apply", "regatta", "--yes", "--force")
    quay.ok("set", "regatta", "race.slots=20")
    rows = [line for line in quay.ok("show", "regatta", "--all").splitlines() if "x" * 100 not in line]
    assert max(map(len, rows)) < 200
    [slots] = [row for row in rows if row.startswith("race.slots")]
    assert len(slots) < 120, slots


def test_what_changes_nothing_does_not_wait(quay: SiteUnderTest) -> None:
    output = quay.ok("set", "regatta", "race.slots=16")
    assert "race.slots: no change, 16" in output and "it is so already. 0 waiting" in output
    quay.ok("set", "regatta", "race.slots=24", "race.laps=4")
    assert "(2 waiting)" in quay.ok("set", "regatta", "race.slots=16", "idle.drop=10m")
    slate = quay.ok("slate", "regatta")
    assert "race.slots" not in slate and "race.laps" in slate and "idle.drop" in slate


def test_a_share_without_its_sign_is_noted(quay: SiteUnderTest) -> None:
    output = quay.ok("set", "regatta", "hull.damage=0.5")
    assert "note: hull.damage: 0.5 is read as 0.5%; for 50%, write the sign." in output
    assert "note:" not in quay.ok("set", "regatta", "hull.damage=0.5%")


def proposals() -> list[tuple[str, str, list[str]]]:
    """Return each command that a message proposes: where, its verb, and its options; what is not literal is ``?``."""
    found = []
    for path in sorted(Path(roundgate.__path__[0]).rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if not isinstance(node, ast.Call) or not node.args or not isinstance(node.args[0], ast.Constant):
                continue
            name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
            if name in ("typed_command", "command") and isinstance(node.args[0].value, str):
                given = next((word.value for word in node.keywords if word.arg == "options"), ast.Tuple([]))
                words = given.elts if isinstance(given, ast.Tuple) else []
                options = [str(word.value) if isinstance(word, ast.Constant) else "?" for word in words]
                found.append((f"{path.name}:{node.lineno}", node.args[0].value, options))
    return found


def test_each_command_that_a_message_proposes_has_a_verb_and_options_that_are_there() -> None:
    lines = {line.name: line for line in COMMANDS}
    made = proposals()
    assert len(made) > 150
    for where, verb, options in made:
        name, _, sub = verb.partition(" ")
        line, verbs = lines[name], lines[name].verbs
        if verbs is not None:
            assert sub or verbs.default, where
            line = next(each for each in verbs.verbs if each.name == (sub or verbs.default))
        takes = {
            word: not getattr(option, "is_flag", True)
            for option in loaded(line).params
            for word in (*option.opts, *option.secondary_opts)
        }
        left = list(options)
        while left:
            option = left.pop(0)
            assert option == "--help" or option in takes, f"{where}: {verb} {options}"
            if takes.get(option):
                assert left and not left.pop(0).startswith("--"), f"{where}: {verb} {options}: {option} takes a value"
