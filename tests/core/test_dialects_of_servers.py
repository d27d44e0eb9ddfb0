"""What real servers do with their files beyond the formats: keys of two words, lists within a file, long values."""

from __future__ import annotations

import random
from collections.abc import Callable

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.places import list_entries
from roundgate.core.formats.protocol import Dialect, Document, Edit, EditRefused
from roundgate.core.text import Text

COMMANDS = Dialect(pairs=("tune", "level"), closing=("start",), verb="set")
FLAGGED = Dialect(pairs=("-set",))
LONG = Dialect(blocks=('""" """', "{ }"), marks="#", quotes="kept")
INDENTED = Dialect(goes_on="indented", marks="#")
BACKSLASH = Dialect(goes_on="backslash", marks="#")
CREW = Dialect(heading="{name}:")
BANNED = Dialect(items=("bans",), tail=" =")
FLAGS = Dialect(repeated=("--mod",))
START = "#!/bin/sh\nexec ./server --mod tides --slots 4 --mod=wind\n"

CASES: list[tuple[str, Dialect, str, Callable[[Document], Edit], str]] = [
    ("directives", COMMANDS, "tune wind 1\n", lambda d: d.set(("tune wind",), "2"), "tune wind 2\n"),
    ("directives", COMMANDS, "tune  wind 1\n", lambda d: d.remove(("tune wind",)), ""),
    ("directives", COMMANDS, "tune wind 1\ntune tide 2\n", lambda d: d.remove(("tune wind",)), "tune tide 2\n"),
    ("directives", COMMANDS, "// tune wind 1\n", lambda d: d.set(("tune wind",), "3"), "tune wind 3\n"),
    ("directives", COMMANDS, "set sea 1\nstart\n", lambda d: d.set(("depth",), "2"), "set sea 1\nset depth 2\nstart\n"),
    ("directives", COMMANDS, "start\n", lambda d: d.set(("level ban",), "2"), "level ban 2\nstart\n"),
    ("directives", COMMANDS, "offer a\nstart\n", lambda d: d.insert(("offer", 1), "b"), "offer a\noffer b\nstart\n"),
    ("directives", COMMANDS, "set sea 1\n", lambda d: d.insert(("offer", 0), "b"), "set sea 1\nset offer b\n"),
    ("directives", FLAGGED, "-set _gravity -9.8\n-p 4\n", lambda d: d.set(("-set _gravity",), "-5"),
     "-set _gravity -5\n-p 4\n"),
    ("directives", FLAGGED, "-set _a 1 -set _b 2 -p 4\n", lambda d: d.remove(("-set _b",)), "-set _a 1 -p 4\n"),
    ("directives", FLAGGED, "-set _a 1\n", lambda d: d.set(("-set _b",), "2"), "-set _a 1\n-set _b 2\n"),
    ("directives", Dialect(), 'a "x y"\nb 3\n', lambda d: d.set(("c",), "5"), 'a "x y"\nb 3\nc 5\n'),
    ("ini", LONG, 'a = """\none\ntwo = 2\n"""\nb = 1\n', lambda d: d.set(("a",), "x"), "a = x\nb = 1\n"),
    ("ini", LONG, "a = x\n", lambda d: d.set(("a",), "one\ntwo"), 'a = """\none\ntwo\n"""\n'),
    ("ini", LONG, "n = {\n a = 1\n b = {\n c\n }\n}\nz = 1\n", lambda d: d.remove(("n",)), "z = 1\n"),
    ("ini", LONG, 'a = """\none\n"""\nb = 1\n', lambda d: d.set(("c",), "2"), 'a = """\none\n"""\nb = 1\nc = 2\n'),
    ("ini", LONG, "a = {\nb = 1\n", lambda d: d.set(("b",), "2"), "a = {\nb = 2\n"),
    ("ini", INDENTED, "a = one\n  two\nb = 1\n", lambda d: d.set(("a",), "x\ny"), "a = x\n    y\nb = 1\n"),
    ("ini", BACKSLASH, "a = one\\\n two\nb = 1\n", lambda d: d.set(("b",), "2"), "a = one\\\n two\nb = 2\n"),
    ("ini", CREW, "admins:\nWren\n\nguests:\nAnn\n", lambda d: d.insert(("admins", 1), "Tern"),
     "admins:\nWren\nTern\n\nguests:\nAnn\n"),
    ("ini", CREW, "admins:\nWren\n", lambda d: d.insert(("guests", 0), "Ann"), "admins:\nWren\n\nguests:\nAnn\n"),
    ("ini", CREW, "admins:\nWren\n", lambda d: d.rename(("admins",), "mates"), "mates:\nWren\n"),
    ("ini", BANNED, "[bans]\n10.0.0.1 = \n", lambda d: d.insert(("bans", 0), "10.0.0.2"),
     "[bans]\n10.0.0.2 =\n10.0.0.1 = \n"),
    ("ini", BANNED, "[bans]\n10.0.0.1 = \n[x]\na = 1\n", lambda d: d.remove(("bans", 0)), "[bans]\n[x]\na = 1\n"),
    ("ini", BANNED, "a = 1\n", lambda d: d.insert(("bans", 0), "10.0.0.2"), "a = 1\n\n[bans]\n10.0.0.2 =\n"),
    ("launch", FLAGS, START, lambda d: d.insert(("--mod", 1), "nets"), START.replace("=wind", "=nets --mod=wind")),
    ("launch", FLAGS, START, lambda d: d.insert(("--mod", 2), "nets"), START.replace("=wind", "=wind --mod=nets")),
    ("launch", FLAGS, START, lambda d: d.remove(("--mod", 0)), START.replace(" --mod tides", "")),
    ("launch", FLAGS, START, lambda d: d.move(("--mod", 0), 1),
     START.replace("tides", "x").replace("wind", "tides").replace("mod x", "mod wind")),
    ("launch", FLAGS, START, lambda d: d.set(("--mod", 1), "reef"), START.replace("wind", "reef")),
]  # fmt: skip


@pytest.mark.parametrize(("name", "dialect", "before", "act", "wanted"), CASES, ids=range(len(CASES)))
@pytest.mark.parametrize("ending", ["\n", "\r\n"])
def test_edits(
    name: str, dialect: Dialect, before: str, act: Callable[[Document], Edit], wanted: str, ending: str
) -> None:
    document = FORMATS[name].read(Text(before.replace("\n", ending)), dialect)
    after = apply_edit(FORMATS[name], document, act(document))
    assert after.text.body == wanted.replace("\n", ending)


@pytest.mark.parametrize(
    ("name", "dialect", "body", "act"),
    [
        ("ini", LONG, "a = 1\n", lambda d: d.set(("a",), "{")),
        ("ini", LONG, "a = 1\n", lambda d: d.set(("a",), 'x\n"""\ny')),
        ("ini", BACKSLASH, "a = 1\n", lambda d: d.set(("a",), "x\\")),
        ("ini", CREW, "crew:\nWren\n", lambda d: d.insert(("crew", 0), "guests:")),
        ("directives", COMMANDS, "tune wind 1\n", lambda d: d.set(("gust wind",), "1")),
        ("launch", FLAGS, START, lambda d: d.remove(("--mod",))),
        ("launch", FLAGS, START, lambda d: d.move(("--mod", 0), 5)),
    ],
)
def test_what_would_not_be_read_back_is_refused(
    name: str, dialect: Dialect, body: str, act: Callable[[Document], Edit]
) -> None:
    with pytest.raises(EditRefused):
        act(FORMATS[name].read(Text(body), dialect))


_KEYS = ["a = 1", "b = {", "}", "  c = 2", 'd = """', '"""', "e = f\\", "tune wind 1", "start"]
LINES = st.lists(st.sampled_from([*_KEYS, "# no", "", "[bans]", "10.0.0.1 =", "x:", "word"]), max_size=14)
DIALECTS = {
    "long": LONG, "indented": INDENTED, "backslash": BACKSLASH, "crew": CREW, "banned": BANNED,
}  # fmt: skip


@settings(max_examples=300)
@given(LINES, st.sampled_from(sorted(DIALECTS)), st.sampled_from(["\n", "\r\n"]))
@example(['d = """', "  c = 2", '"""'], "long", "\n")
@example(['d = """', "\tx", "", " y ", '"""', "b = {", "  c = 2", "}"], "long", "\r\n")
def test_both_readers_of_ini_agree_in_every_dialect(lines: list[str], name: str, ending: str) -> None:
    document = FORMATS["ini"].read(Text(ending.join(lines)), DIALECTS[name])
    assert FORMATS["ini"].confirms(document, document.plain())
    for entry in document.entries():
        body = document.text.body
        assert entry.key_start <= entry.key_end <= entry.end and entry.start <= entry.end <= len(body)


@settings(max_examples=200)
@given(LINES, st.sampled_from(["x", "two words", "one\ntwo", "1"]), st.integers(0, 2**30))
def test_a_value_that_is_set_is_read_back_and_nothing_else_changes(lines: list[str], value: str, seed: int) -> None:
    document = FORMATS["ini"].read(Text("\n".join(lines) + "\n"), LONG)
    paths = [entry.path for entry in document.entries() if isinstance(entry.path[-1], str)]
    path = random.Random(seed).choice([*paths, ("new",)])
    try:
        after = apply_edit(FORMATS["ini"], document, document.set(path, value))
    except EditRefused:
        return
    found = after.find(path)
    assert found is not None and found.value == value
    others = [(one.path, one.value) for one in document.entries() if one.path != path]
    assert [(one.path, one.value) for one in after.entries() if one.path != path] == others


@settings(max_examples=200)
@given(
    st.lists(st.sampled_from(["offer a", "tune wind 1", "set sea 2", "// no", "offer b", "start"]), max_size=10),
    st.lists(st.tuples(st.sampled_from(["add", "remove", "move"]), st.integers(0, 9), st.integers(0, 9)), max_size=6),
)
def test_a_list_of_commands_does_what_a_list_would_do(lines: list[str], acts: list[tuple[str, int, int]]) -> None:
    form = FORMATS["directives"]
    document: Document = form.read(Text("".join(f"{line}\n" for line in lines)), COMMANDS)
    rest = [(one.path, one.value) for one in document.entries() if one.path != ("offer",)]
    wanted = [line.split()[1] for line in lines if line.startswith("offer")]
    for act, one, two in acts:
        if act == "add":
            at = min(one, len(wanted))
            document = apply_edit(form, document, document.insert(("offer", at), f"n{two}"))
            wanted.insert(at, f"n{two}")
        elif wanted and act == "remove":
            document = apply_edit(form, document, document.remove(("offer", one % len(wanted))))
            wanted.pop(one % len(wanted))
        elif wanted:
            document = apply_edit(form, document, document.move(("offer", one % len(wanted)), two % len(wanted)))
            wanted.insert(two % len(wanted), wanted.pop(one % len(wanted)))
        assert [entry.value for entry in list_entries(document, "offer")] == wanted
    assert [(one.path, one.value) for one in document.entries() if one.path != ("offer",)] == rest
    keys = [one.path[0] for one in document.entries()]
    if "start" in keys and not any(line.startswith("offer") for line in lines):  # a new one goes before it
        assert "offer" not in keys[keys.index("start") :]


def test_a_blank_before_a_key_is_an_error_where_the_server_reads_no_such_line() -> None:
    for name, body in (("ini", "  slots = 4\n"), ("directives", "  slots 4\n")):
        for strict in (False, True):
            document = FORMATS[name].read(Text(body), Dialect(indent=not strict))
            found = [problem.code for problem in FORMATS[name].problems(document)]
            assert ("key-indented" in found) is strict, (name, found)
