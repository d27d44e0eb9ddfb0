"""Which of many examples a run takes: a sample of them, or all with ROUNDGATE_EVERY_ACT=1.

Each ROUNDGATE_SAMPLE, a number, gives another sample; CI takes it from the commit, and so tries all of them in turn.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TypeVar

ALL = bool(os.environ.get("ROUNDGATE_EVERY_ACT"))
NUMBER = int(os.environ.get("ROUNDGATE_SAMPLE", "0"))

Example = TypeVar("Example")


def sampled(examples: Sequence[Example], one_in: int) -> Sequence[Example]:
    """Return one in so many examples, and at least one; or all of them."""
    if ALL or not examples:
        return examples
    return examples[NUMBER % min(one_in, len(examples)) :: one_in]
