"""The kinds of operations: each is stored and read again as it was, and answers for itself."""

from __future__ import annotations

import json

import msgspec
import pytest

from roundgate.core.files import ServerFiles
from roundgate.core.operations.base import Operation
from roundgate.core.operations.copies import CopyFile
from roundgate.core.operations.lists import AddItem, MoveItem, RemoveItem
from roundgate.core.operations.names import Rename, Switch
from roundgate.core.operations.records import (
    AddRecord,
    FollowRename,
    MoveRecord,
    RemoveRecord,
    RenameRecord,
    SetField,
    SwitchRecord,
)
from roundgate.core.operations.registry import KINDS, kind_of, merged, read_stored, stored
from roundgate.core.operations.repairs import Mend
from roundgate.core.operations.text import EditText, Hunk
from roundgate.core.operations.values import SetValue, Unset
from roundgate.core.rulebook.model import NO_RULEBOOK
from roundgate.core.slate import replay
from roundgate.core.text import Text

FILE = "crew.json"
TEXT = '{\n  "slots": 4,\n  "crew": ["Ann", "Bob"],\n}\n'
EXAMPLES: list[tuple[Operation, str, str]] = [
    (SetValue(FILE, "slots", "5"), "crew.json:slots", TEXT.replace("4", "5").replace("],", "]")),
    (Unset(FILE, "slots"), "crew.json:slots", '{\n  "crew": ["Ann", "Bob"]\n}\n'),
    (Switch(FILE, "slots", False), "crew.json:slots", ""),
    (Rename(FILE, "slots", "places"), "crew.json:slots", TEXT.replace("slots", "places").replace("],", "]")),
    (
        AddItem(FILE, "crew.json:crew", "Cy"),
        "crew.json:crew",
        TEXT.replace('"Bob"]', '"Bob", "Cy"]').replace("],", "]"),
    ),
    (RemoveItem(FILE, "crew.json:crew", "Ann"), "crew.json:crew", TEXT.replace('"Ann", ', "").replace("],", "]")),
    (MoveItem(FILE, "crew.json:crew", "Bob", 0), "crew.json:crew", TEXT.replace('"Ann", "Bob"],', '"Bob", "Ann"]')),
    (Mend(FILE, ("comma-last",)), "crew.json", TEXT.replace("],", "]")),
    (EditText(FILE, (Hunk(('  "slots": 4,\n',), ('  "slots": 6,\n',)),)), "crew.json", TEXT.replace("4", "6")),
    (
        CopyFile(FILE, "mods/crew.json", "{}\n"),
        "crew.json",
        TEXT.replace("],", "]"),
    ),  # it already exists, and stays as it is
]


def files_of(text: str) -> ServerFiles:
    return ServerFiles(NO_RULEBOOK, {FILE: Text(text)})


OF_RECORDS = {SetField, AddRecord, RemoveRecord, RenameRecord, MoveRecord, SwitchRecord, FollowRename}
"""They need a rulebook with sets of records: ``test_records.py`` has them."""


def test_there_is_an_example_of_each_kind() -> None:
    assert {type(one) for one, _, _ in EXAMPLES} == {kind_of(tag) for tag in KINDS} - OF_RECORDS


@pytest.mark.parametrize(("operation", "name", "after"), EXAMPLES, ids=lambda one: type(one).__name__)
def test_an_operation_is_stored_named_and_made(operation: Operation, name: str, after: str) -> None:
    assert read_stored(stored(operation)) == operation
    assert operation.shown_name == name
    text = TEXT if isinstance(operation, Mend | EditText) else TEXT.replace("],", "]")
    outcome = replay([operation], files_of(text))
    if not after:
        assert outcome.refused and outcome.after.texts[FILE].body == text, "strict JSON has no comments"
        return
    assert not outcome.refused, outcome.refused
    assert outcome.after.texts[FILE].body == after
    again = replay([operation], outcome.after)
    assert not again.refused and again.after.texts[FILE].body == after, "made twice it is made once"


@pytest.mark.parametrize("operation", [one for one, _, _ in EXAMPLES], ids=lambda one: type(one).__name__)
def test_a_stored_operation_of_a_newer_version_is_refused(operation: Operation) -> None:
    raw = json.loads(stored(operation))
    assert raw["version"] == operation.version
    with pytest.raises(msgspec.DecodeError, match="newer version"):
        read_stored(json.dumps({**raw, "version": operation.version + 1}))
    del raw["version"]  # as it was stored before operations had versions
    assert read_stored(json.dumps(raw)) == operation
    with pytest.raises(msgspec.DecodeError):
        read_stored(json.dumps({**raw, "type": "sail"}))


def test_a_second_value_takes_the_place_of_the_first_unless_names_have_shifted_since() -> None:
    first, second = SetValue(FILE, "slots", "5", "4"), SetValue(FILE, "slots", "6", "5")
    assert merged([first], second) == [SetValue(FILE, "slots", "6", "4")]
    moved = RemoveItem(FILE, "crew.json:crew", "Ann")
    assert merged([first, moved], second) == [first, moved, second]
    elsewhere = RemoveItem("other.json", "other.json:crew", "Ann")
    assert merged([first, elsewhere], second) == [elsewhere, SetValue(FILE, "slots", "6", "4")]
    mend = Mend(FILE, ("comma-last",))
    assert merged([mend], mend) == [mend]


def test_a_value_in_another_file_is_another_value_and_an_item_that_goes_shifts_the_others() -> None:
    here, there = SetValue(FILE, "slots", "5"), SetValue("other.json", "slots", "6")
    assert merged([here], there) == [here, there]
    first, gone = SetValue(FILE, "crew[1]", "Cy", "Bob"), Unset(FILE, "crew[0]")
    assert merged([first, gone], SetValue(FILE, "crew[1]", "Di")) == [first, gone, SetValue(FILE, "crew[1]", "Di")]


def test_a_value_behind_a_shift_is_not_said_to_have_moved_on() -> None:
    text = TEXT.replace("],", "]")
    value = SetValue(FILE, "crew[0]", "Cy", "Ann")
    alone = replay([value], files_of(text.replace("Ann", "Eve"))).changes[0]
    assert alone.has_moved_on and not alone.after_others
    shifted = replay([RemoveItem(FILE, "crew.json:crew", "Ann"), value], files_of(text)).changes[1]
    assert shifted.after_others and not shifted.has_moved_on


def test_entries_of_a_list_go_where_they_are_asked_to() -> None:
    files = files_of(TEXT.replace("],", "]"))
    far = replay([MoveItem(FILE, "crew.json:crew", "Ann", 99)], files)
    assert far.changes[0].items_after == ("Bob", "Ann")
    twice = replay([AddItem(FILE, "crew.json:crew", "Ann", 0)], files)
    assert twice.changes[0].items_after == ("Ann", "Ann", "Bob"), "with a place it is asked for once more"
    once = replay([AddItem(FILE, "crew.json:crew", "Ann")], files)
    assert once.changes[0].is_nothing


def test_a_secret_list_is_counted_and_not_shown() -> None:
    change = replay([AddItem(FILE, "crew.json:crew", "Cy")], files_of(TEXT.replace("],", "]"))).changes[0]
    assert change.operation.describe_change(change, str, is_secret=False) == (
        "2 entries",
        "+ Cy (number 2, the last), 3 entries",
    )
    assert change.operation.describe_change(change, str, is_secret=True) == ("2 entries", "3 entries (hidden)")


def test_only_what_claims_a_key_takes_it_from_a_hand_edit() -> None:
    claims = {type(one): one.claimed_key for one, _, _ in EXAMPLES}
    assert {kind for kind, key in claims.items() if key == "slots"} == {SetValue, Unset, Switch, Rename}
    assert {type(one) for one, _, _ in EXAMPLES if one.sets_value} == {SetValue, Unset}
