"""The pages of the catalogue: each bad example gives its finding, each good one none."""

from __future__ import annotations

import pytest

from roundgate.core.checks.standalone import problems_here
from roundgate.core.findings import FindingCode
from roundgate.core.formats import FORMATS
from roundgate.core.formats.catalogue import CODES
from roundgate.core.text import Text

WITH_EXAMPLES = [code for code in CODES if code.format]


def codes_in(body: str, name: str) -> set[str]:
    return {problem.code for problem in problems_here(f"x.{name}", FORMATS[name].read(Text(body)), name)}


@pytest.mark.parametrize("code", WITH_EXAMPLES, ids=lambda code: code.name)
def test_the_bad_example_gives_the_finding_and_the_good_one_none(code: FindingCode) -> None:
    assert code.name in codes_in(code.bad, code.format)
    assert codes_in(code.good, code.format) == set()


def test_there_are_enough_of_them_and_each_has_one_name() -> None:
    assert len(WITH_EXAMPLES) >= 40
    assert len({code.name for code in CODES}) == len(CODES)
    assert all(code.page and code.title for code in CODES)
