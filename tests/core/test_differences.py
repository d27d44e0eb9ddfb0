"""The difference of two texts leads from the one to the other, is as short as the standard library's, and is quick."""

from __future__ import annotations

import difflib

from hypothesis import given, settings
from hypothesis import strategies as st

from roundgate.core.differences import opcodes, unified
from roundgate.core.secrets import hidden_line

LINES = st.lists(st.sampled_from(["a", "b", "c", "", "same", "same"]), max_size=40)


def made(old: list[str], new: list[str]) -> list[str]:
    """Make the new lines of the old ones by the opcodes; each must take up where the one before ended."""
    found: list[str] = []
    at = to = 0
    for what, old_start, old_end, new_start, new_end in opcodes(old, new):
        assert (old_start, new_start) == (at, to)
        at, to = old_end, new_end
        found += old[old_start:old_end] if what == "equal" else new[new_start:new_end]
        assert what != "equal" or old[old_start:old_end] == new[new_start:new_end]
    assert (at, to) == (len(old), len(new))
    return found


@settings(max_examples=300)
@given(LINES, LINES)
def test_it_leads_from_one_text_to_the_other(old: list[str], new: list[str]) -> None:
    assert made(old, new) == new
    assert bool(unified(old, new, ("a", "b"))) == (old != new)


@settings(max_examples=100)
@given(st.lists(st.tuples(st.integers(0, 2999), st.sampled_from(["+", "-", "x"])), max_size=6))
def test_a_few_changes_in_many_lines_read_as_the_standard_library_has_them(changes: list[tuple[int, str]]) -> None:
    old = [f"line {number}" for number in range(3000)]
    new = list(old)
    for at, what in sorted(changes, reverse=True):
        new[at : at + (what != "+")] = [] if what == "-" else [f"new {at}"]
    assert made(old, new) == new
    ours = unified(old, new, ("a", "b"))
    theirs = list(difflib.unified_diff(old, new, "a", "b", n=2, lineterm=""))
    assert sorted(ours) == sorted(theirs)


def test_a_secret_is_told_by_its_line_or_by_the_name_above_it() -> None:
    lines = [
        "link:",
        "  password: |",
        "    hush-1",
        "    hush-2",
        "  host: quay",
        "entry_code = hush-3",
        "#  pin: hush-4",
    ]
    shown = [hidden_line(lines, number) for number in range(len(lines))]
    assert not [row for row in shown if "hush" in row]
    assert shown[4] == "  host: quay"
