"""The rulebook language: layers, indexes, files by pattern, second places, editions, tables, schemas, and mistakes."""

from __future__ import annotations

import time
import tomllib
from pathlib import Path
from typing import Any

import jsonschema
import pytest

import roundgate
from conftest import BOOK
from roundgate import api
from roundgate.core import values
from roundgate.core.checks import check_disk
from roundgate.core.facts import Facts, absence_of, version_parts
from roundgate.core.files import ServerFiles
from roundgate.core.findings import Finding
from roundgate.core.patterns import fits, may_run_away
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.expansion import for_files, placeholder
from roundgate.core.rulebook.expressions import read_expression, work_out
from roundgate.core.rulebook.model import Rulebook
from roundgate.core.rulebook.printing import merged_text
from roundgate.core.rulebook.raw_books import RawBook, layered, merge
from roundgate.core.rulebook.reading import read_rulebook
from roundgate.core.rulebook.schema import file_schema, rulebook_schema
from roundgate.core.rulebook.toml import RulebookProblem
from roundgate.core.text import Text

DEMO = Path(roundgate.__file__).parent / "demo" / "site"
LANTERNS = (Path(roundgate.__file__).parent / "rulebooks" / "lanterns.toml").read_text("utf-8")
HEAD = '[rulebook]\nname = "quay"\neditions = ["inshore", "offshore"]\n'
FILE = '[file.core]\npath = "core.ini"\nformat = "ini"\n'


def raw(name: str, source: str) -> RawBook:
    return RawBook(f"{name}.toml", tomllib.loads(source), lambda: source)


def book_of(source: str, **others: str) -> Rulebook:
    """Read a rulebook with two lines of head, and others beneath it; everything is checked."""
    sources = {"quay": source if "[rulebook]" in source else HEAD + FILE + source, **others}
    return read_rulebook("quay", lambda name: raw(name, sources[name]), checked=True)


def setting(name: str = "slots", **fields: str) -> str:
    """Write one setting's table; a field's value is TOML."""
    lines = {"file": '"core"', "key": f'"{name}"', "type": '"int"', **fields}
    return f'[setting."{name}"]\n' + "".join(f"{key} = {value}\n" for key, value in lines.items())


def check(book: Rulebook, facts: Facts | None = None, **texts: str) -> list[Finding]:
    """Check files by their short names; ``core`` is core.ini."""
    paths = {file.path: Text(texts[name]) for name, file in book.file.items() if name in texts}
    return check_disk("red", ServerFiles(book, paths, None, facts or Facts()), {})


def known(**values: object) -> Facts:
    """Return facts; a name is written with _ for the dot."""
    return Facts(lambda name: values.get(name.replace(".", "_")))


# --- mistakes ---


@pytest.mark.parametrize(
    ("source", "words"),
    [
        (setting() + setting("berths", key='"slots"'), "slots and berths have the same key"),
        (setting(also='[{ key = "slots" }]'), "must be another one than the first"),
        (setting(also='[{ key = "more", file = "cor" }]'), "Did you mean core?"),
        (setting(index="[1, 2]"), "needs {index}"),
        (setting(key='"fee{index}"', index="[1, 2]", defaults="[1]"), "2 indexes and 1 defaults"),
        (setting(key='"fee{index}"', index="[1, 1]"), "more than once"),
        (setting(limit='"machine.memry"'), "Did you mean machine.memory?"),
        (setting(overridden_by="'mode == 1'"), "No setting, list or set is called 'mode'"),
        (setting(only='["offshor"]'), "Did you mean offshore?"),
        (setting(since='"soon"'), "is not a version"),
        (setting(since='"2.4"', until='"2.3"'), "does not come after"),
        (
            setting(type='"choice"', choices="{ a = '' }", only_choices='{ b = ["inshore"] }'),
            "No choice is called 'b'",
        ),
        (setting(type='"id"', kind='"sailr"') + "[kind.sailor]\n", "Did you mean sailor?"),
        (setting(type='"list"', separator='";;"'), "A separator is one character"),
        (setting(type='"colour"', form='"r,g"'), "nor made of r, g, b and a"),
        (setting(type='"colour"', form='"r,g,b"', scale="100"), "1 or 255"),
        (setting(type='"vector"', form='"{x}"'), "two or more different names"),
        (setting(type='"vector"', bounds="{ q = [0, 1] }", form='"{x} {y}"'), "No part is called 'q'"),
        (setting(type='"date"', form='"%Y-%m"'), "does not hold all of a date"),
        (setting(type='"cores"', stored='"octal"'), "is none of hex, list, number"),
        (setting(type='"text"', pattern="'(a|a)*b'"), "can take forever"),
        (setting(type='"text"', pattern="'('"), "The pattern is wrong"),
        (setting() + '[table.t]\ngiven = "slot"\nmost = "slots"\nrows = [[1, 2]]\n', "Did you mean slots?"),
        (setting() + '[table.t]\ngiven = "machine.cores"\nmost = "slots"\nrows = [[2, 2], [1, 4]]\n', "must rise"),
        (
            setting() + '[table.t]\ngiven = "machine.cores"\nmost = "slots"\nrows = [["many", 4]]\n',
            "not a whole number",
        ),
        (setting() + '[mods]\nlist = "slots"\nfolder = "mods/{mod}"\n', "must be of type list"),
        (setting("mods", type='"list"') + '[mods]\nlist = "mods"\nfolder = "mods"\n', "needs {mod}"),
        (setting() + "[preset.p]\nset = { slots = 4 }\nmode = { mode = 1 }\n", "No setting is called 'mode'"),
        ('[file.more]\npath = "a/{b}/{c}.ini"\nformat = "ini"\n', "one name in braces"),
        ('[file.more]\npath = "a.ini"\nformat = "ini"\noverridden_by = "cor"\n', "Did you mean core?"),
        (
            '[file.more]\npath = "a.ini"\nformat = "ini"\noverridden_by = "more"\n',
            "in a circle",
        ),
        (setting(default='"x"', type='"flag"'), "The default is not a value"),
        (setting() + '[[rule]]\nname = "r"\nneeds = "slots > 1"\nsay = ""\n' * 2, "Two rules have the name r"),
    ],
)
def test_each_mistake_is_one_clear_finding(source: str, words: str) -> None:
    with pytest.raises(RulebookProblem) as caught:
        book_of(source)
    found = caught.value.findings
    assert len(found) == 1, [finding.cause for finding in found]
    assert words in found[0].cause and found[0].place.line > 1


@pytest.mark.parametrize("pattern", ["(?:a|a)*b", "([a-z0-9]+[-.]?)+$", "(x+x+)+y"])
def test_a_runaway_pattern_is_found_and_never_waited_for(pattern: str) -> None:
    assert may_run_away(pattern)
    began = time.process_time()
    assert not fits(pattern, ("x" if "x" in pattern else "a") * 200 + "\x00by")
    assert time.process_time() - began < 5


@pytest.mark.parametrize(
    "pattern", [r"\d{4,8}", "(?:ab)+", r"ws:\d{6,10}", "GW-[0-9A-Z]{4}-[0-9A-Z]{4}", r"(?:[a-z]+,)*[a-z]+"]
)
def test_a_pattern_that_ends_is_none(pattern: str) -> None:
    assert not may_run_away(pattern)


# --- layers ---


def test_layers_lie_on_layers_each_once_and_may_withdraw() -> None:
    game = HEAD.replace("quay", "game") + FILE + setting(default="4", range="[1, 8]") + setting("berths")
    edition = '[rulebook]\nname = "edition"\nlayers = ["game"]\n[setting.slots]\nrange = [1, 16]\n'
    mod = 'withdraw = ["berths"]\n[rulebook]\nname = "mod"\nlayers = ["game"]\n'
    top = '[rulebook]\nname = "quay"\nlayers = ["edition", "mod"]\n[setting.slots]\ndefault = 6\n'
    sources = {"quay": top, "edition": edition, "mod": mod, "game": game}
    book = read_rulebook("quay", lambda name: raw(name, sources[name]), checked=True)
    assert [one.file for one in layered("quay", lambda name: raw(name, sources[name]))] == [
        "game.toml",
        "edition.toml",
        "mod.toml",
        "quay.toml",
    ]
    assert (book.setting["slots"].range, book.setting["slots"].default) == ((1, 16), 6)
    assert "berths" not in book.setting


def test_layers_that_rest_on_themselves_are_told_with_the_way_round() -> None:
    sources = {name: f'[rulebook]\nname = "{name}"\nlayers = ["{below}"]\n' for name, below in (("a", "b"), ("b", "a"))}
    with pytest.raises(RulebookProblem, match="a -> b -> a"):
        read_rulebook("a", lambda name: raw(name, sources[name]))


def test_withdrawing_what_is_not_there_is_a_mistake() -> None:
    top = 'withdraw = ["slot"]\n[rulebook]\nname = "quay"\nlayers = ["game"]\n'
    with pytest.raises(RulebookProblem, match=r"Did you mean slots\?"):
        book_of(top, game=HEAD.replace("quay", "game") + FILE + setting())


def test_a_merged_rulebook_is_printed_whole_with_where_each_part_is_from() -> None:
    sources = {"gullwind": BOOK, "lanterns": LANTERNS}
    layers = layered("lanterns", lambda name: raw(name, sources[name]))
    made = merged_text(layers)
    merged: dict[str, Any] = {}
    for layer in layers:
        merged = merge(merged, layer.raw)
    assert tomllib.loads(made) == merged
    part = made.partition('[setting."race.slots"]')[2].partition("\n\n")[0]
    assert (
        part.startswith("   # gullwind\n")
        and "range = [1, 24]   # lanterns\n" in part
        and 'key = "boat.slots"\n' in part
    )
    assert '[[rule]]   # lanterns\nname = "oil-lasts"' in made and "# gullwind" not in merged_text(layers[:1])


# --- indexes, kinds, files by pattern ---


def test_a_setting_with_an_index_is_one_for_each() -> None:
    book = book_of(setting("fee", key='"Fee{index}"', index='[1, "top"]', defaults="[10, 20]", range="[0, 99]"))
    assert {name: (spec.key, spec.default) for name, spec in book.setting.items()} == {
        "fee[1]": ("Fee1", 10),
        "fee[top]": ("Feetop", 20),
    }
    files = ServerFiles(book, {"core.ini": Text("Fee1=15\n")})
    assert files.names["fee"] == [15, 20]
    assert work_out(read_expression("sum(fee, item) == 35 and fee[top] > fee[1]"), files.names)


def test_a_kind_gives_its_form_to_the_settings_of_that_kind() -> None:
    source = setting("chief", type='"id"', kind='"sailor"') + "[kind.sailor]\npattern = 'GW-\\d+'\nexample = 'GW-1'\n"
    found = check(book_of(source), core="chief=Wren\n")
    assert [(finding.code, finding.cause) for finding in found] == [
        ("value-pattern", "'Wren' does not have the right form. It should look like GW-1.")
    ]


WORLDS = """
[file.rules]
path = "worlds/{world}/rules.ini"
format = "ini"
[setting.depth]
file = "rules"
key = "Depth"
type = "int"
range = [1, 60]
default = 8
overridden_by = "wrecks > 5"
[setting.wrecks]
file = "rules"
key = "Wrecks"
type = "int"
default = 3
[[rule]]
name = "deep-enough"
needs = "depth > wrecks"
say = "Wrecks stick out."
"""


def test_a_file_by_pattern_is_one_for_each_that_there_is() -> None:
    plain = book_of(WORLDS)
    book = for_files(plain, {"rules": [("bay", "worlds/bay/rules.ini"), ("cove", "worlds/cove/rules.ini")]})
    assert sorted(book.setting) == ["depth@bay", "depth@cove", "wrecks@bay", "wrecks@cove"]
    assert [rule.needs for rule in book.rule] == ["depth@bay > wrecks@bay", "depth@cove > wrecks@cove"]
    assert book.setting["depth@cove"].overridden_by == "wrecks@cove > 5"
    texts = {"worlds/bay/rules.ini": Text("Depth=2\n"), "worlds/cove/rules.ini": Text("Depth=99\n")}
    found = check_disk("red", ServerFiles(book, texts), {})
    assert [(finding.code, finding.place.file) for finding in found if finding.level == "error"] == [
        ("rule-broken", "worlds/bay/rules.ini"),
        ("value-range", "worlds/cove/rules.ini"),
    ]
    assert for_files(plain, {"rules": []}).setting == {} and for_files(plain, {"rules": []}).rule == ()


@pytest.mark.parametrize(
    ("path", "name", "meant"),
    [("worlds/{w}/a.ini", "bay", "bay"), ("{host}.ini", "red.ini", "red"), ("x-{w}.cfg", "x-1.cfg", "1")],
)
def test_the_name_in_braces_is_read_from_the_path(path: str, name: str, meant: str) -> None:
    place = placeholder(path)
    assert place is not None
    match = place[1].fullmatch(name)
    assert match is not None and match[1] == meant


@pytest.mark.parametrize("name", [".hidden.ini", "a@b.ini", "a.cfg", ".ini"])
def test_what_is_no_name_stands_for_nothing(name: str) -> None:
    place = placeholder("{host}.ini")
    assert place is not None and place[1].fullmatch(name) is None


# --- places, editions, tables ---


def test_a_value_in_two_places_must_be_the_same_in_both() -> None:
    source = setting(also='[{ file = "more", key = "Places" }]', default="4") + (
        '[file.more]\npath = "more.ini"\nformat = "ini"\n'
    )
    book = book_of(source)
    assert check(book, core="slots=5\n", more="Places=5\n") == []
    assert [finding.code for finding in check(book, core="slots=5\n")] == ["file-missing"], "which differs from nothing"
    found = check(book, core="slots=5\n", more="Places=6\n")
    assert [(finding.code, str(finding.do)) for finding in found] == [("places-differ", "roundgate set red slots=5")]
    assert [finding.code for finding in check(book, core="slots=5\n", more="; none\n")] == ["places-differ"]
    optional = book_of(source.replace('"Places" }', '"Places", optional = true }'))
    assert check(optional, core="slots=5\n", more="; none\n") == []


@pytest.mark.parametrize("typed", ["cove1", "worlds/cove1.wld"])
def test_a_value_may_be_written_otherwise_in_its_second_place(typed: str, tmp_path: Path) -> None:
    source = setting("world", type='"text"', also='[{ key = "Path", prefix = "worlds/", suffix = ".wld" }]')
    book = book_of(source)
    spec = book.setting["world"]
    assert values.store(values.parse(typed, spec), spec) == "cove1"
    assert values.stored_at(spec.also[0], "cove1", spec) == "worlds/cove1.wld"
    assert check(book, core="world=cove1\nPath=worlds/cove1.wld\n") == []
    [found] = check(book, core="world=cove1\nPath=worlds/tide.wld\n")
    assert (found.code, str(found.do)) == ("places-differ", "roundgate set red world=cove1")
    assert "core.ini has cove1, core.ini (Path) has tide" in found.cause
    (tmp_path / "roundgate.toml").write_text(
        '[site]\nname = "Club"\n[server.red]\nfolder = "."\nstart = ["true"]\nrulebook = "quay"\n'
    )
    (tmp_path / "rulebooks").mkdir()
    (tmp_path / "rulebooks" / "quay.toml").write_text(HEAD + FILE + source)
    (tmp_path / "core.ini").write_text("world=old\nPath=worlds/old.wld\n")
    with api.open_site(tmp_path) as opened:
        red = opened.server("red")
        made = red.key_changes().operations_of([f"world={typed}"])
        after = red.propose(made).outcome.after.texts["core.ini"].body
    assert after == "world=cove1\nPath=worlds/cove1.wld\n"


def test_the_file_that_overrides_counts_and_both_are_told() -> None:
    source = '[file.own]\npath = "own.ini"\nformat = "ini"\n' + setting(range="[1, 9]", default="4")
    book = book_of(source.replace("[file.own]", 'overridden_by = "own"\n[file.own]'))
    texts = {"core.ini": Text("slots=5\n"), "own.ini": Text("slots=7\n")}
    files = ServerFiles(book, texts)
    assert files.stored("slots") == "7" and files.path_of(book.setting["slots"]) == "own.ini"
    other = files.overridden_entry("slots")
    assert other is not None and (other[0], other[1].value) == ("core.ini", "5")
    assert ServerFiles(book, {"core.ini": Text("slots=5\n")}).stored("slots") == "5"
    assert [finding.place.file for finding in check(book, core="slots=5\n", own="slots=70\n")] == ["own.ini"]
    assert check(book, core="slots=70\n", own="slots=7\n") == [], "what does not count is not checked"


@pytest.mark.parametrize(
    ("fields", "facts", "needs"),
    [
        ({"since": '"2.4"'}, known(server_version="2.3.9"), "version 2.4 or later"),
        ({"since": '"2.4"'}, known(server_version="2.4.0"), ""),
        ({"since": '"2.4"'}, known(server_version="2.10"), ""),
        ({"until": '"2.4"'}, known(server_version="2.4"), "a version before 2.4"),
        ({"until": '"2.4"'}, known(server_version="2.3"), ""),
        ({"only": '["offshore"]'}, known(server_edition="inshore"), "the edition offshore"),
        ({"only": '["offshore"]'}, known(server_edition="offshore"), ""),
        ({"only": '["offshore"]', "since": '"2.4"'}, known(), ""),
    ],
)
def test_what_a_version_or_edition_does_not_have_is_told(fields: dict[str, str], facts: Facts, needs: str) -> None:
    book = book_of(setting(**fields))
    absence = absence_of(book.setting["slots"], facts)
    assert (absence.needs if absence else "") == needs
    assert [finding.code for finding in check(book, facts, core="slots=4\n")] == (["setting-absent"] if needs else [])


def test_versions_are_compared_by_their_numbers() -> None:
    assert version_parts("2.10") > version_parts("2.9.9") and version_parts("2.4.0") == version_parts("2.4")


def test_a_choice_of_another_edition_is_told() -> None:
    source = setting(
        "tide", type='"choice"', choices="{ calm = '', wild = '' }", only_choices='{ wild = ["offshore"] }'
    )
    book = book_of(source)
    assert [finding.code for finding in check(book, known(server_edition="inshore"), core="tide=wild\n")] == [
        "value-edition"
    ]
    assert check(book, known(server_edition="offshore"), core="tide=wild\n") == []
    assert check(book, known(server_edition="inshore"), core="tide=calm\n") == []


def test_a_limit_is_worked_out_and_left_alone_where_it_is_not_known() -> None:
    book = book_of(setting("memory", type='"size"', stored='"megabytes"', limit='"machine.memory"'))
    found = check(book, known(machine_memory=2 << 30), core="memory=4096\n")
    assert [(finding.code, finding.cause) for finding in found] == [
        ("value-limit", "4G is above machine.memory, which is 2G.")
    ]
    assert check(book, known(machine_memory=4 << 30), core="memory=4096\n") == []
    assert check(book, known(), core="memory=4096\n") == []


def test_a_table_advises_by_the_row_that_is_reached() -> None:
    source = setting(range="[1, 64]", default="4") + setting(
        "memory", type='"size"', stored='"megabytes"', default="512"
    )
    source += '[table.t]\ngiven = "memory"\nmost = "slots"\nrows = [["1G", 8], ["2G", 16]]\nabout = "It stutters."\n'
    book = book_of(source)
    assert check(book, core="memory=2048\nslots=16\n") == check(book, core="memory=1500\nslots=8\n") == []
    found = check(book, core="memory=1500\nslots=9\n")
    assert [(finding.code, finding.level) for finding in found] == [("advice-table", "note")]
    assert "9 is more than the 8 advised for memory" in found[0].cause and found[0].cause.endswith("It stutters.")
    assert [finding.code for finding in check(book, core="memory=600\nslots=9\n")] == ["advice-table"], (
        "less than the first row"
    )


def test_settings_that_do_not_count_are_told_once_for_each_cause() -> None:
    source = setting("mode", default="0") + "".join(
        setting(name, overridden_by="'mode == 0'", default="1") for name in ("height", "stream")
    )
    book = book_of(source)
    found = check(book, core="height=5\nstream=1\n")
    assert [(finding.code, finding.level, finding.cause) for finding in found] == [
        ("setting-overridden", "note", "height does not count while mode is 0 by default.")
    ]
    assert "height, stream do not count" in check(book, core="height=5\nstream=3\n")[0].cause
    assert check(book, core="mode=1\nheight=5\n") == []


def test_a_path_must_exist_where_that_can_be_told() -> None:
    book = book_of(setting("chart", type='"path"', below='"charts"'))
    there = Facts(has=lambda path: path == "charts/bay.chart")
    assert check(book, there, core="chart=bay.chart\n") == check(book, core="chart=nowhere\n") == []
    assert check(book, there, core="chart=\n") == []
    assert [finding.code for finding in check(book, there, core="chart=cove.chart\n")] == ["path-missing"]


MODS = """
[mods]
list = "mods"
folder = "mods/{mod}"
copies = { "mods/{mod}/{mod}.key" = "keys/{mod}.key" }
needs = "mods/{mod}/needs.txt"
"""


@pytest.mark.parametrize(
    ("mods", "missing", "codes"),
    [
        ("fog;lamp", "", []),
        ("fog", "mods/fog", ["mod-missing"]),
        ("fog", "keys/fog.key", ["mod-file-missing"]),
        ("lamp", "", ["mod-order"]),
        ("lamp;fog", "", ["mod-order"]),
        ("", "", []),
    ],
)
def test_mods_are_there_whole_and_in_order(mods: str, missing: str, codes: list[str]) -> None:
    book = book_of(setting("mods", type='"list"', separator='";"', default='""') + MODS)
    facts = Facts(has=lambda path: path != missing, lines=lambda path: ["# before it", "fog"] if "lamp" in path else [])
    assert [finding.code for finding in check(book, facts, core=f'mods="{mods}"\n')] == codes


def test_a_rule_about_the_server_or_the_machine_is_left_out_where_nobody_knows() -> None:
    rule = '[[rule]]\nname = "r"\nneeds = "\'ranked\' not in server.tags or slots > 4"\nsay = "Too few."\n'
    rule = rule.replace("'ranked' not in", "not ('ranked' in").replace("tags or", "tags) or")
    book = book_of(setting(default="4") + rule)
    assert [finding.code for finding in check(book, known(server_tags=["ranked"]), core="slots=4\n")] == ["rule-broken"]
    assert check(book, known(server_tags=["casual"]), core="slots=4\n") == []
    assert check(book, known(), core="slots=4\n") == []


@pytest.mark.parametrize(
    ("source", "value"),
    [
        ("lower('ABC') == 'abc' and upper('x') == 'X'", True),
        ("len(words('two  words here'))", 3),
        ("count(boats)", 3),
        ("count(boats, item > 1)", 2),
        ("sum(boats, item * 2)", 12),
        ("min(3, 1, 2) + max(boats)", 4),
    ],
)
def test_the_functions_of_expressions(source: str, value: object) -> None:
    assert work_out(read_expression(source), {"boats": [1, 2, 3]}) == value


# --- schemas ---


def test_the_schema_of_rulebooks_takes_the_bundled_ones_and_refuses_mistakes() -> None:
    schema = rulebook_schema()
    jsonschema.Draft202012Validator.check_schema(schema)
    validator = jsonschema.Draft202012Validator(schema)
    for source in (BOOK, LANTERNS):
        assert list(validator.iter_errors(tomllib.loads(source))) == []
    for wrong in ('[setting.a]\ntype = "whole"\n', "[setting.a]\nrnge = [1, 2]\n", "[server]\nwatch = 5\n"):
        assert list(validator.iter_errors(tomllib.loads(HEAD + wrong))), wrong
    spec = schema["$defs"]["Setting"]["properties"]
    assert all("description" in field for field in spec.values())


def test_the_schema_of_a_games_file_takes_the_demos_and_refuses_what_the_check_refuses() -> None:
    book = read_rulebook("gullwind", lambda name: raw(name, BOOK))
    for name, path in (("scoring", "scoring.toml"), ("seamanship", "seamanship.toml")):
        validator = jsonschema.Draft202012Validator(file_schema(book, name))
        good = tomllib.loads((DEMO / "regatta" / path).read_text("utf-8"))
        assert list(validator.iter_errors(good)) == []
    wrong = tomllib.loads("[points]\nfirst = 101\nsecond = 'many'\n")
    validator = jsonschema.Draft202012Validator(file_schema(book, "scoring"))
    assert sorted(error.json_path for error in validator.iter_errors(wrong)) == ["$.points.first", "$.points.second"]


@pytest.mark.parametrize(
    ("kind", "more", "expected"),
    [
        ("text", "length = [2, 8]", {"minLength": 2, "maxLength": 8}),
        ("text", "pattern = '[a-z]+'", {"pattern": "^(?:[a-z]+)$"}),
        ("secret", "length = [4, 8]", {"minLength": 4, "maxLength": 8}),
        ("text", "pattern = '[a-z]+'\nsuffix = '.wld'", {}),
        ("size", "stored = 'megabytes'\nrange = [256, 4096]\nsuffix = 'M'", {}),
        ("int", "range = [5, 40]\nstep = 5", {"minimum": 5, "maximum": 40, "multipleOf": 5}),
        ("int", "range = [6, 40]\nstep = 5", {"minimum": 6, "maximum": 40}),
        ("port", "", {"minimum": 1, "maximum": 65535}),
        ("choice", "choices = { fog = '', wind = '' }", {"enum": ["fog", "wind"]}),
    ],
)
def test_the_schema_of_a_games_file_bounds_each_value_as_the_rulebook_does(
    kind: str, more: str, expected: dict[str, object]
) -> None:
    table = f'[setting.a]\nfile = "core"\nkey = "a"\ntype = "{kind}"\n{more}\n'
    described = file_schema(book_of(HEAD + FILE.replace("ini", "toml") + table), "core")["properties"]["a"]
    bounds = ("minLength", "maxLength", "pattern", "minimum", "maximum", "multipleOf", "enum")
    assert {name: value for name, value in described.items() if name in bounds} == expected


def test_the_schema_of_a_games_file_says_which_values_no_tool_may_show() -> None:
    settings = "".join(
        f'[setting."{name}"]\nfile = "core"\nkey = "{name}"\ntype = "{kind}"\n'
        for name, kind in (("code", "secret"), ("name", "text"))
    )
    book = book_of(HEAD + FILE.replace("ini", "toml") + settings)
    described = file_schema(book, "core")["properties"]
    assert {name for name, field in described.items() if field.get("writeOnly")} == {"code"}


@pytest.mark.parametrize(
    ("kind", "at", "text"),
    [
        ("ini", "bans.ban[*]", "[bans]\nban=Knot 7d\nfree=1\nban=Tern 8d\n"),
        ("ini", "ban[*]", "ban=Knot 7d\nban=Tern 8d\n"),
        ("directives", "ban[*]", "ban Knot 7d\nslots 16\nban Tern 8d\n"),
    ],
)
def test_what_the_rulebook_describes_as_records_may_be_repeated(kind: str, at: str, text: str) -> None:
    fields = '[records.bans.field.id]\ntype = "text"\n[records.bans.field.until]\ntype = "text"\n'
    table = f'[records.bans]\nfile = "core"\nat = "{at}"\nkey = "id"\nform = "{{id}} {{until}}"\n{fields}'
    book = book_of(HEAD + FILE.replace("ini", kind).replace(f"core.{kind}", "core.ini") + table)
    assert "key-twice" not in [finding.code for finding in check(book, core=text)]
    assert [
        record.key
        for record in records_in(ServerFiles(book, {"core.ini": Text(text)}).document("core.ini"), book.records["bans"])
    ] == ["Knot", "Tern"]


def test_a_misspelt_section_is_told_once() -> None:
    book = book_of("".join(setting(name, key=f'"points.{name}"') for name in ("first", "second", "third")))
    assert check(book, core="[points]\nfirst=1\nsecond=2\nthird=3\n") == []
    [found] = check(book, core="[poitns]\nfirst=1\nsecond=2\nthird=3\n")
    assert (found.code, str(found.do)) == ("key-unknown", "Call poitns points.")
    assert "expects first in points, and it is in poitns" in found.cause
    [found] = check(book, core="[points]\nfrist=1\nsecond=2\nthird=3\n")
    assert str(found.do) == "roundgate rename red core.ini:points.frist first", "one key is renamed"
