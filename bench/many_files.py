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
from measure import end, report

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
    """Write the files, ten to a server, and a site of those servers."""
    names = list(KINDS)
    site = ['[site]\nname = "Saltmarsh Sailing Club"\n']
    for number in range(count):
        kind = names[number % len(names)]
        home = folder / f"server{number // 10:04}"
        if not home.exists():
            home.mkdir()
            site.append(f'[server.{home.name}]\nfolder = "{home.name}"\nstart = ["./launch.sh"]\n')
        (home / f"file{number}.{kind}").write_text(KINDS[kind].format(n=number))
    (folder / "roundgate.toml").write_text("\n".join(site))


def floor(folder: Path) -> float:
    """Read and parse every file on one core; return the seconds."""
    begun = time.perf_counter()
    for path in sorted(folder.rglob("file*.*")):
        READERS[path.suffix[1:]](path.read_text("utf-8"))
    return time.perf_counter() - begun


def check(folder: Path, word: str) -> tuple[float, float]:
    """Check a folder, or all servers; return the seconds and the peak of the memory, workers included, in MB."""
    begun = time.perf_counter()
    words = [sys.executable, "-m", "roundgate", "check", word]
    process = psutil.Popen(words, stdout=subprocess.DEVNULL, cwd=folder)
    peak = 0.0
    while process.poll() is None:
        try:
            family = [process, *process.children(recursive=True)]
            peak = max(peak, sum(member.memory_info().rss for member in family) / 1e6)
        except psutil.Error:
            pass
        time.sleep(0.1)
    if process.returncode:
        raise SystemExit("the files are right, and the check says otherwise")
    return time.perf_counter() - begun, peak


def main() -> None:
    """Measure and print."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    kept = []
    with tempfile.TemporaryDirectory() as few, tempfile.TemporaryDirectory() as many:
        make(Path(few), COUNT // 10)
        make(Path(many), COUNT)
        times: dict[str, list[tuple[float, float]]] = {".": [], "@all": []}
        floors = []
        for _ in range(runs):
            floors.append(floor(Path(many)))
            for word, several in times.items():
                several.append(check(Path(many), word))
        base = statistics.median(floors)
        for word, several in times.items():
            ours, peak = statistics.median(one for one, _ in several), max(one for _, one in several)
            seconds_few, peak_few = check(Path(few), word)
            name = f"{COUNT} files of {COUNT // 10} servers" if word == "@all" else f"{COUNT} files of a folder"
            speed = f"   floor {base:.1f} s, {COUNT / ours:.0f} files a second"
            kept.append(report(f"{name} checked", ours / base, MARK, speed))
            kept.append(report("time for ten times as many", ours / seconds_few, 12))
            kept.append(
                report("memory for ten times as many", peak / peak_few, 1.3, f"   {peak_few:.0f} MB, {peak:.0f} MB")
            )
    end(kept)


if __name__ == "__main__":
    main()
