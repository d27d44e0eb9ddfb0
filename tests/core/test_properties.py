"""Properties documents: how each kind of edit looks in its surroundings, text in, text out."""

from __future__ import annotations

import pytest

from roundgate.core.formats import FORMATS, apply_edit, problems_of
from roundgate.core.formats.properties.document import PropertiesDocument
from roundgate.core.formats.protocol import EditRefused
from roundgate.core.text import Text, decode


def changed(before: str, key: str, value: str | None, encoding: str = "utf-8") -> str:
    """Set (or with None remove) a key, and do it again: the second time must change nothing more."""
    document = PropertiesDocument(Text(before, encoding))
    edit = document.remove((key,)) if value is None else document.set((key,), value)
    after = apply_edit(FORMATS["properties"], document, edit)
    if value is not None:
        assert apply_edit(FORMATS["properties"], after, after.set((key,), value)).text == after.text
    return after.text.body


@pytest.mark.parametrize(
    ("before", "key", "value", "after"),
    [
        ("a=1\n", "a", "2", "a=2\n"),
        ("a = 1\n", "a", "2", "a = 2\n"),
        ("a: 1\n", "a", "2", "a: 2\n"),
        ("a 1\n", "a", "2", "a 2\n"),
        ("a\t1\n", "a", "2", "a\t2\n"),
        ("a\n", "a", "2", "a=2\n"),
        ("a=\n", "a", "2", "a=2\n"),
        ("a=1", "a", "2", "a=2"),
        ("  a=1\n", "a", "2", "  a=2\n"),
        ("a=one \\\n   two\nb=3\n", "a", "2", "a=2\nb=3\n"),
        ("a=1\na=2\n", "a", "3", "a=1\na=3\n"),
        ("a\\ b=1\n", "a b", "2", "a\\ b=2\n"),
        ("\\u0061=1\n", "a", "2", "\\u0061=2\n"),
        ("a=1\r\nb=2\r\n", "a", "3", "a=3\r\nb=2\r\n"),
        ("#a=1\n", "a", "2", "a=2\n"),
        ("# a = 1\nb=2\n", "a", "2", "a = 2\nb=2\n"),
        ("!a=1\n", "a", "2", "a=2\n"),
        ("#a=1\n#a=2\n", "a", "3", "#a=1\na=3\n"),
        ("# a is the number of boats\n", "a", "2", "# a is the number of boats\na=2\n"),
        ("boat.slots=1\nnet.port=2\n", "boat.name", "x", "boat.slots=1\nboat.name=x\nnet.port=2\n"),
        ("x = 1\n", "y", "2", "x = 1\ny = 2\n"),
        ("x=1", "y", "2", "x=1\ny=2"),
        ("", "y", "2", "y=2\n"),
        ("# only a comment", "y", "2", "# only a comment\ny=2"),
        ("x=1\r\n", "y", "2", "x=1\r\ny=2\r\n"),
        ("x=1\\", "y", "2", "x=1\\\n\ny=2"),
        ("a=1\n", "a", " two", "a=\\ two\n"),
        ("a=1\n", "a", "x\\y", "a=x\\\\y\n"),
        ("a=1\n", "a", "\n\t", "a=\\n\\t\n"),
        ("a=1\n", "a", "caf\u00e9", "a=caf\\u00E9\n"),
        ("a=1\nb=\u00e4\n", "a", "caf\u00e9", "a=caf\u00e9\nb=\u00e4\n"),
        ("a=1\n", "a", "\U0001f6a4", "a=\\uD83D\\uDEA4\n"),
        ("a=1\n", "#k", "v", "a=1\n\\#k=v\n"),
        ("a=1\n", "k=1", "v", "a=1\nk\\=1=v\n"),
    ],
)
def test_set(before: str, key: str, value: str, after: str) -> None:
    assert changed(before, key, value) == after


@pytest.mark.parametrize(
    ("before", "key", "after"),
    [
        ("a=1\nb=2\n", "a", "b=2\n"),
        ("a=1\nb=2", "b", "a=1\n"),
        ("a=1\na=2\nb=3\n", "a", "b=3\n"),
        ("x=1\n\n# about a\na=1\n\nb=2\n", "a", "x=1\n\n\nb=2\n"),
        ("# the whole file\na=1\n\nb=2\n", "a", "# the whole file\n\nb=2\n"),
        ("x=1\n\n# about both\na=1\nb=2\n", "a", "x=1\n\n# about both\nb=2\n"),
        ("x=1\n\n#c=off\na=1\n\n", "a", "x=1\n\n#c=off\n\n"),
        ("a=one \\\n two\nb=2\n", "a", "b=2\n"),
    ],
)
def test_remove_takes_a_comment_along_only_where_it_is_the_entrys_alone(before: str, key: str, after: str) -> None:
    assert changed(before, key, None) == after


def test_latin_1_files_stay_latin_1() -> None:
    text = decode(b"motto=caf\xe9\nboat.slots=1\n")
    document = PropertiesDocument(text)
    after = apply_edit(FORMATS["properties"], document, document.set(("boat.slots",), "2"))
    assert after.text.encode() == b"motto=caf\xe9\nboat.slots=2\n"
    again = apply_edit(FORMATS["properties"], after, after.set(("motto",), "\u20ac\u00e9"))
    assert again.text.encode() == b"motto=\\u20AC\\u00E9\nboat.slots=2\n"


@pytest.mark.parametrize(
    "edit", [lambda one: one.insert((0,), "x"), lambda one: one.move((0,), 1), lambda one: one.remove(("q",))]
)
def test_what_a_properties_file_cannot_do_is_refused(edit: object) -> None:
    with pytest.raises(EditRefused):
        edit(PropertiesDocument(Text("a=1\n")))  # type: ignore[operator]


def test_an_edit_that_would_change_more_is_refused() -> None:
    """The confirming reader is asked to agree to something that the splices do not do."""
    document = PropertiesDocument(Text("a=1\nb=2\n"))
    edit = document.set(("a",), "3")
    lying = type(edit)(edit.splices, [("a", "3")])
    with pytest.raises(EditRefused, match="cannot be changed safely"):
        apply_edit(FORMATS["properties"], document, lying)


@pytest.mark.parametrize(
    ("body", "codes"),
    [
        ("a=1\n# a comment\n! another\n\n  \nb : 2\n", []),
        ("path=C:\\\\charts\\\\old\n", []),
        ("motto=caf\\u00e9 \\t \\n\n", []),
        ("motto=one\\\n  two\n", []),
        ("url=http://a.b/c?d=e\n", []),
        ('motto=he said "no"\n', []),
        ("=======\n", []),
        ("a=\\u12\n", ["escape-broken"]),
        ("a\\u1=1\n", ["escape-broken"]),
        ("a=\\\\u12\n", []),
        ("a=\\q\n", ["backslash-lost"]),
        ("a=\\\\q\n", []),
        ("a=1\na=2\na=3\n", ["key-twice", "key-twice"]),
        ("boat slots=24\n", ["key-with-space"]),
        ("motto fair winds\n", []),
        ("alone\n", ["key-alone"]),
        ("a=x\\\nboat.slots=24\n", ["line-runs-on"]),
        ("a=x\\", ["end-backslash"]),
        ("a=x\\\\", []),
        ("a=\u201cx\u201d\n", ["quotes-kept"]),
        ("a='x'\n", ["quotes-kept"]),
        ("a=' \n", ["space-at-end"]),
        ("a=1\t\n", ["space-at-end"]),
        ("a=1\\ \n", []),
        ("a=\u200b1\n", ["hidden-character"]),
        ("a\u00a0=1\n", ["hidden-character"]),
        (
            "<<<<<<< ours\na=1\n=======\na=2\n>>>>>>> theirs\n",
            ["merge-marker", "key-twice", "merge-marker", "merge-marker"],
        ),
        (" \n\n", ["file-empty"]),
    ],
)
def test_each_mistake_is_noticed_and_what_is_right_is_left_alone(body: str, codes: list[str]) -> None:
    found = [
        problem.code
        for problem in problems_of(PropertiesDocument(Text(body)))
        if problem.code != "key-alone" or "<" not in body
    ]
    assert found == codes
