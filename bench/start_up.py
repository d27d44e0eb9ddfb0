"""Start-up of the program against the smallest Typer program, processor time, in one run.

python bench/start_up.py [RUNS]

Install the package first (`pip install .`), not editable: byte code must be compiled, as it is for a user.
"""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

from measure import end, in_turn, report

from roundgate.cli import demo

BARE = """
import typer

app = typer.Typer()


@app.command()
def hello(name: str = "Wren") -> None:
    print(name)


app()
"""
MARKS = {"--version": 1.15, "--help": 1.15, "show": 1.6, "set": 1.6, "explain": 1.6, "completion": 1.4, "status": 2.0}


def main() -> None:
    """Measure and print."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder) / "saltmarsh"
        site.mkdir()
        lobby, port = demo._start_lobby(site)
        demo._make_site(site, port)
        demo._run(site, "start @all", quiet=True)
        bare = Path(folder) / "bare.py"
        bare.write_text(BARE)
        program = [sys.executable, "-m", "roundgate"]
        commands = {
            "bare": [sys.executable, str(bare)],
            "bare --help": [sys.executable, str(bare), "--help"],
            "--version": [*program, "--version"],
            "--help": [*program, "--help"],
            "show": [*program, "show", "regatta"],
            "set": [*program, "set", "regatta", "race.slots=20"],
            "explain": [*program, "explain", "regatta", "idle.drop"],
            "status": [*program, "status"],
            "completion": [
                "env",
                "_ROUNDGATE_COMPLETE=complete_bash",
                "COMP_WORDS=roundgate show ra",
                "COMP_CWORD=2",
                *program,
            ],
        }
        try:
            found = in_turn(commands, runs, cwd=site, env={**os.environ, "PYTHONDONTWRITEBYTECODE": ""})
        finally:
            demo._run(site, "stop @all", quiet=True)
            lobby.terminate()
            lobby.wait()
    print(f"the smallest Typer program: {found['bare'] * 1000:.0f} ms of processor time, median of {runs}")
    floors = {name: found["bare --help" if name == "--help" else "bare"] for name in MARKS}
    end([report(f"roundgate {name}", found[name] / floors[name], mark) for name, mark in MARKS.items()])


if __name__ == "__main__":
    main()
