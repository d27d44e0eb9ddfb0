"""The page of faults is current, and each of its rows is held by a test that is there."""

from __future__ import annotations

import re
import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from table import PAGE, ROWS, page

TESTS = Path(__file__).parent.parent


def test_the_page_of_faults_is_current() -> None:
    assert PAGE.read_text("utf-8") == page()
    assert len(ROWS) >= 60 and len({row[:3] for row in ROWS}) == len(ROWS)


def test_each_row_is_held_by_a_test() -> None:
    for row in ROWS:
        module, name = row.test.split("::")
        (path,) = TESTS.rglob(f"{module}.py")
        assert re.search(rf"^def {name}\(", path.read_text("utf-8"), re.MULTILINE), row.test
