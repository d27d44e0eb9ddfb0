"""Drafting a rulebook: what is read out of values and comments, and that every draft is a rulebook that is right."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as some

from roundgate.core.draft.hints import hints_in
from roundgate.core.draft.writer import draft
from roundgate.core.files import ServerFiles
from roundgate.core.formats import FORMATS
from roundgate.core.formats.detect import sniffed_settings
from roundgate.core.rulebook.model import NO_RULEBOOK, File, Rulebook
from roundgate.core.rulebook.raw_books import RawBook
from roundgate.core.rulebook.reading import read_rulebook
from roundgate.core.text import NotText, Text, decode

CORPUS = Path(__file__).parent.parent / "corpus"


def files(**texts: str) -> ServerFiles:
    """Make a server's files, each named by its format."""
    book = {f"server.{name}": File(path=f"server.{name}", format=name) for name in texts}
    several = {f"server.{name}": Text(body) for name, body in texts.items()}
    return ServerFiles(Rulebook(rulebook=NO_RULEBOOK.rulebook, file=book), several)


def drafted(server: ServerFiles, **others: ServerFiles) -> dict[str, Any]:
    """Draft a rulebook; see that it passes every check; return its tables."""
    made = draft("quay", server, (), others)
    raw = tomllib.loads(made.text)
    read_rulebook("quay", lambda name: RawBook("quay.toml", raw, lambda: made.text), checked=True)
    assert made.counts.settings == len(raw.get("setting", {}))
    return raw


def setting(name: str, **texts: str) -> dict[str, Any]:
    found: dict[str, Any] = drafted(files(**texts))["setting"][name]
    return {key: value for key, value in found.items() if key not in ("file", "key", "about")}


@pytest.mark.parametrize(
    ("line", "fields"),
    [
        ("crew=16", {"type": "int"}),
        ("tide=0.5", {"type": "decimal"}),
        ("open=true", {"type": "bool"}),
        ("open=Yes", {"type": "bool", "spelling": ["Yes", "No"]}),
        ("open=OFF", {"type": "bool", "spelling": ["ON", "OFF"]}),
        ("net.port=4711", {"type": "port"}),
        ("bind=127.0.0.1", {"type": "address"}),
        ("home=https://example.org/harbour", {"type": "url"}),
        ("heap=512M", {"type": "size", "stored": "megabytes", "suffix": "M"}),
        ("idle.minutes=10", {"type": "duration", "stored": "minutes"}),
        ("console.password=low-tide", {"type": "secret"}),
        ("motd=Fair winds", {"type": "text"}),
        ("umask=022", {"type": "text"}),
    ],
)
def test_a_value_tells_its_type_by_its_looks_and_its_name(line: str, fields: dict[str, Any]) -> None:
    name = line.partition("=")[0]
    assert setting(name, properties=f"{line}\n") == fields


@pytest.mark.parametrize(
    ("comment", "value", "fields"),
    [
        ("How many boats. Default: 16", "12", {"type": "int", "default": 16}),
        ("How many boats [0-100]", "12", {"type": "int", "range": [0, 100]}),
        ("Boats, between 2 and 32 (default 8)", "12", {"type": "int", "range": [2, 32], "default": 8}),
        ("min: 2, max: 255", "12", {"type": "int", "range": [2, 255]}),
        ("Wind, from 0.0 to 2.5, defaults to 1.0", "1", {"type": "decimal", "range": [0, 2.5], "default": 1.0}),
        ("true or false", "true", {"type": "bool"}),
        ("0 = off, 1 = on", "1", {"type": "bool", "spelling": ["1", "0"]}),
        (
            "One of: calm, spring, storm",
            "spring",
            {"type": "choice", "choices": {"calm": "", "spring": "", "storm": ""}},
        ),
        ("calm|spring|storm", "calm", {"type": "choice", "choices": {"calm": "", "spring": "", "storm": ""}}),
        ("Idle time in minutes. 0 = off", "10", {"type": "duration", "stored": "minutes", "special": {"off": 0}}),
        ("Memory in megabytes", "512", {"type": "size", "stored": "megabytes"}),
        ("Damage to hulls, in percent (0-200)", "50", {"type": "percent", "stored": "percent", "range": [0, 200]}),
        ("The default course is chosen by the crew.", "Gull", {"type": "text"}),
        ("-1 for no limit", "7", {"type": "int", "special": {"unlimited": -1}}),
    ],
)
def test_a_comment_tells_default_bounds_choices_and_unit(comment: str, value: str, fields: dict[str, Any]) -> None:
    for mark, kind, form in (("#", "properties", "{}={}"), (";", "ini", "{} = {}"), ("//", "directives", "{} {}")):
        body = f"{mark} {comment}\n{form.format('crew', value)}\n"
        assert setting("crew", **{kind: body}) == fields, kind
    assert setting("crew", yaml=f"crew: {value}  # {comment}\n") == fields


def test_a_line_for_each_value_below_the_comment_gives_the_choices_with_their_meanings() -> None:
    lines = "#   calm - for learning\n#   spring - the usual\n#   storm - for the brave\n"
    body = f"# How the tide runs:\n{lines}tide=spring\n"
    found = setting("tide", properties=body)
    assert found == {
        "type": "choice",
        "choices": {"calm": "for learning", "spring": "the usual", "storm": "for the brave"},
    }
    numbers = "; 0 = no gusts, 1 = some, 2 = many\nlevel = 1\n"
    assert setting("level", ini=numbers)["choices"] == {"0": "no gusts", "1": "some", "2": "many"}


def test_a_commented_out_key_means_its_default_unless_it_is_there_on_wish() -> None:
    assert setting("crew", properties="# How many may board.\n#crew=16\n") == {"type": "int", "default": 16}
    assert setting("deck", properties="# Uncomment this to open the deck.\n#deck=true\n") == {"type": "bool"}


@pytest.mark.parametrize(
    ("comment", "value"),
    [("[0-10]", "500"), ("Default: many", "12"), ("Default: 900 [1-20]", "12"), ("one of: a, b, c", "12.5")],
)
def test_a_comment_that_the_value_shows_to_be_wrong_is_marked_and_not_taken(comment: str, value: str) -> None:
    made = draft("quay", files(properties=f"# {comment}\ncrew={value}\n"), (), {})
    fields = tomllib.loads(made.text)["setting"]["crew"]
    assert fields["type"] in ("int", "decimal") and not {"choices"} & set(fields)
    if comment != "one of: a, b, c":
        assert "UNSURE" in made.text.partition("[setting")[2] and made.counts.unsure == 1


def test_what_differs_between_two_servers_is_marked_and_no_secret_is_shown() -> None:
    mine = files(properties="crew=16\nrcon.password=low-tide\nname=Gull\n")
    other = files(properties="crew=24\nrcon.password=high-tide\nname=Gull\n")
    made = draft("quay", mine, (), {"harbour": other})
    assert "# differs between servers, so it is worth knowing: harbour: 24" in made.text
    assert made.text.count("differs") == 1
    tiers = {name: spec.get("tier", "basic") for name, spec in tomllib.loads(made.text)["setting"].items()}
    assert tiers == {"crew": "basic", "rcon.password": "advanced", "name": "advanced"}
    assert "tide" not in made.text


def test_a_rulers_and_headings_do_not_become_meanings() -> None:
    body = "#########\n# Harbour #\n#########\n\n# ----\n# How many may board.\n# ----\ncrew=16\n\nboats=4\n"
    found = drafted(files(properties=body))["setting"]
    assert found["crew"]["about"] == "How many may board." and "about" not in found["boats"]


def test_keys_of_one_name_in_two_files_have_names_of_their_own() -> None:
    found = drafted(files(properties="port=1\n", ini="port = 2\n", toml="[net]\nport = 3\n"))["setting"]
    assert sorted(found) == ["net.port", "port", "server-2.port"]


def test_values_in_lists_and_records_are_left_out_and_counted() -> None:
    made = draft("quay", files(json='{"slots": 4, "crew": [{"name": "Tern"}, {"name": "Skua"}]}'), (), {})
    assert made.counts.left_out == 2 and list(tomllib.loads(made.text)["setting"]) == ["slots"]


@pytest.mark.parametrize("kind", sorted(FORMATS))
def test_every_file_of_the_corpora_gives_a_rulebook_that_is_right(kind: str) -> None:
    seen = 0
    for path in sorted((CORPUS / kind).rglob("*")) if (CORPUS / kind).is_dir() else ():
        if not path.is_file():
            continue
        try:
            text = decode(path.read_bytes())
        except NotText:
            continue
        book = Rulebook(rulebook=NO_RULEBOOK.rulebook, file={"a": File(path="a", format=kind)})
        drafted(ServerFiles(book, {"a": text}))
        seen += 1
    assert seen > 3 or kind == "launch"


WORDS = some.sampled_from(
    [
        "default:", "Default", "16", "[0-100]", "min", "max", "between", "and", "2", "32", "one", "of", "calm,",
        "storm", "|", "or", "true", "false", "0", "=", "off", "1", "on", "-1", "unlimited", "in", "minutes",
        "megabytes", "percent", '"', "'", "(", ")", "#", ";", ":", "e.g.", "0.5", "1e9", "\N{INFINITY}", "\\", "'''",
    ]
)  # fmt: skip
VALUES = some.sampled_from(["16", "0.5", "true", "calm", "", "'x", "-1", "512M", '"', "07"])


@given(some.lists(WORDS, max_size=14), VALUES)
def test_any_comment_gives_a_rulebook_that_is_right(words: list[str], value: str) -> None:
    comment = " ".join(words)
    hints_in(comment)
    drafted(files(properties=f"# {comment}\ncrew={value}\n#other={value}\n", ini=f"; {comment}\ncrew = {value}\n"))


def test_bounds_the_wrong_way_round_are_none_and_nothing_is_said_of_them() -> None:
    made = draft("quay", files(properties="# Sails [20-4]\ncrew=12\n"), (), {})
    assert "range" not in tomllib.loads(made.text)["setting"]["crew"] and made.counts.unsure == 0


@pytest.mark.parametrize(
    ("body", "format_name"),
    [
        (
            "#    How many boats.\n#    type: int min: 1 max: 32\n# slots = 16\n\n# name = x\n# open = true\n",
            "properties",
        ),
        ("; slots = 16\n; name = x\n; open = true\n", "properties"),
        ("# This is how it is, said = in words.\n# name = x\n", ""),
        ("# slots = 16\n", ""),
    ],
)
def test_a_file_in_which_all_is_commented_out_is_known_by_its_pairs(body: str, format_name: str) -> None:
    assert sniffed_settings(body) == format_name
