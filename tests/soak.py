"""Run the whole suite again and again, several runs at a time, and count the runs that fail.

    python tests/soak.py [--runs N] [--workers 2,4] [--together K] [WORDS FOR PYTEST...]

For tests that fail by chance: by time, by order, by a port or a process of another test. Each run has a network, a list
of processes and a temporary folder of its own, so that the runs load the machine and nothing else of each other; that
needs Linux, root and ``unshare`` of util-linux. What each run prints is kept in ``build/soak``. Ends with 1 where a run
failed.
"""

from __future__ import annotations

import argparse
import os
import shlex
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parent.parent
LOGS = ROOT / "build" / "soak"


def run(number: int, workers: int, words: list[str]) -> bool:
    """Run the suite once; return whether it passed."""
    log = LOGS / f"{number}.log"
    pytest = [sys.executable, "-m", "pytest", "-n", str(workers), "-p", "no:cacheprovider", *words]
    # No exec: the shell is the first process there, and takes leave of those whose parents have ended.
    inside = f"ip link set lo up; {shlex.join(pytest)}; exit $?"
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="soak") as folder, log.open("wb") as file:
        Path(folder).chmod(0o755)  # some tests start a server as another user
        done = subprocess.run(
            ["unshare", "--net", "--pid", "--fork", "--mount-proc", "sh", "-c", inside],
            cwd=ROOT,
            env={**os.environ, "TMPDIR": folder},
            stdout=file,
            stderr=subprocess.STDOUT,
            check=False,
        )
    last = log.read_text("utf-8", "replace").strip().splitlines()[-1:] or ["no output"]
    took = f"{time.monotonic() - began:.0f} s"
    print(f"run {number}, -n {workers}: exit code {done.returncode}, {took}: {last[0]}", flush=True)
    return done.returncode == 0


def main() -> int:
    """Run; print a line for each run and the number of those that passed."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=10)
    parser.add_argument("--workers", default="2,4", help="taken in turn")
    parser.add_argument("--together", type=int, default=2)
    options, words = parser.parse_known_args()
    LOGS.mkdir(parents=True, exist_ok=True)
    workers = [int(word) for word in options.workers.split(",")]
    with ThreadPoolExecutor(options.together) as pool:
        passed = list(pool.map(lambda number: run(number, workers[number % len(workers)], words), range(options.runs)))
    print(f"{sum(passed)} of {len(passed)} runs passed")
    return 0 if all(passed) else 1


if __name__ == "__main__":
    raise SystemExit(main())
