"""The public conformance suites: what they take we take, what they refuse we refuse, and every value is changed alone.

They are not part of this project. Where they lie is said by ROUNDGATE_SUITES; without it these tests are skipped.
docs/formats.md tells the counts and gives the reason for each known difference.
"""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import pytest

from roundgate.core.checks.standalone import problems_here
from roundgate.core.formats import FORMATS, apply_edit, problems_of
from roundgate.core.formats.protocol import Document, EditRefused, Entry
from roundgate.core.text import NotText, decode

SUITES = os.environ.get("ROUNDGATE_SUITES", "")
pytestmark = pytest.mark.skipif(not SUITES, reason="ROUNDGATE_SUITES does not say where the conformance suites lie")


class Suite(NamedTuple):
    """A suite: its format, its folder, its files, and how many differ from it for reasons in docs/formats.md."""

    format: str
    folder: str
    pattern: str
    refused: int
    """Valid ones that we refuse."""
    taken: int
    """Invalid ones that we take."""
    unsafe: int = 0
    """Values that we cannot change safely, and leave as they are."""


ALL = (
    Suite("json", "json/JSONTestSuite", "*.json", 0, 0),
    Suite("yaml", "yaml/yaml-test-suite", "in.yaml", 0, 19, 10),
    Suite("toml", "toml/toml-test", "*.toml", 10, 0),
    Suite("properties", "properties/javaproperties", "*.properties", 2, 0),
)


def cases(suite: Suite, kind: str) -> Iterator[Path]:
    folder = Path(SUITES) / suite.folder / kind
    yield from sorted(path for path in folder.rglob(suite.pattern) if path.is_file())


def accepted(suite: Suite, path: Path) -> Document | None:
    """Return the document of a case that we take, None for one that we refuse."""
    try:
        document = FORMATS[suite.format].read(decode(path.read_bytes()))
    except NotText:
        return None
    wrong = any(problem.level == "error" for problem in problems_here("", document, ""))
    return None if wrong else document


@pytest.mark.parametrize("suite", ALL, ids=lambda suite: suite.format)
def test_we_take_what_the_suite_takes(suite: Suite) -> None:
    wrong = [str(path) for path in cases(suite, "valid") if accepted(suite, path) is None]
    assert len(wrong) == suite.refused, wrong


@pytest.mark.parametrize("suite", ALL, ids=lambda suite: suite.format)
def test_we_refuse_what_the_suite_refuses(suite: Suite) -> None:
    wrong = [str(path) for path in cases(suite, "invalid") if accepted(suite, path) is not None]
    assert len(wrong) == suite.taken, wrong


@pytest.mark.parametrize("suite", ALL, ids=lambda suite: suite.format)
def test_every_case_gives_the_same_bytes_and_nothing_but_findings(suite: Suite) -> None:
    for kind in ("valid", "invalid", "either"):
        for path in cases(suite, kind):
            try:
                text = decode(path.read_bytes())
            except NotText as error:
                assert str(error)
                continue
            assert text.encode() == path.read_bytes()
            document = FORMATS[suite.format].read(text)
            for entry in problems_of(document):
                assert 0 <= entry.start <= entry.end <= len(text.body) + 1, path


def another(entry: Entry) -> str:
    other = {"number": "7", "null": "5", "bool": "true" if entry.value == "false" else "false"}
    return other.get(entry.kind, "changed")


@pytest.mark.parametrize("suite", ALL, ids=lambda suite: suite.format)
def test_every_value_of_every_valid_case_is_changed_alone(suite: Suite) -> None:
    """An edit that is made changes one value and nothing else; what cannot be made is refused with a reason."""
    done: Counter[str] = Counter()
    kind = FORMATS[suite.format]
    for path in cases(suite, "valid"):
        document = accepted(suite, path)
        for number, entry in enumerate(document.entries() if document else ()):
            later = [one.path for one in document.entries()[number + 1 :]] if document else []
            if document is None or entry.kind in ("list", "map") or entry.path in later:
                continue
            try:
                changed = apply_edit(kind, document, document.set(entry.path, another(entry)))
            except EditRefused as error:
                done["refused" if "changed safely" not in str(error) else f"not confirmed {path} {entry.path}"] += 1
                continue
            done["changed"] += 1
            after = [one.value for one in changed.entries()]
            before = [one.value for one in document.entries()]
            assert after[:number] == before[:number], path
            assert after[number + 1 :] == before[number + 1 :] or len(after) != len(before), path
    unsafe = [why for why in done if why.startswith("not confirmed")]
    assert len(unsafe) == suite.unsafe, unsafe
    assert done["changed"] > 80
