"""Properties files, over many examples: the same bytes out, exactly the asked-for change, and nothing but findings."""

from __future__ import annotations

import javaproperties
from hypothesis import given, settings
from hypothesis import strategies as st

from roundgate.core.formats import FORMATS, apply_edit, problems_of
from roundgate.core.formats.properties.document import PropertiesDocument
from roundgate.core.text import NotText, Text, decode

MANY = settings(max_examples=400)
SNIPPETS = st.sampled_from(
    [
        "a",
        "b.c",
        "boat.slots",
        "=",
        ":",
        " ",
        "\t",
        "\f",
        "\n",
        "\r\n",
        "\r",
        "\\",
        "#",
        "!",
        "\\u00e9",
        "\\u12",
        "ä",
        "24",
        "==",
    ]
)
BODIES = st.lists(SNIPPETS, max_size=40).map("".join)
VALUES = st.text(st.characters(exclude_categories=["Cs"], exclude_characters="\0"), max_size=12)
KEYS = st.one_of(st.sampled_from(["a", "b.c", "boat.slots", "boat.name"]), VALUES)
TEXTS = st.builds(Text, BODIES, st.sampled_from(["utf-8", "latin-1", "utf-16-le"]), st.just(b""))


@MANY
@given(st.binary(max_size=200))
def test_any_bytes_in_the_same_bytes_out(data: bytes) -> None:
    try:
        text = decode(data)
    except NotText as error:
        assert str(error)
        return
    assert text.encode() == data
    document = PropertiesDocument(text)
    for problem in problems_of(document):
        assert 0 <= problem.start <= problem.end <= len(text.body)
    assert document.plain() == FORMATS["properties"].read_plainly(text)


@MANY
@given(BODIES)
def test_three_readers_that_share_nothing_agree(body: str) -> None:
    """Ours by pattern, ours by lines, and the javaproperties package."""
    ours = PropertiesDocument(Text(body)).plain()
    theirs = None
    try:
        theirs = [
            (one.key, one.value) for one in javaproperties.parse(body) if isinstance(one, javaproperties.KeyValue)
        ]
    except javaproperties.InvalidUEscapeError:
        assert any(problem.code == "escape-broken" for problem in problems_of(PropertiesDocument(Text(body))))
    assert ours == FORMATS["properties"].read_plainly(Text(body))
    assert theirs is None or ours == theirs


@MANY
@given(TEXTS, KEYS, VALUES)
def test_set_gives_the_value_and_leaves_every_other_byte(text: Text, key: str, value: str) -> None:
    document = PropertiesDocument(text)
    edit = document.set((key,), value)
    changed = apply_edit(FORMATS["properties"], document, edit)
    found = changed.find((key,))
    assert found is not None and found.value == value
    others = [pair for pair in document.plain() if pair[0] != key]
    assert [pair for pair in changed.plain() if pair[0] != key] == others
    first, last = min(cut.start for cut in edit.splices), max(cut.end for cut in edit.splices)
    assert changed.text.body.startswith(text.body[:first])
    assert changed.text.body.endswith(text.body[last:])
    again = apply_edit(FORMATS["properties"], changed, changed.set((key,), value))
    assert again.text == changed.text, "setting the same value twice changes nothing"


@MANY
@given(TEXTS, st.data())
def test_remove_takes_out_the_key_and_nothing_else(text: Text, data: st.DataObject) -> None:
    document = PropertiesDocument(text)
    if not document.entries():
        return
    path = data.draw(st.sampled_from([entry.path for entry in document.entries()]))
    changed = apply_edit(FORMATS["properties"], document, document.remove(path))
    assert changed.find(path) is None
    assert changed.plain() == [pair for pair in document.plain() if (pair[0],) != path]


@MANY
@given(st.sampled_from(["\n", "\r\n", "\r"]), VALUES.filter(lambda value: value.strip() == value), st.booleans())
def test_a_setting_that_stands_commented_out_is_switched_on_in_its_place(
    newline: str, value: str, closed: bool
) -> None:
    body = newline.join(["# about boats", "a=1", "# boat.slots = 12", "b=2"]) + (newline if closed else "")
    changed = apply_edit(
        FORMATS["properties"],
        PropertiesDocument(Text(body)),
        PropertiesDocument(Text(body)).set(("boat.slots",), value),
    )
    lines = changed.text.body.split(newline)
    assert lines[2].startswith("boat.slots = ")
    assert [lines[at] for at in (0, 1, 3)] == ["# about boats", "a=1", "b=2"]
    assert changed.text.body.endswith(newline) == closed
