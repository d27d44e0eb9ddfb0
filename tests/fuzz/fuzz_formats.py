"""Coverage-guided fuzzing of one format: any bytes give the same bytes, nothing but our own findings, and honest edits.

    pip install atheris
    python tests/fuzz/fuzz_formats.py FORMAT CORPUS_FOLDER -max_total_time=600

What it finds belongs into tests/corpus/. It is not part of the default tests: a run takes minutes.
"""

from __future__ import annotations

import contextlib
import sys
from importlib import import_module
from pathlib import Path

import atheris

FORMATS_FOLDER = Path(__file__).parents[2] / "src" / "roundgate" / "core" / "formats"
NAME = sys.argv.pop(1)

with atheris.instrument_imports(include=["roundgate.core"]):
    for folder in (NAME, "shared"):  # a format's modules are else imported when they are needed
        for path in sorted((FORMATS_FOLDER / folder).glob("[a-z]*.py")):
            import_module(f"roundgate.core.formats.{folder}.{path.stem}")
    from roundgate.core.checks.standalone import problems_here
    from roundgate.core.formats import FORMATS, apply_edit, apply_switch
    from roundgate.core.formats.protocol import EditRefused
    from roundgate.core.formats.shared import window
    from roundgate.core.repairs import with_repairs
    from roundgate.core.text import NotEncodable, NotText, decode

KIND = FORMATS[NAME]


def one_input(data: bytes) -> None:
    """Read, check, fix and edit one text."""
    try:
        text = decode(data)
    except NotText:
        return
    assert text.encode() == data
    document = KIND.read(text)
    problems = problems_here(f"x.{NAME}", document, NAME)
    for problem in problems:
        assert 0 <= problem.start <= problem.end <= len(text.body) + 2, problem
        assert problem.cause
        assert problem.code
        for cut in problem.repair:
            assert 0 <= cut.start <= cut.end <= len(text.body), problem
        text.spliced(problem.repair)
    with contextlib.suppress(EditRefused, NotEncodable):
        with_repairs(KIND, document)
    entries = document.entries()
    window.LARGE = len(data) % 3 * 100  # so that some are edited by the lines around the value
    if not entries:
        return
    entry = entries[len(data) % len(entries)]
    for change in (lambda: document.set(entry.path, "7"), lambda: document.remove(entry.path)):
        with contextlib.suppress(EditRefused, NotEncodable):
            apply_edit(KIND, document, change())
    with contextlib.suppress(EditRefused, NotEncodable):
        back = apply_switch(KIND, apply_switch(KIND, document, entry.path, on=False), entry.path, on=True)
        assert NAME == "lines" or back.plain() == document.plain()
    for off in document.switched_off()[:2]:
        with contextlib.suppress(EditRefused, NotEncodable):
            apply_switch(KIND, document, off.path, on=True)


atheris.Setup([sys.argv[0], *sys.argv[1:]], one_input)
atheris.Fuzz()
