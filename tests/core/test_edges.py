"""Edges that a change from outside crossed without a test noticing: bounds, signs, and what a rule leaves out."""

from __future__ import annotations

import json
from decimal import Decimal
from itertools import pairwise
from math import comb

import pytest

from roundgate.core import values
from roundgate.core.curves.making import through
from roundgate.core.files import ServerFiles
from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.loot import draws
from roundgate.core.nearest import nearest
from roundgate.core.operations.values import SetValue, Unset
from roundgate.core.rulebook.expansion import expanded
from roundgate.core.rulebook.model import About, File, Rulebook, Setting
from roundgate.core.slate import replay
from roundgate.core.text import Text, decode
from roundgate.core.values import ValueProblem


def stored(kind: str, text: str, **more: object) -> str:
    spec = Setting(file="f", key="k", type=kind, **more)  # type: ignore[arg-type]
    return values.as_stored(values.parse(text, spec), spec)


@pytest.mark.parametrize("kind", ["text", "secret"])
def test_a_text_may_be_as_short_and_as_long_as_it_may_be_and_no_more(kind: str) -> None:
    length = (2, 4)
    assert [stored(kind, "x" * count, length=length) for count in (2, 3, 4)] == ["xx", "xxx", "xxxx"]
    for count in (1, 5):
        with pytest.raises(ValueProblem):
            stored(kind, "x" * count, length=length)


@pytest.mark.parametrize("kind", ["text", "secret", "path", "condition"])
@pytest.mark.parametrize("sign", ["\x00", "\x1f", "\x7f"])
def test_no_text_holds_a_control_character(kind: str, sign: str) -> None:
    with pytest.raises(ValueProblem):
        stored(kind, f"tern{sign}wren")


def test_a_curve_goes_on_as_a_straight_line_on_both_sides_of_its_points() -> None:
    points = [(Decimal(2), Decimal(10)), (Decimal(4), Decimal(20)), (Decimal(6), Decimal(60))]
    low = through(points, [Decimal(0), Decimal(1), Decimal(2)])
    high = through(points, [Decimal(6), Decimal(7), Decimal(8), Decimal(9)])
    assert low[1] - low[0] == pytest.approx(low[2] - low[1])
    steps = [float(after - before) for before, after in pairwise(high)]
    assert steps == pytest.approx([steps[0]] * 3) and steps[0] > 0, "it neither falls nor bends beyond the last point"
    assert [float(value) for value in (low[2], high[0])] == [10, 60]


@pytest.mark.parametrize("sign", ["=", " = ", "  =\t"])
def test_a_new_key_of_a_toml_file_has_its_neighbours_sign(sign: str) -> None:
    document = FORMATS["toml"].read(decode(f"[race]\nslots{sign}12\n".encode()))
    after = apply_edit(FORMATS["toml"], document, document.set(("race", "laps"), 3))
    assert after.text.body == f"[race]\nslots{sign}12\nlaps{sign}3\n"


def test_a_name_that_stands_commented_out_in_yaml_takes_one_value_and_no_list() -> None:
    document = FORMATS["yaml"].read(decode(b"slots: 12\n# courses: none\n"))
    for value in (["a", "b"], {"a": 1}):
        after = apply_edit(FORMATS["yaml"], document, document.set(("courses",), value))
        assert "# courses: none" in after.text.body and "courses:" in after.text.body.replace("# courses: none", "")


def test_a_name_that_is_four_fifths_alike_is_the_one_meant() -> None:
    assert nearest("race.slot", ["race.slots", "net.port"]) == "race.slots"
    assert nearest("rice.sluts", ["race.slots", "net.port"]) == "race.slots", "two letters of ten"
    assert nearest("rxcx.slxtx", ["race.slots", "net.port"]) == "race.slots", "60 in a hundred are enough"
    assert nearest("zzzz", ["race.slots", "net.port"]) == ""


def test_a_file_that_is_not_there_yet_is_begun_so_that_its_game_can_read_it() -> None:
    book = expanded(Rulebook(About("quay", "Quay"), file={"core": File(path="core.json", format="json")}))
    outcome = replay([SetValue("core.json", "race.slots", "12")], ServerFiles(book, {}))
    assert json.loads(outcome.after.texts["core.json"].body) == {"race": {"slots": 12}} and not outcome.refused


def test_a_change_after_one_that_moved_others_is_not_compared_with_what_was_there() -> None:
    """Removing an item of a list moves those after it up: what a later change finds says nothing of its file's past."""
    book = expanded(
        Rulebook(
            About("quay", "Quay"),
            file={"core": File(path="core.json", format="json"), "more": File(path="more.json", format="json")},
        )
    )
    body = '{"a": [1, 2, 3], "b": 1, "c": 1, "d": 1}\n'
    found = replay(
        [
            SetValue("core.json", "b", "2", "1"),
            Unset("core.json", "a[0]"),
            SetValue("core.json", "c", "2", "1"),
            SetValue("more.json", "b", "2", "1"),
            SetValue("core.json", "d", "2", "1"),
            Unset("core.json", "a[0]"),
        ],
        ServerFiles(book, {"core.json": Text(body), "more.json": Text(body)}),
    )
    assert not found.refused and json.loads(found.after.texts["core.json"].body)["a"] == [3]
    assert [change.after_others for change in found.changes] == [False, False, True, False, True, True]


@pytest.mark.parametrize("times", [100, 300, 1500])
def test_the_sum_of_many_throws_is_the_binomial_distribution_to_the_last_digit(times: int) -> None:
    """What is left out at the upper end is less than a number can tell; the other way is whole numbers."""
    found = draws.repeated(draws.uniform(0, 1), times)
    exact = [comb(times, count) / 2**times for count in range(times + 1)]
    assert abs(float(found.sum()) - 1) < 1e-13
    assert max(abs(float(found[count]) - exact[count]) for count in range(len(found))) < 1e-15
    assert sum(exact[len(found) :]) < 1e-15
