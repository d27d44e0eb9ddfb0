"""Rulebooks: layers, places of mistakes, and the whole of the bundled one."""

from __future__ import annotations

import tomllib

import pytest

from conftest import BOOK
from roundgate.core import values
from roundgate.core.rulebook.mistakes import mistakes
from roundgate.core.rulebook.raw_books import RawBook, merge
from roundgate.core.rulebook.reading import read_rulebook
from roundgate.core.rulebook.toml import RulebookProblem, parse_toml, place_in_toml

GAME = """
[rulebook]
name = "game"
[file.core]
path = "core.properties"
format = "properties"
[setting."boat.slots"]
file = "core"
key = "slots"
type = "int"
range = [1, 8]
default = 4
[[rule]]
name = "even"
needs = "boat.slots % 2 == 0"
say = "Boats go in pairs."
"""
MOD = """
[rulebook]
name = "mod"
layers = ["game"]
[setting."boat.slots"]
range = [1, 64]
[setting."sail.colour"]
file = "core"
key = "sail"
type = "choice"
choices = { red = "", white = "" }
[[rule]]
name = "few"
needs = "boat.slots < 60"
say = "Too many."
"""


def reader(**sources: str) -> object:
    def read(name: str) -> RawBook:
        return RawBook(f"{name}.toml", parse_toml(f"{name}.toml", sources[name]), lambda: sources[name])

    return read


def problem(source: str) -> tuple[int, int, str]:
    """Return line, column and cause of a rulebook's first mistake."""
    with pytest.raises(RulebookProblem) as caught:
        read_rulebook("game", reader(game=source), checked=True)  # type: ignore[arg-type]
    first = caught.value.findings[0]
    return first.place.line, first.place.column, first.cause


def test_a_mods_rulebook_lies_on_its_games() -> None:
    book = read_rulebook("mod", reader(game=GAME, mod=MOD), checked=True)  # type: ignore[arg-type]
    assert book.name == "mod"
    assert book.setting["boat.slots"].range == (1, 64)
    assert (book.setting["boat.slots"].key, book.setting["boat.slots"].default) == ("slots", 4)
    assert [rule.name for rule in book.rule] == ["even", "few"]
    assert "sail.colour" in book.setting


def test_merging_changes_neither_layer() -> None:
    one, two, other = {"name": "one"}, {"name": "two"}, {"name": "one", "level": "note"}
    below, above = {"a": {"x": 1, "y": 2}, "rule": [one]}, {"a": {"y": 3}, "rule": [two]}
    assert merge(below, above) == {"a": {"x": 1, "y": 3}, "rule": [one, two]}
    assert below == {"a": {"x": 1, "y": 2}, "rule": [one]} and above == {"a": {"y": 3}, "rule": [two]}
    assert merge({"rule": [one, two]}, {"rule": [other]}) == {"rule": [two, other]}, "the later one of a name counts"


@pytest.mark.parametrize(
    ("old", "new", "line", "column", "words"),
    [
        ('type = "int"', 'type = "whole"', 10, 1, "No kind of value is called 'whole'"),
        ('file = "core"\nkey', 'file = "cor"\nkey', 8, 1, "Did you mean core?"),
        ("default = 4", "default = 9", 12, 1, "9 is above the maximum, 8"),
        ("default = 4", "defalt = 4", 12, 1, "'defalt' is not a key of this table."),
        ("range = [1, 8]", 'range = "1 to 8"', 11, 1, "A value of type array belongs here"),
        ("boat.slots % 2", "boat.slot % 2", 15, 1, "Did you mean boat.slots?"),
        ("% 2 == 0", "% 2 = 0", 15, 1, "not understood"),
        ('format = "properties"', 'format = "property"', 6, 1, "Did you mean properties?"),
        ("range = [1, 8]", "range = [1, 8", 12, 1, "This is not TOML"),
        ('key = "slots"\n', "", 7, 1, "'key' is missing here."),
        ('[rulebook]\nname = "game"', "[rulebook]", 2, 1, "'name' is missing here."),
    ],
)
def test_each_mistake_has_its_line_and_column(old: str, new: str, line: int, column: int, words: str) -> None:
    assert old in GAME
    found = problem(GAME.replace(old, new, 1))
    assert words in found[2], found
    assert found[:2] == (line, column), found


def test_a_place_is_found_by_its_path_and_else_by_its_parents() -> None:
    assert place_in_toml(GAME, ("setting", "boat.slots", "range"))[:2] == (11, 1)
    assert place_in_toml(GAME, ("setting", "boat.slots", "nothing"))[0] == 7
    assert place_in_toml(GAME, ("nowhere",))[0] == 1


def test_the_bundled_rulebook_has_settings_of_every_kind_and_each_default_is_said_and_typed_again() -> None:
    raw = RawBook("gullwind.toml", tomllib.loads(BOOK), lambda: BOOK)
    book = read_rulebook("gullwind", lambda _name: raw, checked=True)
    assert list(mistakes(book)) == []
    fields = [field for record in book.records.values() for field in record.field.values()]
    assert {spec.type for spec in (*book.setting.values(), *fields)} == set(values.KINDS)
    assert {spec.tier for spec in book.setting.values()} == {"basic", "advanced"}
    assert {spec.takes for spec in book.setting.values()} == {"live", "restart", "new-world"}
    for name, spec in book.setting.items():
        assert spec.about and values.describe(spec), name
        default = values.default_of(spec)
        if name == "launch.cores":  # all that the machine has
            continue
        assert default is not None, name
        stored = values.store(default, spec)
        assert values.read(stored, spec) == default, name
        if spec.type not in ("secret", "text") and stored:
            assert values.parse(values.show(default, spec), spec) == default, name


def test_the_bundled_rulebook_knows_just_what_the_stand_in_knows() -> None:
    """Keys and defaults are written twice, on purpose, in code that shares nothing; here they are held together."""
    from gullwind_standin import settings

    raw = tomllib.loads(BOOK)["setting"]
    theirs = settings.DEFAULTS
    core = [spec for spec in raw.values() if spec.get("file") == "core"]
    assert {spec["key"] for spec in core} | {"wardens"} == set(theirs), "the wardens are records"
    for spec in core:
        default = str(spec["default"]) + spec.get("suffix", "") if "suffix" in spec else spec["default"]
        assert (str(default).lower() if isinstance(default, bool) else str(default)) == theirs[spec["key"]]
