"""How each kind of edit looks in its surroundings, for every format: text in, text out."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from edits import RECORD, edits
from roundgate.core.formats import FORMATS, apply_edit, problems_of
from roundgate.core.formats.protocol import Dialect, Document, Edit, EditRefused
from roundgate.core.text import Text

Make = Callable[[Document], Edit]


def edited(name: str, before: str, make: Make, dialect: Dialect | None = None) -> str:
    document = FORMATS[name].read(Text(before), dialect or Dialect())
    return apply_edit(FORMATS[name], document, make(document)).text.body


CASES: list[tuple[str, str, Make, str]] = [
    # JSON
    ("json", '{\n  "a": 1\n}\n', lambda d: d.set(("b",), "2"), '{\n  "a": 1,\n  "b": 2\n}\n'),
    ("json", '{"a":1}', lambda d: d.set(("b", "c"), "x"), '{"a":1,"b":{"c": "x"}}'),
    ("json", '{"a": {}}', lambda d: d.set(("a", "b"), "true"), '{"a": {"b": true}}'),
    ("json", "[1, 2]", lambda d: d.insert((1,), "9"), "[1, 9, 2]"),
    ("json", '[\n  "a",\n  "b"\n]', lambda d: d.insert((2,), "c"), '[\n  "a",\n  "b",\n  "c"\n]'),
    ("json", '[\n  "a",\n  "b"\n]', lambda d: d.remove((1,)), '[\n  "a"\n]'),
    ("json", '[\n  "a",\n  "b"\n]', lambda d: d.move((1,), 0), '[\n  "b",\n  "a"\n]'),
    ("json", '{"a": 1, "b": 2}', lambda d: d.remove(("a",)), '{"b": 2}'),
    ("json", '{"a": 1, "b": 2}', lambda d: d.remove(("b",)), '{"a": 1}'),
    ("json", '{"a": 1, "b": 2}', lambda d: d.rename(("a",), "c"), '{"c": 1, "b": 2}'),
    ("json", '{"a": "x"}', lambda d: d.set(("a",), "7"), '{"a": "7"}'),
    ("json", '{"a": "x"}', lambda d: d.set(("a",), "7", "number"), '{"a": 7}'),
    ("json", '[{"id": "A"}]', lambda d: d.insert((1,), {"id": "B", "n": 1}), '[{"id": "A"}, {"id": "B", "n": 1}]'),
    # statements
    ("statements", "a = 1; // one\nb = 2;\n", lambda d: d.set(("a",), "9"), "a = 9; // one\nb = 2;\n"),
    ("statements", 'name = "Gull";\n', lambda d: d.set(("name",), 'a "b"'), 'name = "a ""b""";\n'),
    (
        "statements",
        "class Bay {\n    slots = 4;\n};\n",
        lambda d: d.set(("Bay", "slots"), "5"),
        "class Bay {\n    slots = 5;\n};\n",
    ),
    (
        "statements",
        "class Bay {\n    slots = 4;\n};\n",
        lambda d: d.set(("Bay", "deep"), "5"),
        "class Bay {\n    slots = 4;\n    deep = 5;\n};\n",
    ),
    ("statements", 'list[] = {"a", "b"};\n', lambda d: d.insert(("list", 2), "c"), 'list[] = {"a", "b", "c"};\n'),
    ("statements", 'list[] = {"a", "b"};\n', lambda d: d.remove(("list", 0)), 'list[] = {"b"};\n'),
    ("statements", "a = 1;\nb = 2;\n", lambda d: d.remove(("a",)), "b = 2;\n"),
    ("statements", "a = 1;\n", lambda d: d.set(("b",), "2"), "a = 1;\nb = 2;\n"),
    # YAML
    ("yaml", "a: 1 # one\nb: 2\n", lambda d: d.set(("a",), "9"), "a: 9 # one\nb: 2\n"),
    ("yaml", "a: 'x'\n", lambda d: d.set(("a",), "it's"), "a: 'it''s'\n"),
    ("yaml", "a: x\n", lambda d: d.set(("a",), "yes"), 'a: "yes"\n'),
    ("yaml", "a: x\n", lambda d: d.set(("a",), "b: c"), 'a: "b: c"\n'),
    ("yaml", "a:\nb: 2\n", lambda d: d.set(("a",), "9"), "a: 9\nb: 2\n"),
    ("yaml", "r:\n  a: 1\n\nx: 2\n", lambda d: d.set(("r", "b"), "9"), "r:\n  a: 1\n  b: 9\n\nx: 2\n"),
    ("yaml", "r:\n  - a\n  - b\n", lambda d: d.insert(("r", 1), "c"), "r:\n  - a\n  - c\n  - b\n"),
    ("yaml", "r:\n- a\n- b", lambda d: d.insert(("r", 2), "c"), "r:\n- a\n- b\n- c"),
    ("yaml", "r: [a, b]\n", lambda d: d.insert(("r", 0), "c"), "r: [c, a, b]\n"),
    ("yaml", "r:\n  # own\n  - a\n", lambda d: d.remove(("r", 0)), "r:\n  # own\n  []\n"),
    ("yaml", "r:\n  a: 1\n", lambda d: d.remove(("r", "a")), "r: {}\n"),
    ("yaml", "r:\n  a: 1\n  # about b\n  b: 2\n", lambda d: d.remove(("r", "b")), "r:\n  a: 1\n"),
    ("yaml", "- a: 1\n  b: 2\n", lambda d: d.remove((0, "a")), "- b: 2\n"),
    ("yaml", "r:\n  - a # one\n  - b\n", lambda d: d.move(("r", 0), 1), "r:\n  - b\n  - a # one\n"),
    ("yaml", "a: &x 1\nb: *x\n", lambda d: d.set(("b",), "2", on_copy=True), "a: &x 1\nb: 2\n"),
    ("yaml", "a: &x 1\nb: *x\n", lambda d: d.set(("a",), "2", on_copy=True), "a: 2\nb: &x 1\n"),
    (
        "yaml",
        "day: &calm\n  most: 4\n  say: 'no: 1'\nnight: *calm # so\ndawn: *calm\n",
        lambda d: d.set(("night", "most"), "2", on_copy=True),
        "day: &calm\n  most: 4\n  say: 'no: 1'\nnight: {most: 2, say: \"no: 1\"} # so\ndawn: *calm\n",
    ),
    (
        "yaml",
        "day: &calm\n  most: 4\nnight: *calm\ndawn: *calm\n",
        lambda d: d.set(("day", "most"), "2", on_copy=True),
        "day:\n  most: 2\nnight: &calm {most: 4}\ndawn: *calm\n",
    ),
    (
        "yaml",
        "a: &x {p: [1, yes]}\nb: [*x]\n",
        lambda d: d.set(("a", "p", 0), "7", on_copy=True),
        "a: {p: [7, yes]}\nb: [&x {p: [1, yes]}]\n",
    ),
    ("yaml", "a: &x 1\n", lambda d: d.set(("a",), "2", on_copy=True), "a: 2\n"),
    ("yaml", "a: 1\nb: 2\n", lambda d: d.switch(("b",), on=False), "a: 1\n# b: 2\n"),
    ("yaml", "a: 1\n# b: 2\n", lambda d: d.switch(("b",), on=True), "a: 1\nb: 2\n"),
    ("yaml", "t: |\n  x\n  y\nz: 1\n", lambda d: d.set(("t",), "p\nq\n"), "t: |\n  p\n  q\nz: 1\n"),
    ("yaml", "", lambda d: d.set(("a", "b"), "1"), "a:\n  b: 1\n"),
    # TOML
    ("toml", "a = 1 # one\n", lambda d: d.set(("a",), "0x1F"), "a = 0x1F # one\n"),
    ("toml", "a = 'x'\n", lambda d: d.set(("a",), "y"), "a = 'y'\n"),
    ("toml", "a = 1\n\n[t]\nb = 2\n", lambda d: d.set(("t", "c"), "3"), "a = 1\n\n[t]\nb = 2\nc = 3\n"),
    ("toml", "[t]\nb = 2\n", lambda d: d.set(("a",), "1"), "a = 1\n\n[t]\nb = 2\n"),
    ("toml", "a = 1\n", lambda d: d.set(("t", "b"), "x"), 'a = 1\n\n[t]\nb = "x"\n'),
    ("toml", "d = 2026-07-05\n", lambda d: d.set(("d",), "2026-08-01"), "d = 2026-08-01\n"),
    ("toml", "[[l]]\na = 1\n", lambda d: d.insert(("l", 1), {"a": 2}), "[[l]]\na = 1\n\n[[l]]\na = 2\n"),
    ("toml", "[[l]]\na = 1\n\n[[l]]\na = 2\n", lambda d: d.move(("l", 0), 1), "[[l]]\na = 2\n\n[[l]]\na = 1\n"),
    ("toml", "[[l]]\na = 1\n\n[[l]]\na = 2\n", lambda d: d.remove(("l", 0)), "[[l]]\na = 2\n"),
    ("toml", "a = [1, 2]\n", lambda d: d.remove(("a", 0)), "a = [2]\n"),
    ("toml", "# a = 1\nb = 2\n", lambda d: d.set(("a",), "5"), "a = 5\nb = 2\n"),
    # XML
    ("xml", '<a x="1"/>', lambda d: d.set(("a", "@x"), 'q"<'), '<a x="q&quot;&lt;"/>'),
    ("xml", '<a x="1"/>', lambda d: d.set(("a", "@y"), "2"), '<a x="1" y="2"/>'),
    ("xml", "<a>\n  <b/>\n</a>", lambda d: d.set(("a", "c"), "t"), "<a>\n  <b/>\n  <c>t</c>\n</a>"),
    ("xml", "<a>\n  <b/>\n  <c/>\n</a>", lambda d: d.remove(("a", "b")), "<a>\n  <c/>\n</a>"),
    ("xml", "<a><b/></a>", lambda d: d.set(("a", "b"), "t"), "<a><b>t</b></a>"),
    ("xml", "<a><![CDATA[x]]></a>", lambda d: d.set(("a",), "<y>"), "<a><![CDATA[<y>]]></a>"),
    ("xml", "<a>\n  <b/>\n</a>", lambda d: d.switch(("a", "b"), on=False), "<a>\n  <!-- <b/> -->\n</a>"),
    ("xml", "<a>\n  <!-- <b/> -->\n</a>", lambda d: d.switch(("a", "b"), on=True), "<a>\n  <b/>\n</a>"),
    # Lua
    ("lua", "t = { a = 1 }", lambda d: d.set(("t", "b"), "x"), 't = { a = 1, b = "x" }'),
    ("lua", "t = {\n  a = 1, -- one\n}", lambda d: d.set(("t", "b"), "2"), "t = {\n  a = 1, -- one\n  b = 2,\n}"),
    ("lua", "t = { a = 1 }", lambda d: d.set(("t", "b", "c"), "2"), "t = { a = 1, b = { c = 2 } }"),
    ("lua", "t = { 'a', 'b' }", lambda d: d.insert(("t", 1), "c"), "t = { 'a', 'c', 'b' }"),
    ("lua", "t = {\n  a = 1,\n  b = 2\n}", lambda d: d.remove(("t", "b")), "t = {\n  a = 1\n}"),
    ("lua", 'role("A", { x = 1 })\n', lambda d: d.rename(("role", "A"), "B"), 'role("B", { x = 1 })\n'),
    ("lua", "t = { x = y > 1 }", lambda d: d.set(("t", "x"), "y > 2", "code"), "t = { x = y > 2 }"),
    # ini
    ("ini", "[a]\nb = 1\n[c]\n", lambda d: d.set(("a", "d"), "2"), "[a]\nb = 1\nd = 2\n[c]\n"),
    ("ini", "[a]\n;b=1\n", lambda d: d.set(("a", "b"), "2"), "[a]\nb=2\n"),
    ("ini", "[a]\nb=1\n", lambda d: d.set(("c", "d"), "2"), "[a]\nb=1\n\n[c]\nd=2\n"),
    ("ini", "[a]\nb=(x=1,y=(z=2))\n", lambda d: d.set(("a", "b", "y", "z"), "9"), "[a]\nb=(x=1,y=(z=9))\n"),
    ("ini", "[a]\nb=1\n[c]\nd=2\n", lambda d: d.rename(("a",), "e"), "[e]\nb=1\n[c]\nd=2\n"),
    ("ini", '[a]\nb="x"\n', lambda d: d.set(("a", "b"), "y"), '[a]\nb="y"\n'),
    ("ini", "[m]\nreef\n", lambda d: d.insert(("m", 0), "mile"), "[m]\nmile\nreef\n"),
    ("ini", "[m]\n+k=a\n+k=b\n", lambda d: d.remove(("m", "+k", 0)), "[m]\n+k=b\n"),
    # directives
    ("directives", 'a "x" // n\n', lambda d: d.set(("a",), "y z"), 'a "y z" // n\n'),
    ("directives", "set a 1; set b 2\n", lambda d: d.remove(("a",)), "set b 2\n"),
    ("directives", "exec x\nexec y\n", lambda d: d.insert(("exec", 1), "z"), "exec x\nexec z\nexec y\n"),
    ("directives", "fog 1\n", lambda d: d.rename(("fog",), "mist"), "mist 1\n"),
    ("directives", "-p 1 +m reef\n", lambda d: d.set(("+m",), "mile"), "-p 1 +m mile\n"),
    ("directives", "set sv_a 1\n", lambda d: d.set(("sv_b",), "2"), "set sv_a 1\nset sv_b 2\n"),
    # launch
    (
        "launch",
        "#!/bin/sh\nexec ./s -x=1 --y 2\n",
        lambda d: d.set(("-x",), "a b"),
        '#!/bin/sh\nexec ./s -x="a b" --y 2\n',
    ),
    (
        "launch",
        "#!/bin/sh\nS=1\nexec ./s --y $S\n",
        lambda d: d.set(("--y",), "2"),
        "#!/bin/sh\nS=2\nexec ./s --y $S\n",
    ),
    (
        "launch",
        '#!/bin/sh\nexec ./s "-m=a;b"\n',
        lambda d: d.insert(("-m", 1), "c"),
        '#!/bin/sh\nexec ./s "-m=a;c;b"\n',
    ),
    (
        "launch",
        "#!/bin/sh\nexec ./s \\\n  --a 1 \\\n  --b 2\n",
        lambda d: d.remove(("--a",)),
        "#!/bin/sh\nexec ./s \\\n  --b 2\n",
    ),
    (
        "launch",
        "#!/bin/sh\nexec ./s \\\n  --a 1\n",
        lambda d: d.set(("--b",), True),
        "#!/bin/sh\nexec ./s \\\n  --a 1 \\\n  --b\n",
    ),
    (
        "launch",
        "@echo off\ns.exe -a 1 ^\n  -b 2\n",
        lambda d: d.set(("-a",), "x y"),
        '@echo off\ns.exe -a "x y" ^\n  -b 2\n',
    ),
]


COMMENTS = {
    "yaml": ["#"], "toml": ["#"], "ini": [";", "#"], "properties": ["#", "!"], "directives": ["#"], "launch": ["#"],
    "lua": ["--", "--[[]]"], "statements": ["#", "//", "/**/"],
}  # fmt: skip


@pytest.mark.parametrize("end", ["", " ", " about"])
@pytest.mark.parametrize(("name", "before", "make", "after"), [case for case in CASES if case[0] in COMMENTS])
def test_an_edit_is_the_same_below_a_comment_however_short(
    name: str, before: str, make: Make, after: str, end: str
) -> None:
    """A comment of one sign, at the very beginning of a file, is one too."""
    for sign in COMMENTS[name]:
        above = f"{sign}{end if len(sign) < 3 else ''}\n\n"
        assert edited(name, above + before, make) == above + after, above


@pytest.mark.parametrize(("name", "before", "make", "after"), CASES)
def test_edit(name: str, before: str, make: Make, after: str) -> None:
    assert edited(name, before, make) == after


@pytest.mark.parametrize(("name", "before", "make", "after"), [case for case in CASES if case[0] != "launch"])
def test_the_same_edit_with_windows_line_ends(name: str, before: str, make: Make, after: str) -> None:
    if "t: |" not in before:
        assert edited(name, before.replace("\n", "\r\n"), make) == after.replace("\n", "\r\n") or "\n" not in before


SHAPES = [
    (Dialect(notes=True), "a # one\nb\n", lambda d: d.move((0,), 1), "b\na # one\n"),
    (Dialect(fields=("id", "role")), "GW-1 mate\n", lambda d: d.set((0, "role"), "cook"), "GW-1 cook\n"),
    (Dialect(fields=("ip", "name"), separator="|"), "1 | a\n", lambda d: d.set((0, "name"), "b"), "1 | b\n"),
    (Dialect(records=True), "id: 1\nn: a\n\nid: 2\n", lambda d: d.set((0, "n"), "b"), "id: 1\nn: b\n\nid: 2\n"),
    (
        Dialect(records=True),
        "id: 1\n\nid: 2\n",
        lambda d: d.insert((1,), "id: 9\nn: x"),
        "id: 1\n\nid: 9\nn: x\n\nid: 2\n",
    ),
    (Dialect(records=True), "id: 1\n\nid: 2\n", lambda d: d.remove((0,)), "id: 2\n"),
    (Dialect(marks="//"), "a\n// b\n", lambda d: d.insert((1,), "# c"), "a\n# c\n// b\n"),
]


@pytest.mark.parametrize(("dialect", "before", "make", "after"), SHAPES)
def test_lists_of_every_shape(dialect: Dialect, before: str, make: Make, after: str) -> None:
    assert edited("lines", before, make, dialect) == after


OTHER_DIALECTS = [
    (
        "json",
        Dialect(comments=True, last_comma=True),
        '{\n  "a": 1, // one\n}\n',
        lambda d: d.set(("b",), "2"),
        '{\n  "a": 1, // one\n  "b": 2,\n}\n',
    ),
    (
        "json",
        Dialect(comments=True),
        '{\n  "a": 1 // one\n}\n',
        lambda d: d.set(("b",), "2"),
        '{\n  "a": 1, // one\n  "b": 2\n}\n',
    ),
    ("ini", Dialect(counts="first"), "a=1\na=2\n", lambda d: d.set(("a",), "9"), "a=9\na=2\n"),
    ("ini", Dialect(notes=True), "a=1 ; one\n", lambda d: d.set(("a",), "9"), "a=9 ; one\n"),
    ("ini", Dialect(quotes="needed"), "a=1\n", lambda d: d.set(("a",), "x,y"), 'a="x,y"\n'),
    ("ini", Dialect(quotes="kept"), 'a="1"\n', lambda d: d.set(("a",), "9"), "a=9\n"),
    ("directives", Dialect(case=False), "Slots 1\n", lambda d: d.set(("slots",), "9"), "Slots 9\n"),
]


@pytest.mark.parametrize(("name", "dialect", "before", "make", "after"), OTHER_DIALECTS)
def test_dialects(name: str, dialect: Dialect, before: str, make: Make, after: str) -> None:
    assert edited(name, before, make, dialect) == after


def test_a_dialect_reads_over_what_strict_json_refuses() -> None:
    body = '{\n  // boats\n  "a": [1, 2,], /* x */\n}\n'
    loose = FORMATS["json"].read(Text(body), Dialect(comments=True, last_comma=True))
    assert not [problem for problem in problems_of(loose) if problem.level == "error"]
    assert [(entry.path, entry.value) for entry in loose.entries()] == [(("a", 0), "1"), (("a", 1), "2")]
    strict = FORMATS["json"].read(Text(body))
    assert {problem.code for problem in problems_of(strict)} == {"comment-here", "comma-last"}


def test_a_value_with_a_comma_needs_quotes_where_the_dialect_says_so() -> None:
    document = FORMATS["ini"].read(Text("[a]\nb=x,y\n"), Dialect(quotes="needed"))
    assert [problem.code for problem in problems_of(document)] == ["value-unquoted"]


REFUSED: list[tuple[str, str, Make, str]] = [
    ("json", "{", lambda d: d.set(("a",), "1"), "fix them first"),
    ("json", '{"a": [1]}', lambda d: d.set(("a",), "1"), "a single value cannot replace it"),
    ("json", '{"a": 1}', lambda d: d.set(("a",), "x"), "a number is expected there"),
    ("json", '{"a": 1, "b": 2}', lambda d: d.rename(("a",), "b"), "already exists"),
    ("yaml", "a: &x 1\nb: *x\n", lambda d: d.set(("a",), "2"), "line 2 shares it"),
    ("yaml", "a: &x 1\nb: *x\n", lambda d: d.set(("b",), "2"), "shares what line 1 holds"),
    ("yaml", "a: &x 1\nb: *x\n", lambda d: d.remove(("a",)), "shares"),
    ("toml", "d = 2026-07-05\n", lambda d: d.set(("d",), "soon"), "there is a date or time here"),
    ("xml", "<a><b/><b/></a>", lambda d: d.set(("a", "b"), "x"), "say which"),
    ("xml", "<a/>", lambda d: d.set(("a",), "\x01"), "no form for a control character"),
    ("lua", "t = { x = f() }", lambda d: d.set(("t", "x"), "1"), "worked out by the server"),
    ("lua", "t = { x = f() }", lambda d: d.set(("t", "x"), "function() return 1", "code"), "not valid Lua: function"),
    ("lua", "t = { x = f() }", lambda d: d.set(("t", "y"), "1, z = 2)", "code"), "not valid Lua: 1, z"),
    ("launch", "#!/bin/sh\nS=1\nexec ./s -a $S -b $S\n", lambda d: d.set(("-a",), "2"), "is used 2 times"),
    ("directives", "a 1\n", lambda d: d.set(("a",), "x\ny"), "line break"),
]


@pytest.mark.parametrize(("name", "before", "make", "why"), REFUSED)
def test_what_cannot_be_done_is_refused_with_the_reason(name: str, before: str, make: Make, why: str) -> None:
    with pytest.raises(EditRefused, match=why):
        edited(name, before, make)


@pytest.mark.parametrize("value", ["tides=on", "--tides", "-t", "a=b c", "--tides=2"])
@pytest.mark.parametrize(
    "make",
    [
        lambda d, value: d.set(("--quiet",), value),  # has no value so far
        lambda d, value: d.set(("--port",), value),
        lambda d, value: d.set(("--new",), value),
        lambda d, value: d.set((0,), value),
        lambda d, value: d.insert(("--mod", 1), value),
        lambda d, value: d.set(("--mod", 0), value),
        lambda d, value: d.set(("--maps", 0), value),
    ],
)
def test_a_value_that_would_be_a_flag_of_its_own_is_refused(make: Callable[[Any, str], Edit], value: str) -> None:
    body = "#!/bin/sh\nexec ./serve harbour --port 5 --mod wind --mod sun --maps mile --quiet\n"
    document = FORMATS["launch"].read(Text(body), Dialect(repeated=("--mod",)))
    with pytest.raises(EditRefused, match="would be read as a separate flag"):
        make(document, value)


def test_what_refers_to_itself_or_multiplies_is_not_copied() -> None:
    """A copy of a circle has no end, and a few references inside references make millions."""
    kind = FORMATS["yaml"]
    levels = "".join(f"l{n}: &l{n} [{', '.join([f'*l{n - 1}'] * 9)}]\n" for n in range(1, 12))
    for body, path in (
        ("a: &x\n  b: *x\nc: *x\n", ("c", "b")),
        ("a: &x\n  b: *x\n", ("a", "b", "d")),
        ("l0: &l0 {m: 1}\n" + levels + "last: *l11\n", ("last", 0)),
    ):
        document = kind.read(Text(body))
        with pytest.raises(EditRefused):
            document.set(path, "7", on_copy=True)


def test_a_remark_behind_a_commented_out_value_is_no_part_of_it_and_stays() -> None:
    """Found on a real daemon's file: the value was read with its remark, and setting it took the remark away."""
    dialect = Dialect(notes=True)
    document = FORMATS["ini"].read(Text("#port = 5432\t\t# (change requires restart)\n"), dialect)
    [off] = document.switched_off()
    assert off.value == "5432"
    changed = apply_edit(FORMATS["ini"], document, document.set(("port",), "6000"))
    assert changed.text.body == "port = 6000\t\t# (change requires restart)\n"


def test_each_edit_of_the_corpus_looks_as_it_did() -> None:
    """Where this is meant to change, ``python tests/edits.py`` writes it anew."""
    assert list(edits()) == RECORD.read_text("utf-8").splitlines()
