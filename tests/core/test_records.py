"""Record sets: reading them in every format, changing them by their keys, and what is wrong with them."""

from __future__ import annotations

import json
import tomllib

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from roundgate.core.checks import check_disk
from roundgate.core.files import ServerFiles
from roundgate.core.formats import FORMATS
from roundgate.core.formats.protocol import Dialect
from roundgate.core.operations.base import Operation
from roundgate.core.operations.records import (
    AddRecord,
    FollowRename,
    RemoveRecord,
    RenameRecord,
    SetField,
    SwitchRecord,
)
from roundgate.core.operations.registry import read_stored, stored
from roundgate.core.records.sets import find_records, records_in
from roundgate.core.records.shapes.places import place_of_set
from roundgate.core.rulebook.expansion import expanded
from roundgate.core.rulebook.model import About, File, ItemKind, RecordField, RecordSet, Roster, Rule, Rulebook, Setting
from roundgate.core.slate import Outcome, replay
from roundgate.core.text import Text

FIELDS = {
    "id": RecordField(type="id", kind="sailor", needed=True, unique=True),
    "name": RecordField(type="text", unique=True),
    "rank": RecordField(type="ref", to="ranks", needed=True),
    "level": RecordField(type="int", range=(0, 9)),
    "may": RecordField(type="list", separator=","),
}
OFFICERS = RecordSet(file="crew", at="crew[*]", key="id", title="{name}", field=FIELDS, least=1, most=3)
RANKS = RecordSet(file="ranks", at="ranks.*", field={"also": RecordField(type="refs", to="ranks")})
KIND = {"sailor": ItemKind(pattern=r"GW-\d+", example="GW-1")}
SHAPES: dict[str, tuple[str, str, Dialect]] = {
    "json": (
        '{\n  "crew": [\n    { "id": "GW-1", "name": "Wren", "rank": "mate", "level": 3, "may": ["a", "b"] },\n'
        '    { "id": "GW-2", "name": "Tern", "rank": "mate" }\n  ]\n}\n',
        "crew[*]",
        Dialect(),
    ),
    "yaml": (
        "crew:\n  - id: GW-1\n    name: Wren   # the chief\n    rank: mate\n    level: 3\n    may: [a, b]\n"
        "  - id: GW-2\n    name: Tern\n    rank: mate\n",
        "crew[*]",
        Dialect(),
    ),
    "toml": (
        '[[crew]]\nid = "GW-1"\nname = "Wren"\nrank = "mate"\nlevel = 3\nmay = ["a", "b"]\n\n'
        '[[crew]]\nid = "GW-2"\nname = "Tern"\nrank = "mate"\n',
        "crew[*]",
        Dialect(),
    ),
    "lua": (
        'crew = {\n  { id = "GW-1", name = "Wren", rank = "mate", level = 3, may = { "a", "b" } },\n'
        '  { id = "GW-2", name = "Tern", rank = "mate" },\n}\n',
        "crew[*]",
        Dialect(),
    ),
    "lines": ("# crew\nGW-1 Wren mate\nGW-2 Tern mate\n", "[*]", Dialect(fields=("id", "name", "rank"))),
}


def book(kind: str = "json", crew: RecordSet = OFFICERS, **more: RecordSet) -> Rulebook:
    _, at, dialect = SHAPES[kind]
    sets = {
        "officers": RecordSet(**{**{f: getattr(crew, f) for f in crew.__struct_fields__}, "at": at}),
        "ranks": RANKS,
    }
    files = {
        "crew": File(path="crew", format=kind, dialect=dialect),
        "ranks": File(path="ranks.yml", format="yaml", made="by-hand"),
    }
    return expanded(Rulebook(rulebook=About(name="r"), file=files, kind=KIND, records={**sets, **more}))


def files_of(kind: str = "json", text: str = "", ranks: str = "ranks:\n  mate: {}\n  cook: {}\n") -> ServerFiles:
    return ServerFiles(book(kind), {"crew": Text(text or SHAPES[kind][0]), "ranks.yml": Text(ranks)})


def held(files: ServerFiles) -> dict[str, dict[str, str]]:
    """Return each record's fields as they are read."""
    spec = files.book.records["officers"]
    return {
        record.key: {name: one.shown for name, one in record.fields.items()}
        for record in records_in(files.document("crew"), spec)
    }


def done(files: ServerFiles, *operations: Operation) -> Outcome:
    outcome = replay([read_stored(stored(operation)) for operation in operations], files)
    assert not outcome.refused, outcome.refused
    return outcome


@pytest.mark.parametrize("kind", SHAPES)
def test_a_set_is_read_the_same_in_every_format(kind: str) -> None:
    found = held(files_of(kind))
    assert [found[key]["name"] for key in ("GW-1", "GW-2")] == ["Wren", "Tern"]
    assert found["GW-1"].get("may", "a, b") == "a, b" and found["GW-2"]["rank"] == "mate"


@pytest.mark.parametrize("kind", SHAPES)
def test_a_field_is_set_and_nothing_else_changes(kind: str) -> None:
    files = files_of(kind)
    after = done(files, SetField("crew", "officers", "GW-2", "rank", "cook", "mate")).after
    text = SHAPES[kind][0]
    at = text.rindex("mate")
    assert after.texts["crew"].body == text[:at] + "cook" + text[at + 4 :]
    same = done(after, SetField("crew", "officers", "GW-2", "rank", "cook", "mate"))
    assert same.changes[0].is_nothing and same.after.texts == after.texts


@pytest.mark.parametrize("kind", SHAPES)
def test_a_record_is_added_removed_and_given_another_key(kind: str) -> None:
    files = files_of(kind)
    values = (("id", "GW-3"), ("name", "Skua"), ("rank", "cook"))
    added = done(files, AddRecord("crew", "officers", "GW-3", values)).after
    assert list(held(added)) == ["GW-1", "GW-2", "GW-3"] and held(added)["GW-3"] == dict(values)
    assert done(added, AddRecord("crew", "officers", "GW-3", values)).after.texts == added.texts, "it already exists"
    removed = done(added, RemoveRecord("crew", "officers", "GW-3")).after.texts["crew"].body
    assert removed.rstrip() == files.texts["crew"].body.rstrip()
    assert done(files, RemoveRecord("crew", "officers", "GW-3")).after.texts == files.texts, "it is gone already"
    renamed = done(files, RenameRecord("crew", "officers", "GW-1", "GW-9")).after
    assert list(held(renamed)) == ["GW-9", "GW-2"]


def test_a_new_record_looks_like_its_neighbours() -> None:
    values = (("rank", "cook"), ("id", "GW-3"), ("name", "Skua"), ("level", "4"))
    after = done(files_of(), AddRecord("crew", "officers", "GW-3", values)).after.texts["crew"].body
    assert '    { "id": "GW-3", "name": "Skua", "rank": "cook", "level": 4 }\n' in after
    after = done(files_of("toml"), AddRecord("crew", "officers", "GW-3", values)).after.texts["crew"].body
    assert after.endswith('\n[[crew]]\nid = "GW-3"\nname = "Skua"\nrank = "cook"\nlevel = 4\n')


def test_operations_find_their_record_on_a_file_that_has_changed_meanwhile() -> None:
    turned = json.loads(SHAPES["json"][0])
    turned["crew"].reverse()
    files = files_of(text=json.dumps(turned))
    assert held(done(files, SetField("crew", "officers", "GW-2", "name", "Ruff")).after)["GW-2"]["name"] == "Ruff"
    gone = replay([SetField("crew", "officers", "GW-7", "name", "Ruff")], files)
    assert [finding.code for finding in gone.refused] == ["slate-stuck"] and "GW-7 is not there" in gone.refused[
        0
    ].cause


def test_a_key_that_is_there_twice_names_no_record() -> None:
    twice = json.loads(SHAPES["json"][0])
    twice["crew"][1]["id"] = "GW-1"
    outcome = replay([SetField("crew", "officers", "GW-1", "name", "Ruff")], files_of(text=json.dumps(twice)))
    assert [finding.cause for finding in outcome.refused] == ["officers/GW-1.name: GW-1 is there 2 times."]


def test_of_a_list_only_the_items_that_come_and_go_are_touched() -> None:
    files = files_of("yaml", text="crew:\n  - id: GW-1\n    may:\n      - a   # always\n      - b\n      - c\n")
    after = done(files, SetField("crew", "officers", "GW-1", "may", "a,c,d")).after.texts["crew"].body
    assert after == "crew:\n  - id: GW-1\n    may:\n      - a   # always\n      - c\n      - d\n"
    turned = done(files, SetField("crew", "officers", "GW-1", "may", "c,a")).after
    assert yaml.safe_load(turned.texts["crew"].body)["crew"][0]["may"] == ["c", "a"]


def test_references_follow_a_new_key_in_lists_and_single_fields() -> None:
    ranks = "ranks:\n  mate: {}\n  chief:\n    also: [mate, cook]   # both\n  cook: {}\n"
    files = files_of(ranks=ranks)
    after = done(
        files,
        RenameRecord("ranks.yml", "ranks", "mate", "bosun"),
        FollowRename("crew", "officers", "rank", "mate", "bosun"),
        FollowRename("ranks.yml", "ranks", "also", "mate", "bosun"),
    ).after
    assert after.texts["ranks.yml"].body == ranks.replace("mate", "bosun")
    assert after.texts["crew"].body == SHAPES["json"][0].replace('"mate"', '"bosun"')
    assert check_disk("red", after, {}) == []


MANY = ["records-many"]


@pytest.mark.parametrize(
    ("old", "new", "codes"),
    [
        ('"rank": "mate" }', '"rank": "mat" }', ["record-reference"]),
        ('"name": "Tern", "rank": "mate"', '"name": "Tern"', ["record-field-missing"]),
        ('"name": "Tern", ', '"nmae": "Tern", ', ["record-field-unknown"]),
        ('"GW-2"', '"GW-1"', ["record-twice"]),
        ('"Tern"', '"Wren"', ["record-value-twice"]),
        ('"GW-2"', '"Tern"', ["value-pattern"]),
        ('"level": 3', '"level": 12', ["value-range"]),
        ('{ "id": "GW-2", "name": "Tern", "rank": "mate" }', '"GW-2"', ["record-plain"]),
        (
            '"rank": "mate" }\n',
            '"rank": "mate" }' + "".join(f', {{"id": "GW-{n}", "rank": "cook"}}' for n in (3, 4)) + "\n",
            ["records-many"],
        ),
        (', "level": 3, "may": ["a", "b"]', "", []),
    ],
)
def test_what_is_wrong_with_records_is_found(old: str, new: str, codes: list[str]) -> None:
    text = SHAPES["json"][0]
    assert old in text
    found = check_disk("red", files_of(text=text.replace(old, new)), {})
    assert [finding.code for finding in found] == codes, found
    assert [finding.code for finding in check_disk("red", files_of(text='{"crew": []}'), {})] == ["records-few"]


def test_rosters_are_checked_against_each_other_and_for_what_switches_them_on() -> None:
    made = book(
        guests=RecordSet(file="guests", at="[*]", kind="sailor"), bans=RecordSet(file="bans", at="[*]", kind="sailor")
    )
    lists = {name: File(path=name, format="lines", made="by-hand") for name in ("guests", "bans")}
    switch = Setting(type="bool", file="core", key="guests.only", default=False)
    made = replace(
        made,
        file={**made.file, **lists, "core": File(path="core", format="ini", made="by-hand")},
        setting={"guests.only": switch},
        roster={
            "guests": Roster(records="guests", meaning="allow", on="guests.only", switch={"guests.only": "on"}),
            "bans": Roster(records="bans", meaning="ban"),
        },
    )
    texts = {"crew": Text(SHAPES["json"][0]), "ranks.yml": Text("ranks:\n  mate: {}\n  cook: {}\n")}
    texts |= {"guests": Text("GW-1\nGW-2\n"), "bans": Text("GW-2\nGW-3\n")}
    found = check_disk("red", ServerFiles(made, texts), {})
    assert [(finding.code, str(finding.do)) for finding in found] == [
        ("roster-off", "roundgate set red guests.only=on"),
        ("person-banned", "roundgate remove red guests/GW-2"),
    ]
    on = ServerFiles(made, {**texts, "core": Text("guests.only=true\n"), "bans": Text("GW-3\n")})
    assert check_disk("red", on, {}) == []


def test_a_record_is_meant_by_its_key_its_title_or_a_name_in_it() -> None:
    files = files_of()
    spec = files.book.records["officers"]
    records = records_in(files.document("crew"), spec)
    assert [record.key for record in find_records(records, spec, "gw-1")] == ["GW-1"]
    assert [record.key for record in find_records(records, spec, "WREN")] == ["GW-1"]
    assert find_records(records, spec, "Skua") == []


@pytest.mark.parametrize("at", ["crew", "crew[0]", "crew[*].x"])
def test_a_place_that_is_none_is_refused(at: str) -> None:
    with pytest.raises(ValueError, match="must end with"):
        place_of_set(RecordSet(file="crew", at=at))


NAMES = st.from_regex(r"\A[A-Za-z][A-Za-z ]{0,6}[A-Za-z]\Z")
ROWS = st.lists(
    st.tuples(st.integers(1, 999), NAMES, st.integers(0, 9)),
    max_size=5,
    unique_by=(lambda row: row[0], lambda row: row[1]),
)


@settings(max_examples=150)
@given(st.sampled_from(["json", "yaml", "toml"]), ROWS, st.data())
def test_random_edits_of_random_sets_are_just_what_an_independent_reader_sees(
    kind: str, rows: list[tuple[int, str, int]], data: st.DataObject
) -> None:
    files = files_of(kind)
    wanted = {
        "GW-1": {"id": "GW-1", "name": "Wren", "rank": "mate"},
        "GW-2": {"id": "GW-2", "name": "Tern", "rank": "mate"},
    }
    wanted["GW-1"] |= {"level": 3, "may": ["a", "b"]}  # type: ignore[dict-item]
    for number, name, level in rows:
        key = f"GW-{number}"
        what = data.draw(st.sampled_from(["add", "set", "remove"]))
        if what == "add" and key not in wanted:
            values = (("id", key), ("name", name), ("rank", "cook"), ("level", str(level)))
            files = done(files, AddRecord("crew", "officers", key, values)).after
            wanted[key] = {"id": key, "name": name, "rank": "cook", "level": level}
        elif wanted and what == "set":
            key = data.draw(st.sampled_from(sorted(wanted)))
            files = done(files, SetField("crew", "officers", key, "name", name)).after
            wanted[key]["name"] = name
        elif len(wanted) > 1:
            key = data.draw(st.sampled_from(sorted(wanted)))
            files = done(files, RemoveRecord("crew", "officers", key)).after
            del wanted[key]
    body = files.texts["crew"].body
    readers = {"json": json.loads, "yaml": yaml.safe_load, "toml": tomllib.loads}
    assert readers[kind](body)["crew"] == list(wanted.values())


@pytest.mark.parametrize(
    ("needs", "broken"),
    [
        ("all(crates, count <= len(positions))", "mast"),
        ("sum(crates, count) <= most", "mast"),
        ("any(crates, kind == 'iron')", "oak"),
        ("count(crates) == 2", "one more"),
        ("all(crates, wear == 0.5)", "worn"),
    ],
)
def test_a_rule_over_a_set_sees_the_fields_of_its_records(needs: str, broken: str) -> None:
    """A field that a record does not have counts as its default; a setting may stand beside the fields."""
    fields = {
        "name": RecordField(type="text"),
        "count": RecordField(type="int", default=1),
        "kind": RecordField(type="text", default="iron"),
        "wear": RecordField(type="decimal", default=0.5),
        "positions": RecordField(type="list", separator=","),
    }
    ruled = replace(
        book(),
        file={"crates": File(path="crates.json", format="json")},
        setting={"most": Setting(file="crates", key="most", type="int", default=5)},
        records={"crates": RecordSet(file="crates", at="crates[*]", key="name", field=fields)},
        rule=[Rule(name="fits", needs=needs, say="They do not fit.")],
    )
    crates = [{"name": "bow", "positions": ["1 2", "3 4"]}, {"name": "mast", "count": 2, "positions": ["1 2", "5 6"]}]
    changes: dict[str, list[dict[str, object]]] = {
        "mast": [crates[0], {**crates[1], "count": 6}],
        "oak": [{**crate, "kind": "oak"} for crate in crates],
        "one more": [*crates, {"name": "stern", "positions": ["9 9"]}],
        "worn": [crates[0], {**crates[1], "wear": 0.25}],
    }

    def found(rows: list[dict[str, object]]) -> list[str]:
        files = ServerFiles(ruled, {"crates.json": Text(json.dumps({"most": 6, "crates": rows}))})
        return [finding.code for finding in check_disk("red", files, {})]

    assert found(crates) == []
    assert found(changes[broken]) == ["rule-broken"]


MAPS = {
    "yaml": "ranks:\n  mate:\n    also: [cook]   # in port\n  cook:\n    also: []\n",
    "lua": 'ranks = {\n  mate = { also = { "cook" } },   -- in port\n  cook = { also = {} },\n}\n',
    "ini": "[ranks]\nmate = cook\ncook = none\n",
}


@pytest.mark.parametrize("kind", sorted(MAPS))
def test_a_record_is_commented_out_and_comes_back_as_it_was(kind: str) -> None:
    """By its key, and twice as once."""
    made = replace(book(), file={"ranks": File(path="r", format=kind)}, records={"ranks": RANKS})
    before = ServerFiles(made, {"r": Text(MAPS[kind])})
    off = replay([SwitchRecord("r", "ranks", "mate", on=False)], before)
    assert not off.refused, off.refused
    assert [record.key for record in records_in(off.after.document("r"), RANKS)] == ["cook"]
    twice = replay([SwitchRecord("r", "ranks", "mate", on=False)], off.after)
    assert twice.after.texts == off.after.texts and twice.changes[0].is_nothing
    on = replay([SwitchRecord("r", "ranks", "mate", on=True)], off.after)
    assert not on.refused and on.after.texts == before.texts
    again = replay([SwitchRecord("r", "ranks", "mate", on=True)], on.after)
    assert again.changes[0].is_nothing and again.after.texts == before.texts
    assert replay([SwitchRecord("r", "ranks", "bosun", on=True)], on.after).refused


@pytest.mark.parametrize("kind", sorted(SHAPES))
def test_an_item_of_a_list_that_could_not_come_back_is_not_commented_out(kind: str) -> None:
    off = replay([SwitchRecord("crew", "officers", "GW-2", on=False)], files_of(kind))
    if kind == "lines":
        assert off.after.texts["crew"].body == SHAPES[kind][0].replace("GW-2", "#GW-2")
    else:
        assert off.refused and off.after.texts["crew"].body == SHAPES[kind][0]


def test_what_must_rise_and_what_must_be_named_is_checked() -> None:
    levels = RecordSet(
        file="sea",
        at="levels[*]",
        key="name",
        ordered="points",
        field={"name": RecordField(type="text"), "points": RecordField(type="int", special={"none": -1})},
    )
    roles = RecordSet(file="sea", at="roles.*", field={"level": RecordField(type="ref", to="levels")})
    made = replace(
        book(),
        file={"sea": File(path="sea.json", format="json")},
        records={"levels": replace(levels, used=True), "roles": roles},
    )

    def found(points: list[object], names: list[str]) -> list[tuple[str, str]]:
        rows = [{"name": f"L{number}", "points": value} for number, value in enumerate(points)]
        text = json.dumps({"levels": rows, "roles": {f"r{n}": {"level": name} for n, name in enumerate(names)}})
        return [
            (finding.code, str(finding.do))
            for finding in check_disk("red", ServerFiles(made, {"sea.json": Text(text)}), {})
        ]

    every = ["L0", "L1", "L2", "L3"]
    assert found([0, 10, 20, 30], every) == []
    assert found([-1, 10, 20, 30], every) == [], "a special word is a number too"
    assert found([10, 30, 20, 40], every) == [("record-order", "roundgate move red levels/L2 --to 1")]
    assert found([10, 20, 20, 40], every) == [("record-order", "Correct points of one of them.")], "no move helps"
    assert found([30, 10, 20, 15], every) == [("record-order", "Correct points of one of them.")]
    assert found([0, 10, 20, 30], ["L0", "L1", "L3"]) == [("record-unused", "roundgate remove red levels/L2")]


@pytest.mark.parametrize(
    "text",
    [
        '{"officers": [{"id": "A", "rank": "x", "name": "N"}, {"id": "B"}, {"rank": "y", "id": "C", "more": [1]}]}',
        '{"officers": [{"id": "A", "rank": 7, "name": "N"}, {"id": "B", "rank": 1.50}]}',
        '{"officers": [{"id": "A", "rank": ["x", "y"]}, {"id": "B", "rank": true}]}',
        '{"officers": [{"id": "A", "rank": "x"}, "B", {"id": "C", "rank": null}]}',
        '{"officers": [{"id": "A", "id": "B", "rank": "x", "rank": "y"}]}',
        '{"officers": {"id": "A"}}',
        '{"officers": [{"id": "\\u0041", "rank": "", "name": "a\\tb"}]}',
        '{"other": []}',
        '{"officers": [',
    ],
)
def test_rows_of_a_large_file_are_those_of_its_records(text: str) -> None:
    """Spaces make a file large: what is decoded at once is what is read record by record."""
    from roundgate.core.records.rows import rows_with

    spec = RecordSet(
        file="f", at="officers[*]", key="id", field={name: RecordField(type="text") for name in ("id", "rank")}
    )
    document = FORMATS["json"].read(Text(text + " " * 1_000_001))
    quick, slow = (list(rows_with(document, spec, ("rank", "name"), quick=way)) for way in (True, False))
    assert quick == slow


EMPTY = {
    "lua": ("role.*", 'role("MATE", {{ gear = {value}, pay = 4 }})\n', "{}", '{ "whistle" }'),
    "json": ("*", '{{"MATE": {{"gear": {value}, "pay": 4}}}}\n', "[]", '["whistle"]'),
    "yaml": ("*", "MATE:\n  gear: {value}\n  pay: 4\n", "[]", "[whistle]"),
    "toml": ("*", "[MATE]\ngear = {value}\npay = 4\n", "[]", '["whistle"]'),
}


@pytest.mark.parametrize("form", EMPTY)
def test_an_empty_list_is_a_value_without_items(form: str) -> None:
    at, text, empty, full = EMPTY[form]
    fields = {"gear": RecordField(type="list", pattern="[a-z]+"), "pay": RecordField(type="int")}
    spec = RecordSet(file="crew", at=at, field=fields)
    book = expanded(Rulebook(About("quay"), file={"crew": File("crew", form)}, records={"crew": spec}))
    for value, items in ((empty, []), (full, ["whistle"])):
        body = Text(text.format(value=value))
        [record] = records_in(FORMATS[form].read(body), spec)
        assert list(record.fields["gear"].values) == items
        assert not check_disk("red", ServerFiles(book, {"crew": body}), {}), (form, value)


@pytest.mark.parametrize("written", ["deck,mtae,boat,mtae", ["deck", "mtae", "boat", "mtae"]])
def test_of_several_names_only_the_misspelt_ones_are_corrected(written: object) -> None:
    levels = RecordSet(file="sea", at="levels[*]", key="name", field={"name": RecordField(type="text")})
    roles = RecordSet(file="sea", at="roles.*", field={"levels": RecordField(type="refs", to="levels", separator=",")})
    made = replace(
        book(),
        file={"sea": File(path="sea.json", format="json")},
        records={"levels": levels, "roles": roles},
    )
    names = [{"name": name} for name in ("deck", "mate", "boat")]
    text = json.dumps({"levels": names, "roles": {"wren": {"levels": written}}})
    found = check_disk("red", ServerFiles(made, {"sea.json": Text(text)}), {})
    proposed = [str(finding.do) for finding in found if finding.code == "record-reference"]
    assert proposed and set(proposed) == {"roundgate set red roles/wren.levels=deck,mate,boat,mate"}
