"""The corpus: files that are right, and files with a mistake or a few, in ``corpus/FORMAT/{good,bad}/``.

Beside each bad file stands its sidecar: the codes that a check must give, with line and column, in order.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest

CORPUS = Path(__file__).parent / "corpus"


def files(kind: str) -> list[Path]:
    """Return every ``good`` or ``bad`` file, sidecars left out."""
    return sorted(path for path in CORPUS.glob(f"*/{kind}/*") if path.suffix != ".expect")


def format_of(path: Path) -> str:
    """Return the format of a file of the corpus: its folder's name."""
    return path.parent.parent.name


def each_file(kind: str) -> Callable[[Callable[[Path], None]], Callable[[str], None]]:
    """Run a test on every file of a kind: one item for each format, since thousands of items are slow to collect.

    A failure names the file.
    """
    formats = sorted({format_of(path) for path in files(kind)})

    def over_files(test: Callable[[Path], None]) -> Callable[[str], None]:
        @pytest.mark.parametrize("form", formats)
        def run(form: str) -> None:
            for path in files(kind):
                if format_of(path) == form:
                    try:
                        test(path)
                    except BaseException as error:
                        error.add_note(f"the file: {path}")
                        raise

        run.__doc__ = test.__doc__
        return run

    return over_files


def expected(path: Path) -> list[tuple[str, int, int, str]]:
    """Return what a check of a bad file must find: the code, line and column, and the text that is marked."""
    lines = path.with_name(path.name + ".expect").read_text("utf-8").splitlines()
    rows = [line.split(" ", 3) for line in lines]
    return [(code, int(line), int(column), json.loads(marked)) for code, line, column, marked in rows]


def name_of(path: Path) -> str:
    """Return the name under which a test of a file runs."""
    return f"{format_of(path)}-{path.stem}"
