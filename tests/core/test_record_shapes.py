"""Records in every shape that files give them: random edits are just what an independent reader sees, byte by byte."""

from __future__ import annotations

import configparser
import json
import re
import tomllib
from collections.abc import Callable
from typing import Any

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from roundgate.core.checks import check_disk
from roundgate.core.files import ServerFiles
from roundgate.core.formats.protocol import Dialect
from roundgate.core.operations.base import Operation
from roundgate.core.operations.records import AddRecord, FollowRename, MoveRecord, RemoveRecord, RenameRecord, SetField
from roundgate.core.operations.registry import read_stored, stored
from roundgate.core.records.sets import records_in
from roundgate.core.rulebook.expansion import expanded
from roundgate.core.rulebook.mistakes import mistakes
from roundgate.core.rulebook.model import About, File, RecordField, RecordSet, Rulebook
from roundgate.core.slate import Outcome, replay
from roundgate.core.text import Text

Rows = dict[str, dict[str, str]]
LIST = RecordField(type="list", separator=",")


def split_words(text: str, *names: str) -> dict[str, str]:
    return dict(zip(names, text.split(), strict=False))


def commands(body: str) -> Rows:
    lines = [line.split("//")[0].split() for line in body.splitlines()]
    return {line[1]: dict(zip(("id", "rank"), line[1:], strict=False)) for line in lines if line[:1] == ["grant"]}


def in_one_value(body: str) -> Rows:
    value = next(line for line in body.splitlines() if line.startswith("admins=")).partition("=")[2]
    return {part.strip(): {} for part in value.split(",") if part.strip()}


def with_chances(body: str) -> Rows:
    parts = [part.strip().split("|") for part in json.loads(body)["loot"].split(";") if part.strip()]
    return {part[0]: dict(zip(("id", "chance"), part, strict=False)) for part in parts}


def pairs(body: str) -> Rows:
    found = {}
    for one in (yaml.safe_load(body) or {}).get("members") or []:
        ((key, rank),) = one.items()
        found[key.split("@")[0]] = {"id": key.split("@")[0], "port": key.split("@")[1], "rank": rank}
    return found


def group_lines(body: str) -> Rows:
    found = {}
    for line in body.splitlines():
        if not line.startswith("#") and line.strip():
            name, words = re.split("[:=]", line, maxsplit=1)
            signed = {"may": "+", "never": "-", "also": "*"}
            fields = {f: [w[1:] for w in words.split() if w[0] == sign] for f, sign in signed.items()}
            found[name.strip()] = {f: ", ".join(several) for f, several in fields.items() if several}
    return found


def matrix(body: str) -> Rows:
    found: dict[str, list[str]] = {}
    for right, roles in (tomllib.loads(body).get("may") or {}).items():
        for role in roles:
            found.setdefault(role, []).append(right)
    return {role: {"may": ", ".join(rights)} for role, rights in found.items()}


def blocks(body: str) -> Rows:
    found = {}
    for block in re.split(r"\n\s*\n", re.sub(r"(?m)^#.*\n", "", body)):
        fields = dict(line.split(": ", 1) for line in block.splitlines() if line.strip())
        if fields:
            found[fields["id"]] = fields
    return found


def sections(body: str) -> Rows:
    reader = configparser.ConfigParser(interpolation=None)
    reader.optionxform = str  # type: ignore[assignment, method-assign]
    reader.read_string(body)
    return {name: dict(reader[name]) for name in reader.sections() if reader[name]}


def names(body: str) -> Rows:
    return {name: {} for name in (yaml.safe_load(body) or {}).get("roles") or []}


def fields(*names: str) -> dict[str, RecordField]:
    return {name: RecordField(type="text", needed=name in ("id", "port")) for name in names}


SHAPES: dict[str, tuple[File, RecordSet, str, Callable[[str], Rows]]] = {
    "commands": (
        File(path="crew", format="directives"),
        RecordSet(file="crew", at="grant[*]", key="id", form="{id} {rank}", field=fields("id", "rank")),
        'hail "x"\ngrant A1 mate   // the first\ngrant  A2  cook\nhorn 3\n',
        commands,
    ),
    "in-one-value": (
        File(path="crew", format="properties"),
        RecordSet(file="crew", at="admins", parts=","),
        "# who\nadmins=A1, A2,A3\nslots=3\n",
        in_one_value,
    ),
    "with-chances": (
        File(path="crew", format="json"),
        RecordSet(file="crew", at="loot", parts=";", form="{id}|{chance}", key="id", field=fields("id", "chance")),
        '{ "loot": "A1|0.25; A2; A3|1.0", "x": 1 }\n',
        with_chances,
    ),
    "pairs": (
        File(path="crew", format="yaml"),
        RecordSet(
            file="crew",
            at="members[*]",
            key="id",
            form="{id}@{port}: {rank}",
            field=fields("id", "port") | {"rank": RecordField(type="text", needed=True)},
        ),
        "roles: [mate]\nmembers:\n  - A1@tide: mate   # first\n  - A2@ebb: cook\n",
        pairs,
    ),
    "group-lines": (
        File(path="crew", format="properties"),
        RecordSet(
            file="crew",
            at="*",
            signs={"may": "+", "never": "-", "also": "*"},
            field={"may": LIST, "never": LIST, "also": RecordField(type="refs", to="crew", separator=",")},
        ),
        "# ranks\nA1: +sail.start +race.stop   -race.delete\nA2: +rank.give *A1\n",
        group_lines,
    ),
    "matrix": (
        File(path="crew", format="toml"),
        RecordSet(file="crew", at="may.*", turned="may", field={"may": LIST}),
        '[may]\nsail = ["A1", "A2"]   # all\nrace = ["A1"]\nrank = []\n',
        matrix,
    ),
    "sections": (
        File(path="crew", format="ini"),
        RecordSet(file="crew", at="*", field={"rank": RecordField(type="text")}, partly=True),
        "# ranks\n[A1]\nrank = mate\nsail.start = 1   \n\n# the second\n[A2]\nrank = cook\n",
        sections,
    ),
    "names": (
        File(path="crew", format="yaml"),
        RecordSet(file="crew", at="roles[*]"),
        "# all\nroles:\n  - A1\n  - A2   # second\nother: 1\n",
        names,
    ),
    "blocks": (
        File(path="crew", format="lines", dialect=Dialect(fields=("id", "name", "until"), records=True)),
        RecordSet(file="crew", at="[*]", key="id", field=fields("id", "name", "until")),
        "# bans\nid: A1\nname: Wren\nuntil: 2031\n\nid: A2\nname: Tern\n",
        blocks,
    ),
}
VALUES = {
    "rank": st.sampled_from(["mate", "cook", "pilot"]),
    "chance": st.sampled_from(["0.5", "1.0", "0.125"]),
    "port": st.sampled_from(["tide", "ebb"]),
    "name": st.from_regex(r"\A[A-Z][a-z]{1,5}( [A-Z][a-z]{1,5})?\Z"),
    "until": st.sampled_from(["2031", "2040"]),
    "may": st.lists(st.sampled_from(["sail", "race", "rank"]), min_size=1, unique=True).map(",".join),
    "never": st.lists(st.sampled_from(["sail", "race.x"]), min_size=1, unique=True).map(",".join),
    "also": st.just("A1"),
}
KEYS = [f"A{number}" for number in range(1, 7)]


def files_of(shape: str, text: str | None = None) -> ServerFiles:
    file, spec, usual, _ = SHAPES[shape]
    book = expanded(Rulebook(rulebook=About(name="r"), file={"crew": file}, records={"crew": spec}))
    return ServerFiles(book, {"crew": Text(usual if text is None else text)})


def done(files: ServerFiles, *operations: Operation) -> Outcome:
    outcome = replay([read_stored(stored(operation)) for operation in operations], files)
    assert not outcome.refused, outcome.refused
    return outcome


def seen(files: ServerFiles) -> Rows:
    records = records_in(files.document("crew"), files.book.records["crew"])
    return {record.key: {name: held.shown for name, held in record.fields.items()} for record in records}


def as_sets(rows: Rows) -> dict[str, dict[str, Any]]:
    """Return rows with lists as sets: in some shapes a record's list has the file's order."""
    return {key: {name: frozenset(text.split(", ")) for name, text in row.items()} for key, row in rows.items()}


@pytest.mark.parametrize("shape", SHAPES)
def test_a_set_is_read_as_an_independent_reader_reads_it(shape: str) -> None:
    files = files_of(shape)
    assert seen(files) == SHAPES[shape][3](files.texts["crew"].body) and len(seen(files)) > 1
    assert [finding.code for finding in check_disk("red", files, {})] == []
    assert list(mistakes(files.book)) == []


@pytest.mark.parametrize("shape", SHAPES)
@settings(max_examples=60)
@given(data=st.data())
def test_random_edits_are_just_what_an_independent_reader_sees(shape: str, data: st.DataObject) -> None:
    files, (_, spec, _, reader) = files_of(shape), SHAPES[shape]
    wanted = as_sets(seen(files))
    for _ in range(data.draw(st.integers(1, 5))):
        what = data.draw(st.sampled_from(["add", "set", "remove", "rename"]))
        key = data.draw(st.sampled_from(KEYS))
        before = files
        if what == "add" and key not in wanted:
            names = [name for name in spec.field if name != "id"]
            given_values = {name: data.draw(VALUES[name]) for name in names}
            row = ({"id": key} if "id" in spec.field else {}) | given_values
            files = done(files, AddRecord("crew", "crew", key, tuple(row.items()))).after
            wanted[key] = {name: frozenset(value.split(",")) for name, value in row.items()}
        elif what == "set" and key in wanted and set(spec.field) - {"id"}:
            name = data.draw(st.sampled_from(sorted(set(spec.field) - {"id"})))
            value = data.draw(VALUES[name])
            files = done(files, SetField("crew", "crew", key, name, value)).after
            wanted[key][name] = frozenset(value.split(","))
        elif what == "remove" and key in wanted and len(wanted) > 1:
            files = done(files, RemoveRecord("crew", "crew", key)).after
            del wanted[key]
        elif what == "rename" and key in wanted:
            files = done(files, RenameRecord("crew", "crew", key, key + "9")).after
            done(files, FollowRename("crew", "crew", "also", key, key + "9"))
            files = done(files, RenameRecord("crew", "crew", key + "9", key)).after
            assert files.texts == before.texts, "there and back again is the same file"
        assert as_sets(seen(files)) == as_sets(reader(files.texts["crew"].body)) == wanted
        lines = [line for line in before.texts["crew"].body.splitlines() if "//" in line or line.startswith("#")]
        assert all(line.split("//")[-1] in files.texts["crew"].body for line in lines if "A1" not in line)


@pytest.mark.parametrize(
    ("shape", "operation", "old", "new"),
    [
        ("commands", SetField("crew", "crew", "A2", "rank", "mate"), "grant  A2  cook", "grant  A2  mate"),
        ("commands", RenameRecord("crew", "crew", "A1", "A7"), "grant A1 mate   //", "grant A7 mate   //"),
        ("commands", RemoveRecord("crew", "crew", "A2"), "grant  A2  cook\n", ""),
        ("in-one-value", AddRecord("crew", "crew", "A4", ()), "A1, A2,A3", "A1, A2,A3,A4"),
        ("in-one-value", AddRecord("crew", "crew", "A4", (), at=0), "A1, A2,A3", "A4,A1, A2,A3"),
        ("in-one-value", RemoveRecord("crew", "crew", "A1"), "A1, A2,A3", "A2,A3"),
        ("in-one-value", RemoveRecord("crew", "crew", "A3"), "A1, A2,A3", "A1, A2"),
        ("in-one-value", RenameRecord("crew", "crew", "A2", "B2"), "A1, A2,A3", "A1, B2,A3"),
        ("in-one-value", MoveRecord("crew", "crew", "A3", 0), "A1, A2,A3", "A3, A1,A2"),
        ("with-chances", SetField("crew", "crew", "A2", "chance", "0.5"), "; A2;", "; A2|0.5;"),
        ("with-chances", SetField("crew", "crew", "A3", "chance", None), "A3|1.0", "A3"),
        ("pairs", SetField("crew", "crew", "A1", "rank", "cook"), "A1@tide: mate   #", "A1@tide: cook   #"),
        ("pairs", SetField("crew", "crew", "A2", "port", "tide"), "A2@ebb: cook", "A2@tide: cook"),
        ("group-lines", SetField("crew", "crew", "A1", "never", "race.delete,a"), "-race.delete", "-race.delete -a"),
        ("group-lines", SetField("crew", "crew", "A1", "also", "A2"), "-race.delete", "-race.delete *A2"),
        ("group-lines", FollowRename("crew", "crew", "also", "A1", "B1"), "*A1", "*B1"),
        ("matrix", SetField("crew", "crew", "A2", "may", "sail,rank"), "rank = []", 'rank = ["A2"]'),
        ("matrix", RemoveRecord("crew", "crew", "A2"), '["A1", "A2"]   # all', '["A1"]   # all'),
        ("sections", SetField("crew", "crew", "A2", "race.stop", "0"), "= cook\n", "= cook\nrace.stop = 0\n"),
        ("sections", SetField("crew", "crew", "A1", "sail.start", "0"), "sail.start = 1", "sail.start = 0"),
        ("sections", RenameRecord("crew", "crew", "A1", "B1"), "[A1]", "[B1]"),
        ("sections", RemoveRecord("crew", "crew", "A1"), "[A1]\nrank = mate\nsail.start = 1   \n\n", ""),
        ("names", AddRecord("crew", "crew", "A3", ()), "A2   # second\n", "A2   # second\n  - A3\n"),
        ("names", RenameRecord("crew", "crew", "A2", "B2"), "A2   #", "B2   #"),
        ("blocks", SetField("crew", "crew", "A1", "until", "2040"), "until: 2031", "until: 2040"),
        ("blocks", SetField("crew", "crew", "A1", "name", "Wren of the Marsh"), "Wren", "Wren of the Marsh"),
        ("blocks", SetField("crew", "crew", "A2", "until", "2040"), "name: Tern\n", "name: Tern\nuntil: 2040\n"),
        ("blocks", SetField("crew", "crew", "A1", "name", None), "name: Wren\n", ""),
        ("blocks", MoveRecord("crew", "crew", "A2", 0), "", ""),
    ],
)
def test_an_edit_changes_nothing_else(shape: str, operation: Operation, old: str, new: str) -> None:
    files = files_of(shape)
    body = files.texts["crew"].body
    after = done(files, operation).after
    if old:
        assert old in body and after.texts["crew"].body == body.replace(old, new, 1)
    assert [change.is_nothing for change in done(files, operation).changes] == [False]
    assert seen(after) == SHAPES[shape][3](after.texts["crew"].body) != seen(files) or isinstance(operation, MoveRecord)


@pytest.mark.parametrize("shape", SHAPES)
def test_a_record_is_the_first_of_its_set(shape: str) -> None:
    empty = {"names": "roles: []\n", "matrix": "[may]\n", "pairs": "members: []\n", "with-chances": '{ "loot": "" }\n'}
    files = files_of(shape, empty.get(shape, "horn 3\n" if shape == "commands" else ""))
    assert seen(files) == {}
    row = {name: "A1" if name == "id" else {"rank": "mate"}.get(name, "sail") for name in SHAPES[shape][1].field}
    after = done(files, AddRecord("crew", "crew", "A1", tuple(row.items()))).after
    assert seen(after) == SHAPES[shape][3](after.texts["crew"].body) == {"A1": row}


@pytest.mark.parametrize(
    ("shape", "operation", "why"),
    [
        ("in-one-value", AddRecord("crew", "crew", "A4, A5", ()), "contains their separator"),
        ("with-chances", AddRecord("crew", "crew", "A4", (("id", "A4|1"),)), "would be read back as something else"),
        ("pairs", AddRecord("crew", "crew", "A4", (("id", "A4"),)), "port is missing"),
        ("pairs", SetField("crew", "crew", "A1", "rank", None), "rank is missing"),
        ("group-lines", SetField("crew", "crew", "A1", "may", "a b"), "cannot be a word"),
        ("group-lines", MoveRecord("crew", "crew", "A1", 1), "order means nothing"),
        ("matrix", MoveRecord("crew", "crew", "A1", 1), "no order of their own"),
        ("matrix", AddRecord("crew", "crew", "A4", ()), "needs a may"),
        ("sections", AddRecord("crew", "crew", "A4", ()), "A4 needs a value"),
        ("sections", RenameRecord("crew", "crew", "A1", "a]b"), "cannot be a section's name"),
        ("sections", RenameRecord("crew", "crew", "A1", " "), "cannot be a section's name"),
    ],
)
def test_what_the_shape_cannot_hold_is_refused(shape: str, operation: Operation, why: str) -> None:
    outcome = replay([operation], files_of(shape))
    assert len(outcome.refused) == 1 and why in outcome.refused[0].cause
    assert outcome.after.texts == files_of(shape).texts


@pytest.mark.parametrize(
    ("change", "word"),
    [
        ({"form": "{id}{rank}"}, "form"),
        ({"form": "{id} {id}"}, "form"),
        ({"form": "{id} {level}"}, "form"),
        ({"form": "id"}, "form"),
        ({"signs": {"rank": "+", "id": "+"}, "form": "", "at": "x.*"}, "signs"),
        ({"turned": "rights", "form": "", "at": "x.*"}, "ordered"),
        ({"turned": "rank", "form": ""}, "at"),
        ({"turned": "rank"}, "turned"),
        ({"ordered": "rights"}, "ordered"),
    ],
)
def test_a_shape_that_cannot_be_is_a_mistake_of_the_rulebook(change: dict[str, Any], word: str) -> None:
    file, spec, _, _ = SHAPES["commands"]
    made = RecordSet(**{**{name: getattr(spec, name) for name in spec.__struct_fields__}, **change})
    book = Rulebook(rulebook=About(name="r"), file={"crew": file}, records={"crew": made})
    assert word in [place[-1] for place, _ in mistakes(book)]


def test_a_section_that_is_there_twice_is_removed_and_renamed_as_one() -> None:
    text = "[A1]\nrank = mate\n\n; about A2\n[A2]\nrank = cook\n[A1]\nsail = 1\n; sail = 2\n[A3]\nrank = mate\n"
    files = files_of("sections", text)
    gone = done(files, RemoveRecord("crew", "crew", "A1")).after
    assert gone.texts["crew"].body == "; about A2\n[A2]\nrank = cook\n[A3]\nrank = mate\n"
    renamed = done(files, RenameRecord("crew", "crew", "A1", "B1")).after
    assert renamed.texts["crew"].body == text.replace("[A1]", "[B1]")


def test_a_field_before_one_that_is_given_cannot_be_left_out_of_a_form() -> None:
    from roundgate.core.formats.protocol import EditRefused
    from roundgate.core.records.shapes.forms import text_of

    fields = {name: RecordField(type="text") for name in ("id", "level", "note")}
    spec = RecordSet(file="f", at="[*]", key="id", form="{id} {level} {note}", field=fields)
    assert text_of({"id": "GW-1", "level": "3"}, spec) == "GW-1 3"
    with pytest.raises(EditRefused, match="level is missing; the form is"):
        text_of({"id": "GW-1", "note": "late"}, spec)
