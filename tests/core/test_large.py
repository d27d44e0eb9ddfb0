"""A mistake deep in a large file is found as it is in a small one, and what is right there is left alone.

Above some sizes a file is first looked over as a whole, some second readers are not asked, and a reader of broken
texts stops after the mistake: none of that may change what is said.
"""

from __future__ import annotations

from collections.abc import Callable

import pytest

from roundgate.core.checks.standalone import problems_here
from roundgate.core.formats import FORMATS
from roundgate.core.text import Text

SIZE = 260_000
RECORDS: dict[str, tuple[Callable[[int], str], str, str]] = {
    "json": (lambda n: f' {{"id": "GW-{n}", "loot": [1, 2], "x": {n}}},\n', "[\n", " 0]\n"),
    "yaml": (lambda n: f"rank{n}:\n  rights: [a.b, c.d]\n  pay: {n}\n", "", ""),
    "toml": (lambda n: f'[[levels]]\nname = "Level {n}"\npoints = {n}\n', "", ""),
    "xml": (lambda n: f'  <buoy id="B{n}" y="{n}">red</buoy>\n', "<buoys>\n", "</buoys>\n"),
    "lua": (lambda n: f'role("R{n}", {{\n  pay = {n},\n  open = true,\n}})\n', "", ""),
    "properties": (lambda n: f"boat.number{n}.slots={n}\n# note\n", "", ""),
    "ini": (lambda n: f'[boat{n}]\nslots={n}\nname="Gull {n}"\n', "", ""),
    "directives": (lambda n: f'set sv_boat{n} "Gull {n}" // note\n', "", ""),
    "lines": (lambda n: f"GW-{n:06}-WREN\n", "", ""),
}
MISTAKES = [
    ("json", '"GW-{n}", "loot"', '"GW-{n}" "loot"', "comma-missing"),
    ("json", '"x": {n}}},', '"x": {n},', "bracket-unclosed"),
    ("json", '"x": {n}}}', '"x": {n}, "x": 1}}', "key-twice"),
    ("yaml", "pay: {n}\n", "pay:{n}\n", "colon-space"),
    ("yaml", "  pay: {n}\n", "\tpay: {n}\n", "tab-indent"),
    ("yaml", "  pay: {n}\n", "  pay: {n}\n  pay: 1\n", "key-twice"),
    ("toml", "points = {n}\n", "points = Level {n}\n", "quote-missing"),
    ("toml", "points = {n}\n", "points = [{n}\n", "bracket-unclosed"),
    ("xml", 'y="{n}"', "y={n}", "attribute-unquoted"),
    ("xml", 'y="{n}">red</buoy>', 'y="{n}">red', "tag-unclosed"),
    ("lua", "pay = {n},", "pay = {n}", "comma-missing"),
    ("lua", '"R{n}"', "\u201cR{n}\u201d", "quote-curly"),
    ("properties", "number{n}.slots=", "number{n} slots=", "key-with-space"),
    ("properties", "number{n}.slots={n}\n", "number{n}.slots={n} \n", "space-at-end"),
    ("properties", "boat.number{n}.slots", "boat.number1.slots", "key-twice"),
    ("ini", "[boat{n}]", "[boat{n}", "section-unclosed"),
    ("ini", "slots={n}\n", "slots {n}\n", "separator-missing"),
    ("ini", '"Gull {n}"', '"Gull {n}', "quote-open"),
    ("directives", '"Gull {n}" ', '"Gull {n} ', "quote-open"),
    ("directives", "set sv_boat{n} ", "sv_boat{n}=", "separator-equals"),
    ("lines", "GW-{n:06}-WREN\n", "GW-{n:06}-WREN,\n", "comma-at-end"),
    ("lines", "GW-{n:06}-WREN\n", "GW-{n:06}\N{NO-BREAK SPACE}WREN\n", "hidden-character"),
]


def body_of(name: str) -> tuple[str, int]:
    """Return a large right text of a format, and how many records it has."""
    make, head, tail = RECORDS[name]
    count = SIZE // len(make(5_000))
    return head + "".join(make(number) for number in range(count)) + tail, count


def codes_in(name: str, body: str) -> list[tuple[str, int]]:
    text = Text(body)
    return [(problem.code, text.place(problem.start)[0]) for problem in problems_here("", FORMATS[name].read(text), "")]


@pytest.mark.parametrize("name", RECORDS)
def test_what_is_right_is_left_alone(name: str) -> None:
    body, _ = body_of(name)
    assert len(body) > 200_000
    assert codes_in(name, body) == []


@pytest.mark.parametrize(("name", "old", "new", "code"), MISTAKES)
def test_a_mistake_near_the_end_is_found_in_its_line(name: str, old: str, new: str, code: str) -> None:
    body, count = body_of(name)
    number = count - 50
    right, wrong = old.format(n=number), new.format(n=number)
    assert body.count(right) == 1
    at = Text(body).place(body.index(right))[0]
    found = codes_in(name, body.replace(right, wrong))
    assert [one for one, _ in found] == [code]
    line = found[0][1]
    assert line == at or code in ("key-twice",), (line, at)
