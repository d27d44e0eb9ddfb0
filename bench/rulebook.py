"""What the full Gullwind rulebook adds to a command, against a rulebook of one setting, processor time, in one run.

python bench/rulebook.py [RUNS]

The mark: reading it adds less than 20 ms. Beside it, for the eye, what `show` and `check` cost with either.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path
from statistics import median

from measure import in_turn

from roundgate.host.rulebooks import load_rulebook

SMALL = """[rulebook]
name = "small"
[file.core]
path = "gullwind.properties"
format = "properties"
[setting."race.slots"]
file = "core"
key = "boat.slots"
type = "int"
"""
MOST = 0.020
"""Seconds that reading the rulebook may add."""


def main() -> None:
    """Measure, print, and end with 1 where the mark is missed."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder)
        (site / ".roundgate").mkdir(mode=0o700)
        (site / "rulebooks").mkdir()
        (site / "rulebooks" / "small.toml").write_text(SMALL)
        names = ("gullwind", "small")
        table = '[server.{0}]\nfolder = "{0}"\nstart = ["true"]\nrulebook = "{0}"\n'
        tables = "".join(table.format(name) for name in names)
        (site / "roundgate.toml").write_text(tables)
        for name in names:
            (site / name).mkdir()
            (site / name / "gullwind.properties").write_text("boat.slots=16\n")
            (site / name / "courses.txt").write_text("Long Reach\n")
        took = {name: median(_read(name, site) for _ in range(runs)) for name in names}
        program = [sys.executable, "-m", "roundgate"]
        commands = {f"{verb} {name}": [*program, verb, name] for verb in ("show", "check") for name in names}
        found = in_turn(commands, runs, cwd=site)
    added = took["gullwind"] - took["small"]
    print(f"reading it adds {added * 1000:.1f} ms (at most {MOST * 1000:.0f} ms): {'ok' if added < MOST else 'MISSED'}")
    for verb in ("show", "check"):
        full, small = found[f"{verb} gullwind"], found[f"{verb} small"]
        print(f"{verb}: {full * 1000:.0f} ms with it, {small * 1000:.0f} ms with one setting")
    raise SystemExit(added >= MOST)


def _read(name: str, site: Path) -> float:
    began = time.process_time()
    load_rulebook(name, site)
    return time.process_time() - began


if __name__ == "__main__":
    main()
