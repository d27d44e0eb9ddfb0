"""Lists of lines: text in, text out; and over many examples, only the asked-for entry changes."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.lines.document import LinesDocument
from roundgate.core.formats.protocol import Edit, EditRefused
from roundgate.core.text import Text

BODIES = st.lists(
    st.sampled_from(["a", "b c", " d", "# no", "", "\t", "\n", "\r\n", "\r", "e#f", "\u00a0"]), max_size=25
).map("".join)
ITEMS = st.sampled_from(["Harbour Mile", "ws:204815", "x", "\u00e9t\u00e9"])


def after(body: str, edit: Edit) -> str:
    return apply_edit(FORMATS["lines"], LinesDocument(Text(body)), edit).text.body


@pytest.mark.parametrize(
    ("before", "at", "wanted"),
    [
        ("a\nb\n", 2, "a\nb\nx\n"),
        ("a\nb", 2, "a\nb\nx"),
        ("a\nb\n", 0, "x\na\nb\n"),
        ("# order\na\n\nb\n", 1, "# order\na\n\nx\nb\n"),
        ("a\n# the end\n", 1, "a\nx\n# the end\n"),
        ("", 0, "x\n"),
        ("# none yet", 0, "# none yet\nx"),
        ("a\r\nb\r\n", 1, "a\r\nx\r\nb\r\n"),
    ],
)
def test_insert(before: str, at: int, wanted: str) -> None:
    assert after(before, LinesDocument(Text(before)).insert((at,), "x")) == wanted


def test_remove_takes_the_line_and_leaves_comments() -> None:
    body = "# order\na\n# then\n  b\nc"
    assert after(body, LinesDocument(Text(body)).remove((1,))) == "# order\na\n# then\nc"
    assert after(body, LinesDocument(Text(body)).remove((2,))) == "# order\na\n# then\n  b\n"


def test_move_changes_places_and_leaves_comments_and_blanks_where_they_are() -> None:
    body = "# first\na\n\n  b\n# last\nc\n"
    assert after(body, LinesDocument(Text(body)).move((2,), 0)) == "# first\nc\n\n  a\n# last\nb\n"


@settings(max_examples=400)
@given(BODIES, ITEMS, st.data())
def test_every_edit_does_what_a_list_would_do(body: str, item: str, data: st.DataObject) -> None:
    document = LinesDocument(Text(body))
    items = [entry.value for entry in document.entries()]
    assert document.plain() == FORMATS["lines"].read_plainly(Text(body))
    at = data.draw(st.integers(0, len(items)))
    inserted = LinesDocument(Text(after(body, document.insert((at,), item))))
    assert [entry.value for entry in inserted.entries()] == [*items[:at], item, *items[at:]]
    assert after(inserted.text.body, inserted.remove((at,))).replace("\r\n", "\n").strip("\r\n") == body.replace(
        "\r\n", "\n"
    ).strip("\r\n")
    if len(items) > 1:
        start, to = data.draw(st.tuples(st.integers(0, len(items) - 1), st.integers(0, len(items) - 1)))
        moved = LinesDocument(Text(after(body, document.move((start,), to))))
        wanted = items.copy()
        wanted.insert(to, wanted.pop(start))
        assert [entry.value for entry in moved.entries()] == wanted


@pytest.mark.parametrize("item", ["", "  ", "two\nlines", "two\rlines", " led by a space", "# a comment", "tail "])
def test_what_cannot_be_an_entry_is_refused(item: str) -> None:
    with pytest.raises(EditRefused, match="cannot be an entry"):
        LinesDocument(Text("a\n")).insert((0,), item)
    with pytest.raises(EditRefused, match="cannot be an entry"):
        LinesDocument(Text("a\n")).set((0,), item)


def test_entries_that_are_not_there_are_refused() -> None:
    document = LinesDocument(Text("a\n"))
    for edit in (lambda: document.remove((1,)), lambda: document.set((3,), "x"), lambda: document.move((0,), 1)):
        with pytest.raises(EditRefused):
            edit()
    assert after("a\n", document.set((0,), "b")) == "b\n"


@pytest.mark.parametrize(
    ("before", "at", "wanted"),
    [
        ("a\ra\n\n# no", 2, "a\ra\nx\n\n# no"),
        ("a\r\nb\nc", 2, "a\r\nb\nx\nc"),
        ("a\nb\r\nc\r\n", 3, "a\nb\r\nc\r\nx\r\n"),
        ("a\r\n\nb\r", 1, "a\r\n\nx\nb\r"),
    ],
)
def test_a_new_line_ends_as_its_neighbours_do(before: str, at: int, wanted: str) -> None:
    assert after(before, LinesDocument(Text(before)).insert((at,), "x")) == wanted
