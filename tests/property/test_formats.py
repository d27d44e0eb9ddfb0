"""Every format, over many examples: the same bytes, nothing but findings, and edits that do just what they promise."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from corpus_files import files, format_of
from roundgate.core.checks.standalone import problems_here
from roundgate.core.formats import FORMATS, apply_edit, problems_of
from roundgate.core.formats.protocol import Document, Edit, EditRefused
from roundgate.core.formats.protocol import Path as Where
from roundgate.core.repairs import with_repairs
from roundgate.core.text import NotEncodable, NotText, Text, decode

MANY = settings(max_examples=int(os.environ.get("MANY_EXAMPLES", "60")))
PIECES = {
    "json": [
        "{",
        "}",
        "[",
        "]",
        ",",
        ":",
        '"a"',
        '"b',
        "1",
        "true",
        "True",
        " ",
        "\n",
        "//x\n",
        "'c'",
        "\\",
        "=",
        "-",
        "\u201c",
    ],
    "yaml": [
        "a:",
        " ",
        "\n",
        "- ",
        "b",
        "  ",
        ":",
        "[",
        "]",
        "{",
        "}",
        ",",
        "'",
        '"',
        "#",
        "&x ",
        "*x",
        "|\n",
        "\t",
        "---\n",
        "!",
    ],
    "toml": [
        "a",
        "=",
        "1",
        "\n",
        "[",
        "]",
        '"',
        "'",
        ",",
        "{",
        "}",
        ".",
        " ",
        '"""',
        "#",
        "true",
        "2026-07-05",
        "[[b]]\n",
    ],
    "xml": [
        "<a>",
        "</a>",
        "<b",
        ">",
        "/>",
        ' x="1"',
        "&",
        "&amp;",
        "<!--",
        "-->",
        "\n",
        "t",
        "<",
        '"',
        "]]>",
        "<?xml ?>",
        "<![CDATA[",
    ],
    "lua": [
        "a",
        "=",
        "{",
        "}",
        ",",
        '"x"',
        "1",
        "\n",
        " ",
        "(",
        ")",
        "--",
        "[[",
        "]]",
        "function",
        "end",
        "/*",
        "*/",
        "'",
        ";",
        "f",
        "\\",
    ],
    "ini": ["[a]", "\n", "k", "=", "v", ";", "#", '"', " ", "(", ")", ",", "[", "]", ":", "+k=1", "'", "\\"],
    "directives": ["set ", "k", " ", "v", "\n", ";", '"', "//", "#", "+map ", "-port ", "1", "exec ", "\t", "=", '""'],
    "lines": ["a", " ", "\n", "#", "b c", "\t", ",", '"', "\r\n", "\r"],
    "properties": ["a", "=", ":", " ", "\n", "\\", "#", "!", "\\u00e9", "1", "\r\n", "\t"],
    "launch": [
        "#!/bin/sh\n",
        "exec ",
        "./s",
        " ",
        "-x",
        "=",
        "1",
        "\\\n",
        '"',
        "'",
        "\n",
        "$A",
        "A=2\n",
        ";",
        "&",
        "#",
        "--y ",
        "@echo off\n",
        "^\n",
    ],
}
NAMES = sorted(PIECES)
GOOD = {name: [path for path in files("good") if format_of(path) == name] for name in NAMES}


def body_of(name: str) -> st.SearchStrategy[str]:
    return st.lists(st.sampled_from(PIECES[name]), max_size=30).map("".join)


def look(name: str, text: Text) -> Document:
    """Read and check a text: every problem has a span in it and says something."""
    document = FORMATS[name].read(text)
    for problem in problems_here(f"x.{name}", document, name):
        assert 0 <= problem.start <= problem.end <= len(text.body) + 2, problem
        assert (problem.cause and problem.do) or problem.level == "note", problem
        assert all(0 <= cut.start <= cut.end <= len(text.body) for cut in problem.repair), problem
        text.spliced(problem.repair)
    for entry in (*document.entries(), *document.switched_off()):
        assert 0 <= entry.start <= entry.end <= len(text.body), entry
    return document


def tried(name: str, document: Document, make: Callable[[], Edit]) -> Document | None:
    """Make an edit, or see that it is refused with a reason."""
    try:
        edit = make()
        changed = apply_edit(FORMATS[name], document, edit)
    except (EditRefused, NotEncodable) as error:
        assert str(error)
        return None
    first = min((cut.start for cut in edit.splices), default=0)
    last = max((cut.end for cut in edit.splices), default=0)
    assert changed.text.body.startswith(document.text.body[:first])
    assert changed.text.body.endswith(document.text.body[last:])
    return changed


@pytest.mark.parametrize("name", NAMES)
def test_any_text_is_read_and_checked(name: str) -> None:
    @MANY
    @given(body_of(name))
    def check(body: str) -> None:
        look(name, Text(body))

    check()


@pytest.mark.parametrize("name", NAMES)
def test_any_bytes_come_out_as_they_went_in(name: str) -> None:
    @settings(max_examples=40)
    @given(st.binary(max_size=80))
    def check(data: bytes) -> None:
        try:
            text = decode(data)
        except NotText as error:
            assert str(error)
            return
        assert look(name, text).text.encode() == data

    check()


@pytest.mark.parametrize("name", NAMES)
def test_what_is_damaged_gives_findings_and_mending_makes_it_no_worse(name: str) -> None:
    @MANY
    @given(st.sampled_from(GOOD[name]), st.data())
    def check(path: Path, data: st.DataObject) -> None:
        body = path.read_text("utf-8")
        at = data.draw(st.integers(0, len(body)))
        end = data.draw(st.integers(at, min(len(body), at + 4)))
        new = data.draw(st.sampled_from(["", *PIECES[name]]))
        document = look(name, Text(body[:at] + new + body[end:]))
        before = sum(problem.level == "error" for problem in problems_of(document))
        try:
            after = with_repairs(FORMATS[name], document)
        except EditRefused:
            return
        assert sum(problem.level == "error" for problem in problems_of(after)) <= before

    check()


def maker(document: Document, verb: str, where: Where, value: str) -> Callable[[], Edit]:
    """Return what makes an edit of a kind at a place."""
    item = next((at for at in range(len(where), 0, -1) if isinstance(where[at - 1], int)), 0)
    makers: dict[str, Callable[[], Edit]] = {
        "set": lambda: document.set(where, value),
        "add": lambda: document.set((*where[:-1], "added"), value),
        "remove": lambda: document.remove(where),
        "rename": lambda: document.rename(where, "renamed"),
        "insert": lambda: document.insert(where[:item], value),
        "move": lambda: document.move(where[:item], 0),
        "off": lambda: document.switch(where, on=False),
        "on": lambda: document.switch(where, on=True),
    }
    return makers[verb]


@pytest.mark.parametrize("name", NAMES)
def test_one_edit_after_another(name: str) -> None:
    """Set, remove, rename, insert, move and switch, at random, each on what the one before left."""

    @MANY
    @given(st.sampled_from(GOOD[name]), st.data())
    def check(path: Path, data: st.DataObject) -> None:
        document: Document = FORMATS[name].read(decode(path.read_bytes()))
        for _ in range(4):
            entries = document.entries()
            if not entries:
                return
            where = data.draw(st.sampled_from(entries)).path
            value = data.draw(
                st.sampled_from(["7", "new", "two words", "it's", 'a "quote"', "a=b; c", "", "# x", "\u00e9", "a: b"])
            )
            verb = data.draw(st.sampled_from(["set", "add", "remove", "rename", "insert", "move", "off", "on"]))
            changed = tried(name, document, maker(document, verb, where, value))
            if changed is not None and verb == "set":
                found = changed.find(where)
                assert found is not None and found.value == value
                again = apply_edit(FORMATS[name], changed, changed.set(where, value))
                assert again.text == changed.text, "setting the same value twice changes nothing"
            document = changed or document

    check()
