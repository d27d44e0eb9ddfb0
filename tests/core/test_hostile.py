"""Hostile shapes: every reader comes to an end, with findings of our own. ``bench/hostile.py`` times them."""

from __future__ import annotations

import contextlib

import pytest

from hostile_shapes import Shape, shapes
from roundgate.core.checks.standalone import check_standalone
from roundgate.core.formats import FORMATS, problems_of
from roundgate.core.formats.protocol import EditRefused
from roundgate.core.rulebook.model import NO_RULEBOOK
from roundgate.core.secrets import hidden_line, secret_entries, sounding_secret, without_sounding
from roundgate.core.text import decode


@pytest.mark.timeout(60)
@pytest.mark.parametrize("shape", list(shapes()), ids=lambda shape: f"{shape.format}-{shape.name}")
def test_a_hostile_shape_is_checked_and_edited_without_trouble(shape: Shape) -> None:
    text = shape.text(40_000)
    found = check_standalone(f"a.{shape.ending}", text.encode())
    assert len(found) < 1000
    document = FORMATS[shape.format].read(decode(text.encode()))
    entries = document.entries()
    assert all(entry.path for entry in entries), "the whole file has no name by which it could be set"
    secret_entries(NO_RULEBOOK, f"a.{shape.ending}", document)
    lines = text.splitlines() or [""]
    hidden_line(lines, len(lines) - 1)
    without_sounding(text)
    sounding_secret(document.text, len(text) // 2)
    with contextlib.suppress(EditRefused):
        document.set(document.resolve("a"), "2")


@pytest.mark.parametrize("root", ["{}", "[]", "word", "---", "", "null", "- a", '"x"', "[[]]", "{a: {}}", "7", "~"])
@pytest.mark.parametrize("kind", ["json", "yaml", "lua", "toml"])
def test_whatever_the_whole_file_is_each_entry_has_a_name(kind: str, root: str) -> None:
    for text in (root, f"{root}\n", f"return {root}"):
        document = FORMATS[kind].read(decode(text.encode()))
        assert all(entry.path for entry in document.entries())
        assert problems_of(document) is not None


@pytest.mark.parametrize("depth", [100, 253, 254, 255, 1000, 20_000])
@pytest.mark.parametrize("piece", ["- ", "? ", "- ? ", "-\t", "[", "{a: ", "a:\n "])
def test_no_depth_of_yaml_ends_the_process(depth: int, piece: str) -> None:
    """A grammar's library crashed from 254 open blocks on; the process itself would be gone."""
    check_standalone("a.yml", (piece * depth).encode())
    check_standalone("a.yml", "".join(" " * number + "a:\n" for number in range(min(depth, 1000))).encode())
    check_standalone("a.yml", "".join(" " * number + "- a\n" for number in range(min(depth, 1000))).encode() + b"\t[")
