"""Each finding that the corpora have no file for: made once, and told by its code."""

from __future__ import annotations

import json

import pytest

from conftest import BOOK, SiteUnderTest
from roundgate.core.checks.standalone import check_standalone

LOOSE = [
    ("format-unknown", "notes.q", b"zz yy\n@@ %%\n"),
    ("encoding-other", "a.json", '{"a": "caf\u00e9"}'.encode("latin-1")),
    ("too-deep", "a.json", b"[" * 200_000 + b"]" * 200_000),
    ("not-understood", "a.lua", b"x = = 4\n"),
    ("bracket-unopened", "a.yml", b"may: a, b]\n"),
    ("reader-differs", "a.yml", b"text: fair winds\n\tand tides\n"),
    ("line-ends-windows", "a.sh", b"#!/bin/sh\r\n./gullwind --slots 4\r\n"),
]


@pytest.mark.parametrize(("code", "name", "data"), LOOSE, ids=[case[0] for case in LOOSE])
def test_a_file_of_no_server_has_the_finding(code: str, name: str, data: bytes) -> None:
    assert code in [finding.code for finding in check_standalone(name, data)]


def codes_of(site: SiteUnderTest) -> list[str]:
    return [finding["code"] for finding in json.loads(site.run("check", "--json").stdout)["findings"]]


@pytest.mark.parametrize(
    ("code", "courses"),
    [("item-twice", "Harbour Mile\nThe Narrows\nHarbour Mile\n"), ("item-form", "Harbour Mile\nharbour mile\n")],
)
def test_a_list_of_a_server_has_the_finding(regatta: SiteUnderTest, code: str, courses: str) -> None:
    (regatta.folder / "regatta" / "courses.txt").write_text(courses)
    assert code in codes_of(regatta)
    (regatta.folder / "regatta" / "courses.txt").write_text("Harbour Mile\nThe Narrows\n")
    assert codes_of(regatta) == []


@pytest.mark.parametrize(
    ("code", "old", "new"),
    [
        ("rulebook-value", '[setting."race.slots"]\nfile = "core"', '[setting."race.slots"]\nfile = "nowhere"'),
        ("rulebook-syntax", '[setting."race.slots"]', '[setting."race.slots"'),
        ("rulebook-value", 'item = "course"', 'item = "corse"'),
        ("rulebook-value", 'slots = "race.slots"', 'slots = "race.slotz"'),
        ("rulebook-value", 'default = "middle"', 'default = "midle"'),
    ],
)
def test_a_rulebook_with_a_mistake_has_the_finding(regatta: SiteUnderTest, code: str, old: str, new: str) -> None:
    assert old in BOOK
    folder = regatta.folder / "rulebooks"
    folder.mkdir()
    (folder / "gullwind.toml").write_text(BOOK.replace(old, new))
    assert code in codes_of(regatta)


NOWHERE = [
    ('[setting."race.slots"]\nfile = "core"', '[setting."race.slots"]\nfile = "nowhere"'),
    ('item = "course"', 'item = "corse"'),
    ('slots = "race.slots"', 'slots = "race.slotz"'),
]


@pytest.mark.parametrize("command", [("show", "regatta"), ("explain", "regatta", "race.slots"), ("slate", "regatta")])
@pytest.mark.parametrize(("old", "new"), NOWHERE)
def test_no_command_goes_on_with_a_rulebook_that_names_what_it_lacks(
    regatta: SiteUnderTest, old: str, new: str, command: tuple[str, ...]
) -> None:
    """They read a rulebook without its whole check, and still do not stumble over it."""
    assert old in BOOK
    folder = regatta.folder / "rulebooks"
    folder.mkdir()
    (folder / "gullwind.toml").write_text(BOOK.replace(old, new))
    told = regatta.run(*command)
    assert told.returncode != 0 and new.split('"')[-2] in told.stderr and "gullwind.toml" in told.stderr, told.stderr


def test_a_server_whose_folder_is_gone_does_not_hide_the_others(regatta: SiteUnderTest) -> None:
    regatta.add("harbour", "boat.slots=99\n")
    (regatta.folder / "regatta").rename(regatta.folder / "elsewhere")
    assert sorted(set(codes_of(regatta))) == ["server-unreadable", "value-range"]
