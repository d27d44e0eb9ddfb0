"""Make each mutation in a copy of the code, and see that a test fails.

    python tests/mutations/run.py [--sample N --seed TEXT] [--only WORD] [--jobs N]

Ends with 1 where more than one mutation in twenty survives, or one cannot be made.
"""

from __future__ import annotations

import argparse
import os
import random
import shlex
import shutil
import site
import subprocess
import tempfile
import venv
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from mutations import MUTATIONS, Mutation

ROOT = Path(__file__).parents[2]
MOST_SECONDS = 600
TEST_SECONDS = 120
"""A change that makes a loop endless is caught by its test once this has passed; the longest test needs half of it."""
LEFT_OUT = ("PYTHONPATH", "ROUNDGATE_EVERY_ACT", "ROUNDGATE_SAMPLE")
"""A mutation is judged by what the default run tests, wherever this runs."""


def outcome(mutation: Mutation) -> str:
    """Return ``caught``, ``SURVIVED``, ``NO TESTS``, ``TOO LONG`` or ``NOT MADE``."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder)
        copy_code(copy)
        path = copy / "src" / "roundgate" / mutation.module
        text = path.read_text("utf-8")
        if text.count(mutation.old) != 1:
            return f"NOT MADE ({text.count(mutation.old)} places)"
        path.write_text(text.replace(mutation.old, mutation.new), "utf-8")
        python = interpreter(copy)
        command = [str(python), "-m", "pytest", "-x", "-q", "-n", "0", "-p", "no:cacheprovider"]
        command += ["--timeout", str(TEST_SECONDS)]
        environment = {name: value for name, value in os.environ.items() if name not in LEFT_OUT}
        try:
            done = subprocess.run(
                [*command, *shlex.split(mutation.tests)],
                cwd=copy,
                env=environment,
                capture_output=True,
                text=True,
                timeout=MOST_SECONDS,
                check=False,
            )
        except subprocess.TimeoutExpired:
            return "TOO LONG"
        return {0: "SURVIVED", 5: "NO TESTS"}.get(done.returncode, "caught")


def copy_code(copy: Path) -> None:
    """Copy the code, and what its tests read, into an empty folder."""
    for name in ("src", "tests", "docs", "bench", "man"):
        shutil.copytree(ROOT / name, copy / name, ignore=shutil.ignore_patterns("__pycache__"))
    for name in ("pyproject.toml", "README.md", "CHANGELOG.md", "CONTRIBUTING.md"):
        shutil.copy(ROOT / name, copy / name)


def interpreter(copy: Path) -> Path:
    """Make an interpreter that finds the copy's code before any that is installed, for tests change PYTHONPATH."""
    venv.create(copy / "venv", symlinks=True)
    found = next((copy / "venv" / "lib").glob("python*/site-packages"))
    (found / "copy.pth").write_text(f"{copy / 'src'}\n{site.getsitepackages()[0]}\n")
    return copy / "venv" / "bin" / "python"


def chosen(sample: int, seed: str, only: str) -> list[Mutation]:
    """Return the mutations to make: those with a word, or a sample that a text decides, or all."""
    found = [mutation for mutation in MUTATIONS if only in f"{mutation.module} {mutation.old}"]
    return random.Random(seed).sample(found, min(sample, len(found))) if sample else found


def main() -> int:
    """Run; print a line for each mutation and the share that was caught."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--sample", type=int, default=0)
    parser.add_argument("--seed", default="")
    parser.add_argument("--only", default="")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    options = parser.parse_args()
    mutations = chosen(options.sample, options.seed, options.only)
    bad = 0
    with ThreadPoolExecutor(options.jobs) as pool:
        for mutation, output in zip(mutations, pool.map(outcome, mutations), strict=True):
            bad += not output.startswith("caught")
            what = mutation.old.strip().splitlines()[0][:80]
            print(f"{output:20} {mutation.module:36} {what}", flush=True)
    print(f"{len(mutations) - bad} of {len(mutations)} caught")
    return 1 if bad * 20 > len(mutations) else 0


if __name__ == "__main__":
    raise SystemExit(main())
