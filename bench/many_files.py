"""Twenty thousand small files checked in one call, against reading and parsing each with its C reader on one core.

python bench/many_files.py [RUNS]

Wall time, for the call uses all cores; memory is the program's own peak, with a tenth of the files and with all.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
import tomllib
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import psutil
import yaml
from measure import end, say

COUNT = 20_000
MARK = 1.5
KINDS = {
    "json": '{{"officers": [\n'
    + ",\n".join(f'  {{{{"id": "GW-{n:04}", "rank": "marshal"}}}}' for n in range(30))
    + '\n], "n": {n}}}\n',
    "yaml": "n: {n}\n" + "".join(f"rank{n}:\n  rights: [a.b, c.d]\n  pay: {n}\n" for n in range(25)),
    "toml": "n = {n}\n" + "".join(f'[[levels]]\nname = "L{n}"\npoints = {n}\n' for n in range(30)),
    "xml": '<buoys n="{n}">\n' + "".join(f'  <buoy id="B{n}" x="1.5"/>\n' for n in range(50)) + "</buoys>\n",
    "properties": "n={n}\n" + "".join(f"boat.number{n}.slots={n}\n" for n in range(60)),
}
READERS = {
    "json": json.loads,
    "yaml": lambda body: yaml.load(body, Loader=yaml.CSafeLoader),
    "toml": tomllib.loads,
    "xml": ElementTree.fromstring,
    "properties": lambda body: [line.partition("=") for line in body.splitlines()],
}


def make(folder: Path, count: int) -> None:
    """Write the files, a hundred to a folder."""
    names = list(KINDS)
    for number in range(count):
        kind = names[number % len(names)]
        home = folder / f"server{number // 100:04}"
        home.mkdir(exist_ok=True)
        (home / f"file{number}.{kind}").write_text(KINDS[kind].format(n=number))


def floor(folder: Path) -> float:
    """Read and parse every file on one core; give the seconds."""
    begun = time.perf_counter()
    for path in sorted(folder.rglob("*.*")):
        READERS[path.suffix[1:]](path.read_text("utf-8"))
    return time.perf_counter() - begun


def check(folder: Path) -> tuple[float, float]:
    """Check every file by the program; give the seconds and the peak of its memory, workers included, in MB."""
    begun = time.perf_counter()
    process = psutil.Popen([sys.executable, "-m", "roundgate", "check", str(folder)], stdout=subprocess.DEVNULL)
    peak = 0.0
    while process.poll() is None:
        try:
            family = [process, *process.children(recursive=True)]
            peak = max(peak, sum(one.memory_info().rss for one in family) / 1e6)
        except psutil.Error:
            pass
        time.sleep(0.1)
    if process.returncode:
        raise SystemExit("the files are right, and the check says otherwise")
    return time.perf_counter() - begun, peak


def main() -> None:
    """Measure and print."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    with tempfile.TemporaryDirectory() as few, tempfile.TemporaryDirectory() as many:
        make(Path(few), COUNT // 10)
        make(Path(many), COUNT)
        pairs = [(floor(Path(many)), check(Path(many))) for _ in range(runs)]
        seconds_few, peak_few = check(Path(few))
    base = statistics.median(one for one, _ in pairs)
    ours = statistics.median(one[0] for _, one in pairs)
    peak = max(one[1] for _, one in pairs)
    kept = [
        say(f"{COUNT} files checked", ours / base, MARK, f"   floor {base:.1f} s, {COUNT / ours:.0f} files a second"),
        say("time for ten times as many files", ours / seconds_few, 12),
        say("memory for ten times as many files", peak / peak_few, 1.3, f"   {peak_few:.0f} MB, {peak:.0f} MB"),
    ]
    end(kept)


if __name__ == "__main__":
    main()
