"""The corpus: files that are right, and files with a mistake or a few, in ``corpus/FORMAT/{good,bad}/``.

Beside each bad file stands its sidecar: the codes that a check must give, with line and column, in order.
"""

from __future__ import annotations

from pathlib import Path

CORPUS = Path(__file__).parent / "corpus"


def files(kind: str) -> list[Path]:
    """Give every ``good`` or ``bad`` file, sidecars left out."""
    return sorted(path for path in CORPUS.glob(f"*/{kind}/*") if path.suffix != ".expect")


def format_of(path: Path) -> str:
    """Give the format of a file of the corpus: its folder's name."""
    return path.parent.parent.name


def expected(path: Path) -> list[tuple[str, int, int]]:
    """Give what a check of a bad file must find."""
    lines = path.with_name(path.name + ".expect").read_text("utf-8").splitlines()
    return [(code, int(line), int(column)) for code, line, column in (one.split() for one in lines)]


def name_of(path: Path) -> str:
    """Give the name under which a test of a file runs."""
    return f"{format_of(path)}-{path.stem}"
