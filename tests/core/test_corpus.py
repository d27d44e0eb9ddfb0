"""Every file of the corpus: what is right passes and can be edited, what is wrong is said with its place and fixed."""

from __future__ import annotations

from pathlib import Path

from corpus_files import each_file, expected, files, format_of
from roundgate.core.checks.standalone import problems_here
from roundgate.core.findings import Problem
from roundgate.core.formats import FORMATS, apply_edit
from roundgate.core.formats.protocol import Document, Edit, EditRefused, Entry, Format
from roundgate.core.formats.protocol import Path as Path_
from roundgate.core.text import decode

OTHER = {"number": "7", "null": "5"}
LINE_ENDS = [b"\n", b"\r\n"]


def read(path: Path, newline: bytes = b"\n") -> Document:
    data = path.read_bytes().replace(b"\n", newline)
    text = decode(data)
    assert text.encode() == data
    return FORMATS[format_of(path)].read(text)


def found(document: Document, path: Path) -> list[Problem]:
    return list(problems_here(path.name, document, format_of(path)))


def another(entry: Entry) -> str:
    """Return another value of the same kind."""
    if entry.kind == "bool":
        return "true" if entry.value == "false" else "false"
    return OTHER.get(entry.kind, "9999" if entry.value.isdigit() else "changed")


def is_windows_script(path: Path, newline: bytes) -> bool:
    return format_of(path) == "launch" and newline == b"\r\n" and path.suffix == ".sh"


def only_here(document: Document, edit: Edit, changed: Document) -> None:
    """See that every byte outside the edit's splices is as it was."""
    old, new = document.text.body, changed.text.body
    at, shift = 0, 0
    for cut in sorted(edit.splices, key=lambda one: (one.start, one.end)):
        assert new[at + shift : cut.start + shift] == old[at : cut.start]
        at, shift = cut.end, shift + len(cut.new) - (cut.end - cut.start)
    assert new[at + shift :] == old[at:]
    assert (changed.text.encoding, changed.text.bom) == (document.text.encoding, document.text.bom)


@each_file("good")
def test_what_is_right_passes(path: Path) -> None:
    for newline in LINE_ENDS:
        if not is_windows_script(path, newline):
            assert found(read(path, newline), path) == []


def paths_of(document: Document) -> list[Path_]:
    """Return a path for each entry; of a key that stands several times also which of them."""
    paths = [entry.path for entry in document.entries()]
    return [(*path, paths[:at].count(path)) if paths.count(path) > 1 else path for at, path in enumerate(paths)]


def holds_another(document: Document, entry: Entry) -> bool:
    """Return whether other entries stand inside this one's value."""
    return any(one is not entry and entry.start <= one.start and one.end <= entry.end for one in document.entries())


@each_file("good")
def test_every_value_is_changed_alone(path: Path) -> None:
    """Each value once to another and back; all other values and all bytes outside the edit stay."""
    for newline in LINE_ENDS:
        change_every_value(read(path, newline), FORMATS[format_of(path)])


def change_every_value(document: Document, kind: Format) -> None:
    before = [one.value for one in document.entries()]
    for number, (entry, where) in enumerate(zip(document.entries(), paths_of(document), strict=True)):
        if entry.kind in ("list", "map", "code") or holds_another(document, entry):
            continue
        try:
            edit = document.set(where, another(entry))
            changed = apply_edit(kind, document, edit)
        except EditRefused as error:
            assert "cannot be changed safely" not in str(error), entry
            continue
        only_here(document, edit, changed)
        wanted = [
            another(entry) if at == number or old.start <= entry.start < old.end else old.value
            for at, old in enumerate(document.entries())
        ]
        after = [one.value for one in changed.entries()]
        around = [at for at, old in enumerate(document.entries()) if old.start < entry.start < old.end]
        assert [one for at, one in enumerate(after) if at not in around] == [
            one for at, one in enumerate(wanted) if at not in around
        ], entry
        if entry.value and entry.kind != "null":
            again = apply_edit(kind, changed, changed.set(where, entry.value))
            assert [one.value for one in again.entries()] == before


@each_file("good")
def test_every_value_is_removed_alone(path: Path) -> None:
    document, kind = read(path), FORMATS[format_of(path)]
    for where in paths_of(document):
        try:
            edit = document.remove(where)
            changed = apply_edit(kind, document, edit)
        except EditRefused as error:
            assert "cannot be changed safely" not in str(error), where
            continue
        only_here(document, edit, changed)
        assert {finding.code for finding in found(changed, path)} <= {"file-empty"}, changed.text.body


def marked(document: Document, path: Path) -> list[tuple[str, int, int, str]]:
    """Return each finding with its place, and the text that it marks; of a line's end, the first character."""
    found_here = found(document, path)
    texts = [document.text.body[problem.start : problem.end] for problem in found_here]
    ends = [text.replace("\r\n", "\n").replace("\r", "\n") for text in texts]
    places = [document.text.place(problem.start) for problem in found_here]
    return [(problem.code, *place, end) for problem, place, end in zip(found_here, places, ends, strict=True)]


@each_file("bad")
def test_what_is_wrong_is_said_at_its_place(path: Path) -> None:
    document = read(path)
    assert marked(document, path) == expected(path)


@each_file("bad")
def test_the_line_ends_make_no_difference(path: Path) -> None:
    document = read(path, b"\r\n")
    if not is_windows_script(path, b"\r\n"):
        assert marked(document, path) == expected(path)


@each_file("bad")
def test_each_repair_that_is_offered_mends_its_mistake(path: Path) -> None:
    document, kind = read(path), FORMATS[format_of(path)]
    problems = found(document, path)
    for problem in problems:
        if not problem.repair:
            continue
        mended = kind.read(document.text.spliced(problem.repair))
        left = [other.code for other in found(mended, path)]
        same = sum(other.code == problem.code for other in problems)
        assert left.count(problem.code) == same - 1, f"{mended.text.body!r} {left}"
        assert len(left) <= len(problems) - 1 or "more-problems" in left, f"{mended.text.body!r} {left}"


def test_the_corpus_is_several_hundred_files_of_every_format() -> None:
    bad, good = files("bad"), files("good")
    assert len(bad) >= 300
    assert len(good) >= 100
    assert {format_of(path) for path in bad} == {format_of(path) for path in good} == set(FORMATS)
