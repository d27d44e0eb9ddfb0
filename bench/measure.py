"""What the benches share: commands timed in turn, so that a slow spell of the machine hits all alike."""

from __future__ import annotations

import resource
import statistics
import subprocess
import sys
import time
from collections.abc import Mapping, Sequence


def child_cpu(command: Sequence[str], **more: object) -> tuple[float, float]:
    """Run a command; return its processor time and its wall time in seconds."""
    before, began = resource.getrusage(resource.RUSAGE_CHILDREN), time.perf_counter()
    subprocess.run(command, check=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)  # type: ignore[call-overload]
    wall, after = time.perf_counter() - began, resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, wall


def in_turn(commands: Mapping[str, Sequence[str]], runs: int, **more: object) -> dict[str, float]:
    """Run every command ``runs`` times, in turn; return each one's median processor time."""
    times: dict[str, list[float]] = {name: [] for name in commands}
    for number in range(runs + 1):
        for name, command in commands.items():
            cpu, _ = child_cpu(command, **more)
            if number:  # the first turn warms the disk's cache
                times[name].append(cpu)
    return {name: statistics.median(found) for name, found in times.items()}


def report(name: str, ratio: float, mark: float, more: str = "") -> bool:
    """Print a ratio and its mark; return whether it is kept."""
    kept = ratio <= mark
    print(f"{'ok  ' if kept else 'OVER'}  {name:<46} {ratio:5.2f}  (mark {mark}){more}")
    return kept


def end(kept: Sequence[bool]) -> None:
    """End with 1 where a mark is missed."""
    sys.exit(0 if all(kept) else 1)
