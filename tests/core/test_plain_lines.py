"""A file that a quick look takes for right is right when each line is looked at."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator
from importlib import import_module

import pytest

import sampling
from corpus_files import files, format_of
from roundgate.core.formats import FORMATS, problems_of
from roundgate.core.formats.protocol import USUAL, Dialect
from roundgate.core.text import Text, decode

NEVER = re.compile(r"(?!)")
FORMS = ("properties", "ini", "directives")
PIECES = [
    "\n",
    "\n",
    "\r\n",
    "a",
    "b",
    "set ",
    "=",
    " = ",
    ": ",
    '"',
    "'",
    "\\",
    "#",
    ";",
    "//",
    "/",
    "[",
    "]",
    "(",
    ")",
]
PIECES += [
    "a=1",
    "a 1",
    "[s]",
    "[s ]",
    "[ ]",
    "+a",
    "-",
    " ",
    "\t",
    "\f",
    "\r",
    "\u00a0",
    "\u201c",
    "\u2013",
    ",",
    "x.y",
]
PIECES += ["<<<<<<< ours", ">>>>>>> theirs", "\ufeff", "\u200b", "seta ", "SET ", "Seta ", "\u00e9"]


def texts(form: str) -> Iterator[str]:
    """Yield every file of the corpus, each with a piece put in or taken out, and texts of pieces alone."""
    chance = random.Random(20260731)
    bodies = [decode(path.read_bytes()).body for path in (*files("good"), *files("bad")) if format_of(path) == form]
    for body in bodies:
        yield body
        for _ in range(40 if sampling.ALL else 15):
            at = chance.randrange(len(body) + 1)
            yield body[:at] + chance.choice(PIECES) + body[at + chance.randrange(3) :]
    for verb in ("set", "SET", "Set", "sEtA", "SETU"):
        yield f"{verb} a 1\nb 2\nset a 3\n"
    for _ in range(4000 if sampling.ALL else 1000):
        yield "".join(chance.choices(PIECES, k=chance.randrange(1, 12)))


@pytest.mark.parametrize("form", FORMS)
def test_the_quick_look_overlooks_nothing(form: str, monkeypatch: pytest.MonkeyPatch) -> None:
    problems = import_module(f"roundgate.core.formats.{form}.problems")
    quick = 0
    for body in texts(form):
        for dialect in (USUAL, Dialect(quotes="kept"), Dialect(notes=True)):
            document = FORMATS[form].read(Text(body), dialect)
            if problems_of(document):
                continue
            with monkeypatch.context() as patch:
                patch.setattr(problems, "_PLAIN_LINE", NEVER)
                found = problems_of(FORMATS[form].read(Text(body), dialect))
            assert found == [], (body, dialect)
            quick += 1
    assert quick > 1000, "the quick look has to take some files for right"


def test_a_large_file_is_taken_for_right_by_the_quick_look() -> None:
    """Else the quick look would never be right, and nobody would notice."""
    for form, line in (
        ("properties", "key{} = a b\n# c\n"),
        ("ini", '[s{}]\nk="v"\n; c\n'),
        ("directives", 'set k{} "v" // c\n'),
    ):
        document = FORMATS[form].read(Text("".join(line.format(number) for number in range(1000))))
        assert list(problems_of(document)) == []
        assert not {"rows", "commands", "lines"} & set(document.__dict__), f"{form}: its lines were read one by one"
