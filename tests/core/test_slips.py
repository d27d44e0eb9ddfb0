"""Slips of the hand are found where they were made, and no repair that is made without asking ever harms."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from functools import cache

import pytest

from roundgate.core.formats import FORMATS, apply_edit, problems_of
from roundgate.core.formats.protocol import Dialect, Document, Edit, EditRefused
from roundgate.core.repairs import with_repairs
from roundgate.core.text import Text
from slips import RECORD, Damage, damages, recorded

LEAST = {
    "directives": (0.9, 0.7),
    "ini": (0.9, 0.85),
    "json": (0.95, 0.9),
    "launch": (0.85, 0.65),
    "lua": (0.85, 0.65),
    "toml": (0.95, 0.85),
    "xml": (0.9, 0.75),
    "yaml": (0.85, 0.6),
}
"""For each format the least share of slips found on their line, and of right repairs; the bench has the figures."""


@cache
def all_damages() -> list[Damage]:
    return list(damages(seed=7, each=2))


@pytest.mark.parametrize("name", sorted(LEAST))
def test_slips_are_found_on_their_line_and_no_safe_repair_harms(name: str) -> None:
    mine = [damage for damage in all_damages() if damage.format == name]
    assert len(mine) >= 15
    assert [item for item in mine if item.harmed] == []
    line, repair = LEAST[name]
    assert sum(item.on_line for item in mine) >= line * len(mine)
    assert sum(item.repaired for item in mine) >= repair * len(mine)


def test_what_is_told_of_each_slip_is_what_was_told_before() -> None:
    """Where this is meant to change, ``python tests/slips.py`` writes it anew."""
    assert recorded(all_damages()).splitlines() == RECORD.read_text("utf-8").splitlines()


HARMLESS = [
    ("lua", "x = {\n  a = n // 2,\n  b = {1 2 3\n}\n"),
    ("lua", "print(scores[team][1])\nx = { a = 1, b = = 2 }\n"),
    ("lua", 'x = { token os.getenv("T") }\n'),
    ("lua", "oops\nx = { a = 1 }\n"),
    ("json", '{\n  "a/b: "0.2.27",\n  "c": 1\n}\n'),
    ("json", '{\n  "a": {\n    "b": 1\n  ,\n  "c": 2\n}\n'),
    ("xml", '<ports>\n  <port value"1"/>\n</ports>\n'),
    ("xml", "<crew>\n  <name>Foo<name>\n</crew>\n"),
]


@pytest.mark.parametrize(("name", "body"), HARMLESS)
def test_what_is_not_certain_is_proposed_and_never_made(name: str, body: str) -> None:
    document = FORMATS[name].read(Text(body))
    assert any(problem.level == "error" for problem in problems_of(document))
    with suppress(EditRefused):
        assert with_repairs(FORMATS[name], document).text.body == body


@pytest.mark.parametrize(
    ("name", "body", "code", "line", "wanted"),
    [
        (
            "xml",
            '<ports>\n  <port value"1"/>\n</ports>\n',
            "equals-missing",
            2,
            '<ports>\n  <port value="1"/>\n</ports>\n',
        ),
        ("xml", "<crew>\n  <name>Foo<name>\n</crew>\n", "tag-unclosed", 2, "<crew>\n  <name>Foo</name>\n</crew>\n"),
        ("yaml", "crew:\n  - name Bob\n    boat: 1\n", "colon-absent", 2, "crew:\n  - name: Bob\n    boat: 1\n"),
        (
            "yaml",
            "crew:\n  - name: Ann\n    boat: 1\n  -name: Bob\n    boat: 2\n",
            "dash-space",
            4,
            "crew:\n  - name: Ann\n    boat: 1\n  - name: Bob\n    boat: 2\n",
        ),
        ("yaml", "crew:\n  - name:Bob\n    boat: 1\n", "colon-space", 2, "crew:\n  - name: Bob\n    boat: 1\n"),
        (
            "yaml",
            'crew:\n  - name: "Bob\n    boat: 1\n  - name: Ann\n',
            "quote-unclosed",
            2,
            'crew:\n  - name: "Bob"\n    boat: 1\n  - name: Ann\n',
        ),
        ("yaml", "crew:\n  - name: Bob\n\tboat: 1\n", "tab-indent", 3, "crew:\n  - name: Bob\n    boat: 1\n"),
        (
            "ini",
            "[crew]\nslots=1\nboat=2\nAdmins]\nname=Bob\n",
            "section-unclosed",
            4,
            "[crew]\nslots=1\nboat=2\n[Admins]\nname=Bob\n",
        ),
        (
            "ini",
            "[net]\nSlots=4\nPort:27015\nName=Quay\n",
            "separator-colon",
            3,
            "[net]\nSlots=4\nPort=27015\nName=Quay\n",
        ),
        ("ini", '[net]\nOptions=(Name="abc)\nSlots=4\n', "quote-open", 2, '[net]\nOptions=(Name="abc")\nSlots=4\n'),
        (
            "directives",
            'hostname = "My server"\nfog "1"\nwind "2"\n',
            "separator-equals",
            1,
            'hostname "My server"\nfog "1"\nwind "2"\n',
        ),
        ("directives", 'alias quick fog 0; wind 3"\nfog 1\n', "quote-open", 1, 'alias quick "fog 0; wind 3"\nfog 1\n'),
        ("yaml", "gull:\n  colour:blue\n", "colon-space", 2, "gull:\n  colour: blue\n"),
        ("directives", 'bind "w "+fog"\nwind 3\n', "quote-open", 1, 'bind "w" "+fog"\nwind 3\n'),
        (
            "launch",
            '#!/bin/sh\nARGS="--port 1 --listed\nexec ./gullwind $ARGS\n',
            "shell-quote",
            2,
            '#!/bin/sh\nARGS="--port 1 --listed"\nexec ./gullwind $ARGS\n',
        ),
        (
            "yaml",
            "boats:\n  gull:\n    colour: red\n  tern:\n    colour blue\n",
            "colon-absent",
            5,
            "boats:\n  gull:\n    colour: red\n  tern:\n    colour: blue\n",
        ),
        ("yaml", "gull: {slots 2}\n", "colon-absent", 1, "gull: {slots: 2}\n"),
        ("yaml", "gull:\n  slots:2\n", "colon-space", 2, "gull:\n  slots: 2\n"),
        ("lua", 'role("DECKHAND, { pay = 1 })\n', "quote-unclosed", 1, 'role("DECKHAND", { pay = 1 })\n'),
        ("lua", "crate = { chance tide, open = 1 }\n", "equals-missing", 1, "crate = { chance = tide, open = 1 }\n"),
        ("statements", 'name"Gull";\nslots = 4;\n', "equals-missing", 1, 'name = "Gull";\nslots = 4;\n'),
        ("xml", "<p>fair b>winds</b> and tides</p>\n", "tag-broken", 1, "<p>fair <b>winds</b> and tides</p>\n"),
        ("xml", "<a><b/><ctext</c></a>\n", "tag-broken", 1, "<a><b/><c>text</c></a>\n"),
        (
            "launch",
            "@echo off\nset SLOTS = 16\ngullwind.exe -slots %SLOTS%\n",
            "assignment-spaces",
            2,
            "@echo off\nset SLOTS=16\ngullwind.exe -slots %SLOTS%\n",
        ),
        (
            "launch",
            "@echo off\nset SLOTS=16\ngullwind.exe -slots %SLOTS -quiet\n",
            "variable-unset",
            3,
            "@echo off\nset SLOTS=16\ngullwind.exe -slots %SLOTS% -quiet\n",
        ),
    ],
)
def test_a_slip_gets_its_cause_its_line_and_the_right_repair(
    name: str, body: str, code: str, line: int, wanted: str
) -> None:
    document = FORMATS[name].read(Text(body))
    first = next(problem for problem in problems_of(document) if problem.code != "more-problems")
    assert (first.code, document.text.place(first.start)[0]) == (code, line)
    assert document.text.spliced(first.repair).body == wanted


def test_an_apostrophe_in_a_here_document_is_no_open_quote() -> None:
    body = "#!/bin/sh\ncat <<END\nIt's high tide\nEND\nexec ./gullwind --slots 4\n"
    assert [problem.code for problem in problems_of(FORMATS["launch"].read(Text(body)))] == []


@pytest.mark.parametrize(
    ("name", "body", "change", "wanted"),
    [
        ("launch", "#!/bin/sh\nJAVA=${JAVA:-$(command -v ${BIN} -x)}\nexec $JAVA --slots 4\n",
         lambda one: one.set(("$JAVA",), "/usr/bin/gull"), "#!/bin/sh\nJAVA=/usr/bin/gull\nexec $JAVA --slots 4\n"),
        ("launch", '#!/bin/sh\ncase "$1" in\n  start) echo go ;;\n  stop) echo halt ;;\nesac\n',
         lambda one: one.set(("--slots",), "4"), ""),
        ("directives", 'offer "Slow" "delay 9"\noffer "Fast" "delay 1"\nstart\n',
         lambda one: one.insert(("offer", 2), '"Mid" "delay 5"'),
         'offer "Slow" "delay 9"\noffer "Fast" "delay 1"\noffer "Mid" "delay 5"\nstart\n'),
        ("directives", 'set name "Quay"\nset fog 1\noffer "Slow" "delay 9"\noffer "Fast" "delay 1"\nstart\n',
         lambda one: one.set(("wind",), "3"),
         'set name "Quay"\nset fog 1\nset wind 3\noffer "Slow" "delay 9"\noffer "Fast" "delay 1"\nstart\n'),
        ("lines", "10.9.9.9 =\n10.9.9.8 =\n", lambda one: one.insert((2,), "10.9.9.7"),
         "10.9.9.9 =\n10.9.9.8 =\n10.9.9.7 =\n"),
    ],
)  # fmt: skip
def test_what_is_added_has_the_shape_of_its_neighbours_or_is_refused(
    name: str, body: str, change: Callable[[Document], Edit], wanted: str
) -> None:
    document = FORMATS[name].read(Text(body))
    if not wanted:
        with pytest.raises(EditRefused):
            change(document)
        return
    assert apply_edit(FORMATS[name], document, change(document)).text.body == wanted


@pytest.mark.parametrize(
    ("quotes", "body", "expected", "value", "wanted"),
    [
        ("", 'motto "low tide"\nfog 1\n', "low tide", "high tide", 'motto "high tide"\nfog 1\n'),
        ("none", 'motto "low tide"\nfog 1\n', '"low tide"', 'the "high" tide', 'motto the "high" tide\nfog 1\n'),
        ("none", "motto low\nfog 1\n", "low", "a;b", ""),
        ("escaped", 'motto "the \\"low\\" tide"\nfog 1\n', 'the "low" tide', 'a "b" \\c',
         'motto "a \\"b\\" \\\\c"\nfog 1\n'),
        ("escaped", "motto low\nfog 1\n", "low", "high; tide", 'motto "high; tide"\nfog 1\n'),
    ],
)  # fmt: skip
def test_quotes_of_a_command_file_are_what_its_dialect_says(
    quotes: str, body: str, expected: str, value: str, wanted: str
) -> None:
    kind, dialect = FORMATS["directives"], Dialect(quotes=quotes)  # type: ignore[arg-type]
    document = kind.read(Text(body), dialect)
    found = document.find(("motto",))
    assert found is not None
    assert found.value == expected
    assert [problem.code for problem in problems_of(document)] == []
    if not wanted:
        with pytest.raises(EditRefused):
            document.set(("motto",), value)
        return
    changed = apply_edit(kind, document, document.set(("motto",), value))
    assert changed.text.body == wanted
    assert changed.find(("motto",)).value == value  # type: ignore[union-attr]


@pytest.mark.parametrize(
    "body",
    [
        "about:\n  Fair winds\n",
        "about:\n  Fair winds to all sailors, and 4\n",
        "boats: {gull, tern}\n",
        "links:\n  club: https://saltmarsh.example\n  at:\n    10:30\n",
        "- slots 24 of\n- fog banks\n",
        "boats:\n  gull:\n    motto: x\n  tern:\n    Fair winds to all\n",
    ],
)
def test_a_text_of_words_is_no_lost_colon(body: str) -> None:
    assert problems_of(FORMATS["yaml"].read(Text(body))) == []
