"""What is commented out and switched on again is as it was: every name of every good file of the corpus."""

from __future__ import annotations

from pathlib import Path

import pytest

from corpus_files import each_file, format_of
from roundgate.core.formats import FORMATS, apply_edit, apply_switch, problems_of
from roundgate.core.formats.protocol import Dialect, Document, EditRefused
from roundgate.core.formats.protocol import Path as Path_
from roundgate.core.text import decode

NO_WAY_BACK = {"lines"}
"""A comment in a list may be anything, so it is not switched on again."""

EXOTIC = {("lua", "[1]"), ("properties", "a b"), ("yaml", "key with 'quote'")}
"""Names that are written so rarely in that way that their comments are not read as names."""

REASONS = (
    "alone can be commented out",
    "can be commented out",
    "cannot be commented out",
    "cannot hold what is switched off",
    "stands there no longer",
    "whole file",
    "more than once",
    "last of its table",
    "two dashes in a row",
    "shares",
    "no such element",
    "--here-only",
    "could not be let back in",
    "cannot be taken out",
)


def names(document: Document) -> list[Path_]:
    """Return the path of every value, and of every map that holds one."""
    paths = [entry.path[:length] for entry in document.entries() for length in range(1, len(entry.path) + 1)]
    return [path for path in dict.fromkeys(paths) if isinstance(path[-1], str) and document.find(path) is not None]


@each_file("good")
def test_off_and_on_again_is_as_before(path: Path) -> None:
    kind = FORMATS[format_of(path)]
    document = kind.read(decode(path.read_bytes()))
    for name in names(document):
        try:
            off = apply_switch(kind, document, name, on=False)
        except EditRefused as reason:
            assert any(one in str(reason) for one in REASONS), (name, str(reason))
            assert "let back in" not in str(reason) or (format_of(path), name[-1]) in EXOTIC, name
            continue
        assert off.find(name) is None, (name, off.text.body)
        assert len(off.text.body) > len(document.text.body), "what is commented out still stands there"
        if format_of(path) in NO_WAY_BACK:
            continue
        on = apply_switch(kind, off, name, on=True)
        assert on.plain() == document.plain(), name
        assert on.text.body.replace(",", "") == document.text.body.replace(",", ""), name
        if format_of(path) != "lua":  # a field that was the last one may get a comma, for it need not be the last now
            assert on.text.body == document.text.body, name


@pytest.mark.parametrize(
    ("form", "text", "name"),
    [
        ("yaml", "a: 1\n# b: 2\n", ("b",)),
        ("yaml", "m:\n  # b: 'x'  # why\n  a: 1\n", ("m", "b")),
        ("toml", "[t]\na = 1\n  # b = 2 # why\n", ("t", "b")),
        ("lua", "t = {\n  a = 1,\n  -- b = 2,\n}\n", ("t", "b")),
        ("ini", "[s]\na=1\n; b=2\n", ("s", "b")),
        ("properties", "a=1\n# b=2\n", ("b",)),
        ("directives", "set a 1\n// set b 2\n", ("b",)),
    ],
)
def test_a_new_value_for_what_stands_commented_out_goes_there(form: str, text: str, name: Path_) -> None:
    kind = FORMATS[form]
    document = kind.read(decode(text.encode()))
    changed = apply_edit(kind, document, document.set(name, "7"))
    output = changed.find(name)
    assert output is not None
    assert output.value == "7"
    assert len(changed.text.body.splitlines()) == len(text.splitlines()), changed.text.body


CRATES = """{
  // what floats
  "crates": {
    "rope": 2,
    "net": {
      "chance": 0.5, // half, so {to speak}
      "of": [1, 2]
    },
    "last": "x" // the end
  }, "beside": 1,
  "only": {
    "one": true
  }
}
"""


@pytest.mark.parametrize("last_comma", [False, True])
@pytest.mark.parametrize("newline", ["\n", "\r\n"])
def test_json_with_comments_too(newline: str, *, last_comma: bool) -> None:
    kind, text = FORMATS["json"], CRATES.replace("\n", newline)
    document = kind.read(decode(text.encode()), Dialect(comments=True, last_comma=last_comma))
    done = []
    for name in names(document):
        try:
            off = apply_switch(kind, document, name, on=False)
        except EditRefused as reason:
            assert "lines to itself" in str(reason), (name, str(reason))
            continue
        assert off.find(name) is None
        assert apply_switch(kind, off, name, on=True).text.body == text, off.text.body
        done.append(name[-1])
    assert done == ["rope", "net", "chance", "of", "last", "only", "one"]


def test_json_without_comments_says_why_not() -> None:
    document = FORMATS["json"].read(decode(b'{\n  "a": 1,\n  "b": 2\n}\n'))
    with pytest.raises(EditRefused, match="reads no comments"):
        document.switch(("a",), on=False)


def test_signs_in_a_comment_are_no_signs() -> None:
    """A bracket or a comma in a comment neither closes anything nor parts it from what follows."""
    crate = FORMATS["json"].read(decode(b'{"a": 1, // of {4}\n"b": 2}\n'), Dialect(comments=True, last_comma=True))
    assert list(problems_of(crate)) == []
    kind = FORMATS["lua"]
    berth = kind.read(decode(b"t = {\n  a = 1 -- one, so to speak\n  -- z = 2,\n}\n"))
    on = apply_switch(kind, berth, ("t", "z"), on=True)
    assert on.text.body == "t = {\n  a = 1, -- one, so to speak\n  z = 2,\n}\n"
