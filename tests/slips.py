"""Slips of the hand, made in good files one at a time, and what the checks say of each.

Takes good files (the corpus and the demo's, and those of other folders), makes one slip in each copy, and asks the
checks. A slip that leaves the meaning as it was is not counted, nor one that makes another right text of Lua.
``line`` counts findings on the slip's line, or on the line of the bracket or quote that it left alone; ``repair``
counts first repairs that bring the old meaning back; ``harm`` counts safe repairs, as ``check --fix`` makes them, that
give another meaning.

    python tests/slips.py     write what is told of each slip, and what its first repair makes, to ``corpus/slips.txt``
"""

from __future__ import annotations

import difflib
import json
import random
import re
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import roundgate
from roundgate.core.checks.standalone import problems_here
from roundgate.core.findings import Problem
from roundgate.core.formats import FORMATS, problems_of
from roundgate.core.formats.detect import format_for
from roundgate.core.formats.lua import grammar as lua_tree
from roundgate.core.formats.protocol import Document, EditRefused
from roundgate.core.repairs import with_repairs
from roundgate.core.text import NotText, Text, decode

HERE = Path(__file__).parent
RECORD = HERE / "corpus" / "slips.txt"
"""What is told of each slip of the corpus: a change of it is a change for the user, and is read before it is kept."""
BRACKETS, TREES = ("json", "lua", "toml"), ("json", "lua", "toml", "yaml", "xml", "statements")
QUOTED = ("json", "lua", "toml", "yaml", "xml", "ini", "directives", "launch", "statements")
SLIPS: list[tuple[str, tuple[str, ...], str, str]] = [
    ("comma-lost", (*BRACKETS, "statements"), r",(?=[ \t]*(?:\n|[\"{\[\w]))", ""),
    ("comma-twice", (*BRACKETS, "statements"), r",(?=[ \t]*\n)", ",,"),
    ("comma-last", ("json",), r"(?<=[\w\"\]}])(?=\s*\n\s*[}\]])", ","),
    ("colon-lost", ("json", "yaml"), r"(?<=[\w\"]):(?= )", ""),
    ("colon-space", ("yaml",), r"(?<=\w): (?=\w)", ":"),
    ("dash-space", ("yaml",), r"(?<=\n)( *)- (?=\w)", r"\1-"),
    ("dash-lost", ("yaml",), r"(?<=\n)( +)- (?=\w+:)", r"\1"),
    ("tab", ("yaml",), r"(?<=\n)  +(?=\w)", "\t"),
    ("indent", ("yaml",), r"(?<=\n)  +(?=\w+:)", " "),
    ("equals-lost", ("toml", "lua", "xml", "statements"), r" ?=(?=[ \"\w])", ""),
    ("equals-lost", ("ini",), r"(?<=\n)([\w\[\]+]+) ?= ?(?=[\w\"(])", r"\1 "),
    ("separator-wrong", ("json",), r":(?= )", "="),
    ("separator-wrong", ("toml", "lua", "statements"), r" ?= ?(?=[\"\w])", ": "),
    ("separator-wrong", ("ini",), r"(?<=\n)([\w\[\]+]+) ?= ?(?=[\w\"(])", r"\1: "),
    ("separator-wrong", ("directives",), r"(?<=\n)(\w+) (?=[\"\d])", r"\1 = "),
    ("quote-lost-end", QUOTED, r"(?<=[\w.])\"(?=[,\]}\s>/;)])", ""),
    ("quote-lost-begin", QUOTED, r"(?<=[\s=:\[{,(])\"(?=[\w/])", ""),
    ("quote-curly", QUOTED, r"\"([\w ./:-]+)\"", "\u201c\\1\u201d"),
    ("bracket-lost-end", (*BRACKETS, "yaml", "statements"), r"[}\])]", ""),
    ("bracket-lost-begin", (*BRACKETS, "yaml", "statements"), r"[{\[](?=[\s\w\"])", ""),
    ("bracket-kind", (*BRACKETS, "yaml"), r"\](?=\s*[,\n])", "}"),
    ("heading-open", ("ini", "toml"), r"(?<=\n)\[(?=[\w])", ""),
    ("heading-closed", ("ini", "toml"), r"(?<=\w)\](?=\n)", ""),
    ("stray-word", ("toml", "lua", "ini", "yaml", "json"), r"(?<=\n)([ \t]*)(?=[\w\"])", r"\1oops\n\1"),
    ("slash-lost", ("xml",), r"</(?=\w)", "<"),
    ("close-lost", ("xml",), r"</\w+>", ""),
    ("angle-lost", ("xml",), r"(?<=[\w\"])>(?=[\s\w])", ""),
    ("angle-begin", ("xml",), r"<(?=\w+[ >])", ""),
    ("ampersand", ("xml",), r"&amp;", "&"),
    ("set-spaces", ("launch",), r"(?i)(?<=\nset )(\w+)=", r"\1 = "),
    ("assign-spaces", ("launch",), r"(?<=\n)([A-Z_]+)=(?=[\"\w])", r"\1 = "),
    ("percent-lost", ("launch",), r"(?<=%)(\w+)%", r"\1"),
    ("brace-lost", ("launch",), r"(?<=\$\{)(\w+)\}", r"\1"),
    ("semicolon-lost", ("statements",), r";(?=[ \t]*\n)", ""),
]


def good_files(folders: Sequence[str]) -> Iterator[tuple[str, Path, Document]]:
    """Yield every good file: its format, where it is, and the document."""
    for folder in (HERE / "corpus", Path(roundgate.__file__).parent / "demo" / "site", *map(Path, folders)):
        for path in sorted(folder.rglob("*")):
            if not path.is_file() or "bad" in path.parts or path.stat().st_size > 200_000:
                continue
            try:
                text = decode(path.read_bytes())
            except NotText:
                continue
            name = path.parent.parent.name if "corpus" in path.parts else format_for(path.name, text.body)
            name = name if name in FORMATS else format_for(path.name, text.body)
            document = FORMATS[name].read(text)
            if name != "lines" and not any(problem.level == "error" for problem in problems_of(document)):
                yield name, path, document


def meaning(name: str, document: Document) -> Any:
    """Return what a document says, or None where it cannot be read."""
    try:
        output = document.plain()
    except EditRefused:
        return None
    broken = name in TREES and any(problem.level == "error" for problem in problems_of(document))
    return None if broken else output


def lines_that_count(body: str, start: int, new: str) -> set[int]:
    """Return the lines on which a finding points at a slip: its own, and that of the bracket or quote it left alone."""
    line = body.count("\n", 0, start) + 1
    lines = {line, line + 1} if "\n" in new else {line}
    if body[start : start + 1] in "}])" or body.startswith("</", start):
        depth = 0
        for at in range(start - 1, -1, -1):
            depth += (body[at] in "}])") - (body[at] in "{[(")
            if depth < 0:
                lines.add(body.count("\n", 0, at) + 1)
                break
        name = re.match(r"</(\w+)", body[start:])
        opened = [found.start() for found in re.finditer(rf"<{name[1]}\b", body[:start])] if name else []
        lines |= {body.count("\n", 0, opened[-1]) + 1} if opened else set()
    return lines


def repaired(name: str, text: Text, found: list[Problem]) -> Any:
    """Return the meaning after the first repair that is offered."""
    first = next((item for item in found if item.repair), None)
    if first is None:
        return None
    return meaning(name, FORMATS[name].read(text.spliced(first.repair)))


def _is_lua(text: Text) -> bool:
    """Return whether a damaged text is right anyway: ``x { 1 }`` for ``x = { 1 }`` is a call."""
    return not lua_tree.parse(text.body).has_error


class Damage(NamedTuple):
    """One slip in one file, and what came of it."""

    format: str
    slip: str
    place: str
    told: tuple[tuple[str, int], ...]
    on_line: bool
    repaired: bool
    harmed: bool
    record: str


def damages(seed: int, each: int, folders: Sequence[str] = ()) -> Iterator[Damage]:
    """Make at most ``each`` slips of every kind in every good file; those that leave the meaning are left out."""
    for name, path, document in good_files(folders):
        body = document.text.body.replace("\r\n", "\n")
        output = meaning(name, FORMATS[name].read(Text(body), document.dialect)) if "\r" not in body else None
        if output is None:
            continue
        chance = random.Random(f"{seed} {name} {path.name}")
        for slip, formats, pattern, new in SLIPS:
            hits = list(re.finditer(pattern, body)) if name in formats else []
            for hit in chance.sample(hits, min(each, len(hits))):
                text = Text(body[: hit.start()] + hit.expand(new) + body[hit.end() :])
                damaged = FORMATS[name].read(text, document.dialect)
                if meaning(name, damaged) == output or (name == "lua" and _is_lua(text)):
                    continue
                found = list(problems_here(path.name, damaged, name))
                told = tuple((finding.code, text.place(finding.start)[0]) for finding in found)
                wanted = lines_that_count(body, hit.start(), hit.expand(new))
                on_line = any(line in wanted for _, line in told)
                place = "{}:{}:{}".format(path.name, *text.place(hit.start())[:2])
                right = repaired(name, text, found) == output
                yield Damage(
                    name, slip, place, told, on_line, right, is_harmed(name, damaged, output), record_of(text, found)
                )


def record_of(text: Text, found: list[Problem]) -> str:
    """Return what is told, with the text that each finding marks, and the lines that the first repair makes."""
    told = [f"{one.code} {json.dumps(text.body[one.start : one.end], ensure_ascii=False)}" for one in found]
    first = next((item for item in found if item.repair), None)
    if first is None:
        return "; ".join(told)
    before, after = text.body.splitlines(), text.spliced(first.repair).body.splitlines()
    new = [line for kind, line in ((row[:2], row[2:]) for row in difflib.ndiff(before, after)) if kind == "+ "]
    return f"{'; '.join(told)} -> {json.dumps(new, ensure_ascii=False)}"


def is_harmed(name: str, damaged: Document, output: Any) -> bool:
    """Return whether the safe repairs, as ``check --fix`` makes them, return the file another meaning than it had."""
    try:
        after = with_repairs(FORMATS[name], damaged)
    except EditRefused:
        return False
    return after.text != damaged.text and meaning(name, after) != output


def recorded(found: Sequence[Damage]) -> str:
    """Return the record of all slips, a line for each."""
    rows = [f"{one.format} {one.slip} {one.place} {'right' if one.repaired else '-'}: {one.record}" for one in found]
    return "\n".join(rows) + "\n"


if __name__ == "__main__":
    RECORD.write_text(recorded(list(damages(seed=7, each=2))), "utf-8")
