"""A value of a large file is changed by reading the lines around it: exactly as it would be by reading all of it."""

from __future__ import annotations

from pathlib import Path

import pytest

from corpus_files import files, format_of, name_of
from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.protocol import USUAL, Dialect, EditRefused, Entry
from roundgate.core.formats.protocol import Path as Path_
from roundgate.core.formats.shared import window as nearby
from roundgate.core.text import Text, decode

OF_LINES = ("properties", "ini", "directives", "lines")
FILES = [path for folder in ("good", "bad") for path in files(folder) if format_of(path) in OF_LINES]

Outcome = tuple[str, Entry | None, Entry | None] | str


def outcome(form: str, text: Text, dialect: Dialect, path: Path_, value: str) -> Outcome:
    """Return the text after an edit, what was found before and what is found then, or why it was refused."""
    kind = FORMATS[form]
    document = kind.read(text, dialect)
    try:
        before = document.find(path)
        changed = apply_edit(kind, document, document.set(path, value))
    except EditRefused as reason:
        return str(reason)
    return changed.text.body, before, changed.find(path)


@pytest.mark.parametrize("dialect", [USUAL, Dialect(counts="first")], ids=["last", "first"])
@pytest.mark.parametrize("path", FILES, ids=name_of)
def test_near_is_as_whole(path: Path, dialect: Dialect, monkeypatch: pytest.MonkeyPatch) -> None:
    """One line above and one below are enough; each file stands twice in the text, so that every key does."""
    form = format_of(path)
    text = decode(path.read_bytes())
    for body in (text.body * 2, text.body.replace("\n", "\r\n")):
        many = text.with_body(body)
        found = [entry.path for entry in FORMATS[form].read(many, dialect).entries()]
        for name in dict.fromkeys([*found, *((*item, 1) for item in found), ("not there",)]):
            for value in ("7", 'x"y \\'):
                monkeypatch.setattr(nearby, "LARGE", 10**9)
                whole = outcome(form, many, dialect, name, value)
                monkeypatch.setattr(nearby, "LARGE", 0)
                monkeypatch.setattr(nearby, "AROUND", 1)
                assert outcome(form, many, dialect, name, value) == whole, (name, value)


def test_an_edit_outside_the_lines_is_not_confirmed() -> None:
    kind = FORMATS["properties"]
    body = "".join(f"key{number}=1\n" for number in range(40_000))
    document = kind.read(Text(body))
    edit = document.set(("key20000",), "2")
    assert isinstance(edit.expected, nearby.Within)
    right = document.text.spliced(edit.splices)
    assert kind.confirms(kind.read(right), edit.expected)
    for wrong in (
        right.body.replace("key7=1", "key7=3"),
        right.body.replace("key39999=1", "key39999=3"),
        right.body.replace("key20001=1", "key20001=3"),
        right.body.replace("key20020=1\n", "key20020=1\\\n"),
        right.body + "more=1\n",
        body,
    ):
        assert not kind.confirms(kind.read(Text(wrong)), edit.expected)


@pytest.mark.parametrize("end", ["\\", "\\\n", "a\\\n\\", "=\\", "# \\"])
def test_a_large_file_that_ends_in_a_backslash_is_read_to_its_end(end: str) -> None:
    """A last line that promises another one has none after it; looking for that one must come to an end."""
    kind = FORMATS["properties"]
    document = kind.read(Text("".join(f"key{number}=1\n" for number in range(30_000)) + f"last={end}"))
    for name in ("key7", "key29999", "last"):
        changed = apply_edit(kind, document, document.set((name,), "2"))
        found = changed.find((name,))
        assert found is not None
        assert found.value == "2"
