"""What of many examples is run: all with ROUNDGATE_EVERY_ACT=1, a third each with ``1/3``, ``2/3`` and ``3/3``."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TypeVar

Example = TypeVar("Example")


def share_of(examples: Sequence[Example]) -> Sequence[Example]:
    """Give the share of long-running examples that this run is to take. CI takes a third, as the commit says."""
    part, _, of = os.environ.get("ROUNDGATE_EVERY_ACT", "1").partition("/")
    return examples[(int(part) - 1) % int(of or 1) :: int(of or 1)]
