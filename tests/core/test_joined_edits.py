"""Many operations on records are made by one edit; what comes out is what one after the other gives."""

from __future__ import annotations

from itertools import pairwise

import pytest
import yaml
from hypothesis import example, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from core.test_records import FIELDS, OFFICERS, SHAPES, book, files_of, held
from roundgate.core.files import ServerFiles
from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.protocol import Dialect, Edit
from roundgate.core.formats.shared.joined_edits import NotJoinable, joined
from roundgate.core.operations.base import Operation, Target
from roundgate.core.operations.records import AddRecord, RemoveRecord, SetField
from roundgate.core.rulebook.model import RecordField
from roundgate.core.slate import Outcome, replay
from roundgate.core.text import Text

IDS = st.sampled_from([f"GW-{number}" for number in range(1, 9)])
NAMES = st.sampled_from(["Ruff", "Skua", "Knot", "Dunlin", "mate # one", "a: b", '"quoted"', "Ä"])


def _named(key: str) -> Operation:
    return SetField("crew", "officers", key, "name", "Ruff")


MAY = st.sampled_from(["a", "a,c", "b,a"])


def _added(key: str, name: str, level: int) -> Operation:
    values = (("id", key), ("name", name), ("rank", "cook"), ("level", str(level)))
    return AddRecord("crew", "officers", key, values)


OPERATIONS = st.one_of(
    st.builds(_added, IDS, NAMES, st.integers(0, 9)),
    st.builds(lambda key, name: SetField("crew", "officers", key, "name", name), IDS, NAMES),
    st.builds(lambda key, level: SetField("crew", "officers", key, "level", str(level)), IDS, st.integers(0, 9)),
    st.builds(
        lambda key, may: SetField("crew", "officers", key, "may", may), IDS, st.sampled_from(["a", "a,c", "b,a"])
    ),
    st.builds(lambda key: SetField("crew", "officers", key, "level", None), IDS),
    st.builds(lambda key: RemoveRecord("crew", "officers", key), IDS),
)


def one_by_one(operations: list[Operation], files: ServerFiles) -> tuple[ServerFiles, list[Outcome]]:
    outcomes = []
    for operation in operations:
        outcomes.append(replay([operation], files))
        files = outcomes[-1].after
    return files, outcomes


EMPTY = {"json": "{}\n", "yaml": "", "toml": "", "lua": ""}


@pytest.mark.parametrize("kind", EMPTY)
def test_the_first_records_of_an_empty_file_are_in_one_list(kind: str) -> None:
    """The first begins the list that the others are in: a second beginning would be the one that a reader takes."""
    files = files_of(kind, EMPTY[kind] or "\n")
    operations = [_added(f"GW-{number}", f"N{number}", 1) for number in range(1, 7)]
    single, _ = one_by_one(operations, files)
    together = replay(operations, files).after
    assert together.texts["crew"].body == single.texts["crew"].body
    assert len(held(together)) in (0, 6) and len(held(together)) == len(held(single))
    names = [AddRecord("ranks.yml", "ranks", name, ()) for name in ("mate", "cook", "chief", "bosun")]
    books = files.with_document("ranks.yml", FORMATS["yaml"].read(Text(""), Dialect()))
    assert list(yaml.safe_load(replay(names, books).after.texts["ranks.yml"].body)["ranks"]) == [
        "mate",
        "cook",
        "chief",
        "bosun",
    ]


def test_new_fields_in_one_map_are_in_one_map() -> None:
    """Each of them would begin the map that both are in, and YAML takes a name twice without a word."""
    fits = {name: RecordField(type="text", key=f"fit.{name}") for name in ("hull", "sail", "lens")}
    wider = replace(OFFICERS, field={**FIELDS, **fits})
    crew = "crew:\n  - id: GW-1\n    rank: mate\n  - id: GW-2\n    rank: mate\n"
    files = ServerFiles(book("yaml", wider), {"crew": Text(crew), "ranks.yml": Text("ranks:\n  mate: {}\n")})
    operations = [SetField("crew", "officers", "GW-1", name, "gull") for name in fits]
    single, _ = one_by_one(list(operations), files)
    together = replay(operations, files)
    assert together.after.texts["crew"].body == single.texts["crew"].body
    assert yaml.safe_load(single.texts["crew"].body)["crew"][0]["fit"] == dict.fromkeys(fits, "gull")


@pytest.mark.parametrize("kind", [kind for kind in SHAPES if kind != "lines"])
@settings(max_examples=60)
@given(operations=st.lists(OPERATIONS, min_size=3, max_size=9))
@example(operations=[_added("GW-3", "Skua", 0), _named("GW-1"), _named("GW-3"), _added("GW-3", "Skua", 0)])
@example(operations=[_added("GW-3", "Skua", 0), _named("GW-1"), _named("GW-2"), _added("GW-3", "Knot", 0)])
def test_together_is_as_one_by_one(kind: str, operations: list[Operation]) -> None:
    files = files_of(kind)
    single, outcomes = one_by_one(operations, files)
    together = replay(operations, files)
    assert held(together.after) == held(single)
    assert together.after.texts["crew"].body == single.texts["crew"].body
    assert [(change.name, change.before, change.after) for change in together.changes] == [
        (change.name, change.before, change.after) for outcome in outcomes for change in outcome.changes
    ]
    assert [finding.cause for finding in together.refused] == [
        finding.cause for outcome in outcomes for finding in outcome.refused
    ]


@pytest.mark.parametrize("kind", ["json", "yaml", "toml"])
def test_a_hundred_new_records_and_new_values_are_one_edit(kind: str) -> None:
    files, edits = files_of(kind), list[Edit]()
    document = files.document("crew")
    assert document is not None
    target = Target(FORMATS[kind], document, {}, files.book.records, edits)
    new = [_added(f"GW-{number}", f"N{number}", number % 9) for number in range(10, 110)]
    for operation in [*new, SetField("crew", "officers", "GW-2", "name", "Knot")]:
        assert operation.make(target)[1] is document, "it is only planned"
    assert len(edits) == 101
    after = apply_edit(FORMATS[kind], document, joined(document.plain(), edits))
    found = held(files.with_document("crew", after))
    assert found["GW-2"]["name"] == "Knot" and found["GW-1"]["name"] == "Wren"
    numbers = [int(key.removeprefix("GW-")) for key in found]
    assert len(numbers) == 102 and all(one < other for one, other in pairwise(numbers)), (
        "in the order that was asked for"
    )


def test_edits_of_the_same_place_are_not_joined() -> None:
    files = files_of("json")
    document = files.document("crew")
    assert document is not None
    path = ("crew", 0, "name")
    one, other = document.set(path, "Ruff"), document.set(path, "Knot")
    for edits in ([one, other], [document.remove(path), one], [document.remove(path[:2]), one]):
        with pytest.raises(NotJoinable):
            joined(document.plain(), edits)
    both = apply_edit(FORMATS["json"], document, joined(document.plain(), [one, document.remove(("crew", 1))]))
    assert held(files.with_document("crew", both)).keys() == {"GW-1"} and '"Ruff"' in both.text.body
