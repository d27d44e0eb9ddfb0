"""The slate: replayed on whatever is on disk it gives what was asked for, and says what that means."""

from __future__ import annotations

import tomllib

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import sampling
from conftest import BOOK
from roundgate.cli.screen.differences import describe_difference
from roundgate.core.checks import check_disk, check_outcome
from roundgate.core.files import ServerFiles, differing
from roundgate.core.layers import Known, layers_of
from roundgate.core.operations.base import Operation
from roundgate.core.operations.lists import AddItem, MoveItem, RemoveItem
from roundgate.core.operations.registry import merged
from roundgate.core.operations.values import SetValue, Unset
from roundgate.core.rescue import rescue
from roundgate.core.review import review_of
from roundgate.core.rulebook.expansion import expanded, with_console
from roundgate.core.rulebook.model import Rulebook
from roundgate.core.slate import replay
from roundgate.core.text import Text

RULES = expanded(with_console(msgspec.convert(tomllib.loads(BOOK), Rulebook)))
CORE, COURSES = "gullwind.properties", "courses.txt"


def files(core: str = "boat.slots=16\nheat.size=8\n", courses: str = "Harbour Mile\n") -> ServerFiles:
    return ServerFiles(RULES, {CORE: Text(core), COURSES: Text(courses)})


def slots(stored: str, then: str | None = "16") -> SetValue:
    return SetValue(CORE, "boat.slots", stored, then, "race.slots")


OPERATIONS = st.lists(
    st.one_of(
        st.builds(slots, st.sampled_from(["8", "12", "24"])),
        st.builds(
            SetValue,
            st.just(CORE),
            st.sampled_from(["heat.size", "laps.count", "new.key"]),
            st.sampled_from(["2", "5", ""]),
        ),
        st.builds(Unset, st.just(CORE), st.sampled_from(["laps.count", "boat.slots"])),
        st.builds(
            AddItem,
            st.just(COURSES),
            st.just("courses"),
            st.sampled_from(["The Narrows", "ws:204815"]),
            st.sampled_from([None, 0]),
        ),
        st.builds(RemoveItem, st.just(COURSES), st.just("courses"), st.sampled_from(["The Narrows", "Long Reach"])),
        st.builds(MoveItem, st.just(COURSES), st.just("courses"), st.just("Harbour Mile"), st.integers(0, 3)),
    ),
    max_size=6,
)


@settings(max_examples=300 if sampling.ALL else 100)
@given(OPERATIONS)
def test_values_replayed_twice_are_as_once(operations: list[Operation]) -> None:
    values = [operation for operation in operations if isinstance(operation, SetValue)]
    once = replay(values, files())
    assert replay(values, once.after).touched == []
    last = {value.key: value.stored for value in values}
    for key, stored in last.items():
        entry = once.after.document(CORE).find((key,))  # type: ignore[union-attr]
        assert entry is not None and entry.value == stored


@settings(max_examples=300 if sampling.ALL else 100)
@given(OPERATIONS)
def test_whatever_waits_is_made_or_refused_and_reviewed(operations: list[Operation]) -> None:
    outcome = replay(operations, files(), "regatta")
    assert len(outcome.changes) + len(outcome.refused) == len(operations)
    review = review_of(outcome)
    assert len(review.changes) == len(outcome.changes)
    assert bool(review.diff) == bool(outcome.touched)
    for finding in check_outcome("regatta", outcome, {}):
        assert finding.cause and finding.place.file


def test_an_operation_stays_true_when_the_file_is_rewritten_meanwhile() -> None:
    operations = [slots("24"), AddItem(COURSES, "courses", "Long Reach")]
    rewritten = files("# new\nnet.port=1\nboat.slots=16\n", "Long Reach\nHarbour Mile\n")
    outcome = replay(operations, rewritten)
    assert outcome.after.texts[CORE].body == "# new\nnet.port=1\nboat.slots=24\n"
    assert outcome.after.texts[COURSES].body == "Long Reach\nHarbour Mile\n", "it is in the list already"


def test_a_second_value_takes_the_place_of_the_first_and_remembers_what_was_there_first() -> None:
    waiting = merged(merged([AddItem(COURSES, "courses", "x")], slots("20")), slots("24", "20"))
    assert waiting == [AddItem(COURSES, "courses", "x"), slots("24", "16")]
    assert merged(waiting, Unset(CORE, "boat.slots"))[-1] == Unset(CORE, "boat.slots", "16")


def test_what_can_no_longer_be_done_is_said_and_the_rest_goes_on() -> None:
    outcome = replay(
        [MoveItem(COURSES, "courses", "Lantern Run", 0), slots("24"), Unset(CORE, "no.such.key")], files(), "regatta"
    )
    assert [finding.code for finding in outcome.refused] == ["slate-stuck"]
    assert outcome.touched == [CORE]


def test_the_review_shows_then_now_and_wanted() -> None:
    [words] = review_of(replay([slots("24")], files("boat.slots=20\n"))).changes
    assert (words.when_slated, words.before, words.after) == ("16", "20", "24")
    [same] = review_of(replay([slots("16")], files())).changes
    assert same.is_nothing and not same.when_slated


def test_the_diff_never_shows_a_secret_old_or_new() -> None:
    operation = SetValue(CORE, "entry.code", "99887766", "11223344", "entry.code")
    before = files("entry.code=11223344\n#entry.code=55667788\nconsole.code=barnacle-77\nentry.cod=13572468\n")
    review = review_of(replay([operation], before))
    shown = review.diff + repr(review.changes) + repr(review.consequences)
    for secret in ("99887766", "11223344", "55667788", "barnacle-77", "13572468"):
        assert secret not in shown
    assert "(hidden, old)" in review.diff and "(hidden, new)" in review.diff


def test_findings_never_show_a_secret() -> None:
    before = files("entry.code=not-digits-1\nentry.code=12 \nentry.codee=24681357\nadmin.password=hunter22\\u12\n")
    shown = repr(check_disk("regatta", before, {}))
    for secret in ("not-digits-1", "24681357", "hunter22"):
        assert secret not in shown


@pytest.mark.parametrize(
    ("known", "running", "words"),
    [
        (Known(files(), files()), None, ()),
        (Known(files(), files(), files()), "16", ()),
        (
            Known(files("boat.slots=20\n"), files("boat.slots=20\n"), files()),
            "16",
            ("on disk but not running: restart",),
        ),
        (Known(files(), files("boat.slots=24\n"), files()), "16", ("on the slate: 24",)),
        (
            Known(files(), files(), files(), {"race.slots": "30"}),
            "30",
            ("set at the console only: lost at the next restart",),
        ),
        (
            Known(files(), files("boat.slots=30\n"), files(), {"race.slots": "30"}),
            "30",
            ("on the slate: 30", "in force by the console; goes into the file at the next stop"),
        ),
        (
            Known(files(), files(), files(), None, {"race.slots": "12"}),
            "12",
            ("on disk, but the server says otherwise: changed at its console since, or it did not take the value",),
        ),
        (
            Known(files(), files(), None, None, None, {"race.slots": 12}),
            None,
            ("reset by something other than Round Gate since round 12",),
        ),
        (Known(files("boat.slots=016\n"), files("boat.slots=016\n"), files()), "16", ()),
    ],
)
def test_the_layers_and_the_words_for_each_difference(
    known: Known, running: str | None, words: tuple[str, ...]
) -> None:
    layers = layers_of("race.slots", known)
    assert (layers.default, layers.running) == ("12", running)
    assert tuple(map(describe_difference, layers.differences)) == words


def test_edits_by_hand_are_rescued_only_where_the_server_would_overwrite_them() -> None:
    started = files("boat.slots=16\nheat.size=8\nlaps.count=3\n", "Harbour Mile\n")
    now = files("boat.slots=20\nheat.size=8\nmod.sails=red\n", "Long Reach\n")
    found = rescue(now, started, [])
    assert [(item.key, getattr(item, "stored", None)) for item in found if isinstance(item, SetValue | Unset)] == [
        ("boat.slots", "20"),
        ("mod.sails", "red"),
        ("laps.count", None),
    ]
    assert all(getattr(item, "at_stop", False) for item in found)
    assert [one.key for one in rescue(now, started, [slots("24")]) if isinstance(one, SetValue)] == ["mod.sails"]
    assert rescue(now, None, []) == []


def test_what_differs_is_told_by_value_not_by_spelling() -> None:
    before = files("boat.slots=16\nwind.scale=1.0\nidle.drop.minutes=0\n")
    after = files("boat.slots= 16\nwind.scale=1.00\n", "Harbour Mile\nLong Reach\n")
    assert differing(before, after) == ["courses"]


def test_a_value_set_before_entries_changed_places_is_not_replaced_by_one_set_after() -> None:
    """The first entry is changed, another is put before it, and the new first entry is changed too."""
    first = SetValue(COURSES, "[0]", "Harbour Mile, short")
    slate: list[Operation] = []
    for one in (
        first,
        AddItem(COURSES, "courses", "The Narrows", 0),
        SetValue(COURSES, "[0]", "Long Reach", "The Narrows"),
    ):
        slate = merged(slate, one)
    outcome = replay(slate, files())
    assert outcome.after.items("courses") == ["Long Reach", "Harbour Mile, short"]
    assert not any(change.has_moved_on for change in outcome.changes[1:])


@settings(max_examples=60)
@given(
    keys=st.lists(st.sampled_from(["hull-1", "hull-22", "hull-333", "hull-4444"]), min_size=1, max_size=5),
    at=st.integers(0, 4),
)
def test_a_line_that_stays_is_never_marked_as_new(keys: list[str], at: int) -> None:
    """Secrets in a list move to other places of it when one is put in before them; their lines are the same."""
    import json

    before = json.dumps({"passwords": keys}, indent=1) + "\n"
    started = ServerFiles(RULES, {"doors.json": Text(before)})
    at = min(at, len(keys))
    diff = review_of(replay([AddItem("doors.json", "doors.json:passwords", "gull-99", at)], started)).diff
    assert not any(key in diff for key in (*keys, "gull-99"))
    kept = [line for line in diff.splitlines() if line.startswith(" ")]
    assert kept and not any("new" in line or "old" in line for line in kept), diff
    new = [line for line in diff.splitlines() if line.startswith("+") and not line.startswith("+++")]
    assert any("(hidden, new)" in line for line in new), diff
    assert len(new) <= 2, f"the new one, and a comma behind the one before it: {diff}"


def test_what_is_only_on_or_off_is_no_secret_but_where_the_rulebook_says_so() -> None:
    operations: list[Operation] = [
        SetValue(CORE, "door.keys", "1", "0"),
        SetValue(CORE, "door.password", "salt-4711", "salt-4700"),
        SetValue(CORE, "entry.code", "0", "1", "entry.code"),
        SetValue(CORE, "mail.secret", "off", "salt-4712"),
    ]
    before = files("door.keys=0\ndoor.password=salt-4700\nentry.code=1\nmail.token=true\nmail.secret=salt-4712\n")
    review = review_of(replay(operations, before))
    shown = {change.name.partition(":")[2] or change.name: (change.before, change.after) for change in review.changes}
    assert shown["door.keys"] == ("0", "1")
    assert "salt" not in review.diff + repr(shown) and "entry.code=0" not in review.diff
    assert "1" not in shown["entry.code"] and "0" not in shown["entry.code"]
    assert "mail.token=true" in review.diff and "+door.keys=1" in review.diff
