"""The guards around edits and repairs: a change that does more than it says is refused, whatever asked for it."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path

import pytest

from corpus_files import each_file, format_of
from roundgate.core.advice import advice_for
from roundgate.core.findings import Problem
from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.places import near_keys
from roundgate.core.formats.protocol import Edit, EditRefused
from roundgate.core.repairs import with_repairs
from roundgate.core.rulebook.model import Setting
from roundgate.core.text import Splice, Text, decode


@each_file("good")
def test_an_edit_that_also_changes_something_else_is_refused(path: Path) -> None:
    """Each file: one value is changed, and another one with it, of which the edit says nothing."""
    kind = FORMATS[format_of(path)]
    document = kind.read(decode(path.read_bytes()))
    values = [
        entry
        for entry in document.entries()
        if entry.end > entry.start and entry.value.isalnum() and entry.kind == "text"
    ]
    tried = 0
    for first, other in pairwise(values):
        at = document.text.body.find(other.value, other.start, other.end)
        if other.start < first.end or at < 0:
            continue
        try:
            edit = document.set(first.path, "tern")
        except EditRefused:
            continue
        if any(cut.start <= other.start <= cut.end or cut.start <= other.end <= cut.end for cut in edit.splices):
            continue
        smuggled = Splice(at, at, "x")
        with pytest.raises(EditRefused):
            apply_edit(kind, document, Edit((*edit.splices, smuggled), edit.expected))
        tried += 1
    assert tried or len(values) < 4, "there is something to try in a file of several values"


def test_an_edit_that_changes_a_text_fed_to_a_command_is_refused() -> None:
    body = "#!/bin/sh\ncat > note.txt <<END\nslots 3\nEND\nexec ./gullwind --slots 4\n"
    document = FORMATS["launch"].read(Text(body))
    edit = document.set(("--slots",), "5")
    at = body.index("slots 3") + 6
    with pytest.raises(EditRefused):
        apply_edit(FORMATS["launch"], document, Edit((*edit.splices, Splice(at, at + 1, "9")), edit.expected))


def test_a_quoted_variable_takes_a_value_with_blanks() -> None:
    document = FORMATS["launch"].read(Text('#!/bin/sh\nNAME=gull\nexec ./gullwind --name "$NAME"\n'))
    after = apply_edit(FORMATS["launch"], document, document.set(("$NAME",), "gull club"))
    assert 'NAME="gull club"' in after.text.body


@pytest.mark.parametrize(
    ("body", "at", "new", "wanted"),
    [
        ("a\rb\r\nc\r", 2, "x\n", "a\rx\rb\r\nc\r"),
        ("a\r\nb\rc", 5, "x\n", "a\r\nb\rx\rc"),
        ("a\rb\nc", 4, "x\n", "a\rb\nx\nc"),
        ("a\rb\nc", 3, "x\n", "a\rbx\n\nc"),
        ("a\r\nb\nc\r\n", 3, "x\n", "a\r\nx\r\nb\nc\r\n"),
        ("a\r\n\nb", 3, "x\n", "a\r\nx\r\n\nb"),
        ("a\n\r\nb", 2, "x\n", "a\nx\n\r\nb"),
        ("a\r\nb\r", 5, "\nx", "a\r\nb\r\rx"),
    ],
)
def test_a_new_line_end_is_its_neighbours_and_never_joins_them(body: str, at: int, new: str, wanted: str) -> None:
    text = Text(body)
    assert text.spliced(text.with_neighbours_ends([Splice(at, at, new)])).body == wanted


@pytest.mark.parametrize(("only", "added"), [("Fair winds:", "Calm"), ("one,", "two"), ("10.9.9.9 =", "10.8.8.8 =")])
def test_one_entry_shows_no_habit_but_an_equals_sign(only: str, added: str) -> None:
    document = FORMATS["lines"].read(Text(f"{only}\n"))
    after = apply_edit(FORMATS["lines"], document, document.insert((1,), added.removesuffix(" =")))
    assert after.text.body == f"{only}\n{added}\n"


@pytest.mark.parametrize(
    ("when", "value", "expected"), [("", 3, True), ("race.slots > 8", 3, False), ("race.slots > 8", 9, True)]
)
def test_advice_comes_where_its_condition_holds(when: str, value: int, expected: bool) -> None:
    spec = Setting(file="core", key="slots", type="int", advice="Mind the quay.", advice_when=when)
    assert bool(advice_for("race.slots", spec, {"race.slots": value})) == expected


@dataclass
class Sketch:
    """A document of a format that is only made up for this test: every ``?`` in it is a mistake."""

    text: Text
    dialect: object = None


@dataclass
class Sketches:
    """Its format. ``repair`` gives what takes the place of a mistake."""

    repair: str
    span: int = 1
    name: str = "sketch"
    read_texts: list[str] = field(default_factory=list)

    def read(self, text: Text, dialect: object = None) -> Sketch:
        self.read_texts.append(text.body)
        return Sketch(text)

    def problems(self, document: Sketch) -> list[Problem]:
        found = [at for at, char in enumerate(document.text.body) if char == "?"]
        return [
            Problem(
                "odd", "error", at, at + 1, "It is odd.", "Fix it.", (Splice(at, at + self.span, self.repair),), True
            )
            for at in found
        ]


def test_repairs_that_make_more_errors_are_not_made() -> None:
    worse = Sketches("??")
    with pytest.raises(EditRefused, match="would not make the file better"):
        with_repairs(worse, Sketch(Text("a?b")))  # type: ignore[arg-type]
    good = Sketches("!")
    assert with_repairs(good, Sketch(Text("a?b?"))).text.body == "a!b!"  # type: ignore[arg-type]


def test_repairs_that_touch_one_another_are_made_one_after_the_other() -> None:
    wide = Sketches("!", span=2)
    assert with_repairs(wide, Sketch(Text("??a?b"))).text.body == "!a!"  # type: ignore[arg-type]
    assert len(wide.read_texts) == 1
    chained = Sketches("", span=1)
    assert with_repairs(chained, Sketch(Text("a??b"))).text.body == "ab"  # type: ignore[arg-type]
    assert len(chained.read_texts) == 2


def test_every_key_with_the_same_ending_is_offered() -> None:
    body = '{"Server": {"EnablePvP": true}, "Arena": {"enablepvp": false}, "Quay": {"EnablePvE": true}}'
    assert near_keys(FORMATS["json"].read(Text(body)), "EnablePvP") == ["Server.EnablePvP", "Arena.enablepvp"]
