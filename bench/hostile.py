"""Hostile shapes: does the time of a check grow with a file's size, or with its square?

Each shape is checked at one size and at four times that size. Prints the ratio of the two times; the mark is 8 (4 would
be linear). Times below a twentieth of a second are not compared, for there is nothing to see in them.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from hostile_shapes import Shape, shapes
from roundgate.core.checks.standalone import check_standalone

SMALL, TIMES, MARK, NOTHING = 50_000, 4, 8.0, 0.05


def seconds(shape: Shape, size: int) -> float:
    """Return the CPU time of one check, the shorter of two."""
    data = shape.text(size).encode()
    found = []
    for _ in range(2):
        began = time.process_time()
        check_standalone(f"a.{shape.ending}", data)
        found.append(time.process_time() - began)
    return min(found)


def main() -> None:
    """Print a line for every shape that takes time at all."""
    missed = 0
    for shape in shapes():
        large = seconds(shape, SMALL * TIMES)
        if large < NOTHING:
            continue
        ratio = large / max(seconds(shape, SMALL), 1e-4)
        missed += ratio > MARK
        word = "" if ratio <= MARK else "  MISSED"
        print(
            f"{shape.format:<11} {shape.name:<17} {large:6.2f} s for {SMALL * TIMES >> 10} kB  ratio {ratio:5.1f}{word}"
        )
    print(f"{missed} shapes miss the mark of {MARK:g}")


if __name__ == "__main__":
    main()
