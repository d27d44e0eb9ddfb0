"""People at size: ids out of a 1 GB log against ``grep``, and rosters of 100,000 ids.

Held to: two thirds of the speed of ``grep`` for the same pattern, and under 64 MB of memory; a second look at the log
in next to no time; ``show``, ``add`` and ``roster sync`` on 100,000 ids within 1.5 s of processor time and 200 MB.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

import roundgate

BOOK = (Path(roundgate.__file__).parent / "rulebooks" / "gullwind.toml").read_text("utf-8")
LOG_BYTES = 1_000_000_000
IDS = 100_000
_LETTERS = "23456789ABCDEFGHJKLMNPQRSTUVWXYZ"
_NO_BYTECODE = "PYTHONDONTWRITEBYTECODE"
"""An installed program has its bytecode; with this set, each call would compile the sources again."""
PATTERN = r"sailor .+ \(GW-[0-9A-Z]{4}-[0-9A-Z]{4}\) (came aboard|went ashore)"


def identifier(number: int) -> str:
    """Return an id; another one for each number."""
    mixed = (number + 1) * 2654435761 % 2**40
    signs = "".join(_LETTERS[mixed >> (5 * at) & 31] for at in range(8))
    return f"GW-{signs[:4]}-{signs[4:]}"


def measured(words: list[str], folder: Path, **more: str) -> tuple[float, float, float]:
    """Run a command; return its processor time and wall time in seconds, and its largest memory in MB.

    What it prints goes into a file: ``grep`` ends at the first hit where nobody reads them.
    """
    code = (
        "import resource, subprocess, sys, time; out = open('out.txt', 'w'); began = time.monotonic();"
        "done = subprocess.run(sys.argv[1:], stdout=out, stderr=subprocess.PIPE);"
        "used = resource.getrusage(resource.RUSAGE_CHILDREN);"
        "print(used.ru_utime + used.ru_stime, time.monotonic() - began, used.ru_maxrss / 1024);"
        "sys.exit(done.returncode and (done.stderr.decode() or str(done.returncode)))"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, *words],
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
        env={**{name: value for name, value in os.environ.items() if name != _NO_BYTECODE}, **more},
    )
    if done.returncode:
        raise SystemExit(f"{words}: {done.stderr}")
    processor, wall, memory = map(float, done.stdout.split())
    return processor, wall, memory


def site(folder: Path) -> Path:
    """Make a site with one server that is down; return the server's folder."""
    home = folder / "regatta"
    (home / "logs").mkdir(parents=True)
    (folder / "roundgate.toml").write_text(
        '[site]\nname = "Saltmarsh"\n\n[server.regatta]\nfolder = "regatta"\nstart = ["true"]\nrulebook = "gullwind"\n'
    )
    (home / "gullwind.properties").write_text("guests.only=true\n")
    (home / "courses.txt").write_text("Harbour Mile\n")
    return home


def write_log(path: Path) -> None:
    """Write a log of which one line in ten tells of somebody who comes or goes."""
    lines = []
    for number in range(20_000):
        at = f"[2026-11-{number % 28 + 1:02} {number % 24:02}:{number % 60:02}:{number % 60:02}] "
        if number % 10 == 0:
            verb = "came aboard" if number % 20 else "went ashore"
            lines.append(f"{at}sailor Old Godwit {number % 700} ({identifier(number % 700)}) {verb}\n")
        else:
            lines.append(f"{at}tide 3.1 m, wind 9 kn from sw, heat {number}, mark {number % 7} rounded in time\n")
    block = "".join(lines).encode()
    with path.open("wb") as file:
        for _ in range(LOG_BYTES // len(block) + 1):
            file.write(block)


def logs(folder: Path) -> bool:
    """Measure reading ids from a log."""
    home = site(folder)
    write_log(home / "logs" / "latest.log")
    run = [sys.executable, "-m", "roundgate", "--site", str(folder)]
    search = ["grep", "-aE", PATTERN, str(home / "logs" / "latest.log")]
    grep = measured(search, folder, LC_ALL="C.UTF-8")[1]
    ascii_only = measured(search, folder, LC_ALL="C")[1]
    _, first, memory = measured([*run, "people", "seen", "regatta"], folder)
    _, second, _ = measured([*run, "people", "seen", "regatta"], folder)
    _, nothing, _ = measured([*run, "people"], folder)
    print(f"1 GB log: grep {grep:.1f} s, people seen {first:.1f} s: {grep / first:.2f} of its speed (mark 0.67)")
    print(f"  memory {memory:.0f} MB (mark 64)")
    print(
        f"  grep that knows no letters beyond ASCII (LC_ALL=C): {ascii_only:.1f} s, {ascii_only / first:.2f} (no mark)"
    )
    print(f"  a second look: {second / nothing:.2f} times a command that reads no log (mark 2)")
    return grep / first >= 0.67 and memory < 64 and second / nothing < 2


def rosters(folder: Path) -> bool:
    """Measure commands on rosters of many ids."""
    home = site(folder)
    (home / "guestlist.txt").write_text("".join(f"{identifier(number)}\n" for number in range(IDS)))
    (folder / "people.toml").write_text(
        f'[person.wren]\nname = "Wren"\nids.sailor = ["{identifier(IDS + 5)}"]\nwanted = {{ regatta = "guests" }}\n'
    )
    run = [sys.executable, "-m", "roundgate", "--site", str(folder)]
    well = True
    for words in (
        ["show", "regatta", "guests"],
        ["add", "regatta", "guests", identifier(IDS + 1)],
        ["roster", "sync", "regatta"],
        ["roster", "regatta"],
        ["check", "regatta"],
    ):
        processor, _, memory = measured([*run, *words], folder)
        measured([*run, "discard", "regatta"], folder)
        is_held = words[0] in ("show", "add") or words[1] == "sync"
        mark = " (marks 1.5 s, 200 MB)" if is_held else ""
        print(f"{IDS:,} ids, {' '.join(words[:3])}: {processor:.2f} s, {memory:.0f} MB{mark}")
        well = well and (not is_held or (processor <= 1.5 and memory < 200))
    return well


def main() -> None:
    """Measure, and end with 1 where a mark is missed."""
    results = []
    for part in (rosters, logs):
        with tempfile.TemporaryDirectory() as folder:
            results.append(part(Path(folder)))
    raise SystemExit(0 if all(results) else 1)


if __name__ == "__main__":
    main()
