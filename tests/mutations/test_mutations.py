"""The list of mutations fits the code: each can be made, in one place, and its tests are there."""

from __future__ import annotations

import shlex
import sys
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from mutations import MUTATIONS

ROOT = Path(__file__).parents[2]


def test_each_mutation_can_be_made_in_one_place_of_the_code() -> None:
    wrong = {
        f"{mutation.module}: {mutation.old!r}": count
        for mutation in MUTATIONS
        if (count := (ROOT / "src" / "roundgate" / mutation.module).read_text("utf-8").count(mutation.old)) != 1
    }
    assert not wrong, "these are found so often; write them for the code as it is now"
    assert all(mutation.new != mutation.old for mutation in MUTATIONS)


def test_no_mutation_is_there_twice_and_each_names_tests_that_are_there() -> None:
    counted = Counter((mutation.module, mutation.old, mutation.new) for mutation in MUTATIONS)
    assert [key for key, count in counted.items() if count > 1] == []
    for mutation in MUTATIONS:
        paths = [word.partition("::")[0] for word in shlex.split(mutation.tests) if word.startswith("tests/")]
        assert paths and all((ROOT / path).exists() for path in paths), mutation.tests
    assert len(MUTATIONS) >= 120
