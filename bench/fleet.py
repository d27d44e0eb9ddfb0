"""A site of many servers that really run: status, check, fit, a restart in waves, and what their keepers cost.

python bench/fleet.py [SERVERS]

The site is made anew, every server a stand-in process with its keeper, all on loopback; 200 need some 8 GB of memory.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import psutil
from measure import end, report

_FIRST_PORT = 12_000
_TOGETHER = 4
_LAUNCH = '#!/bin/sh\nexec "{python}" -m gullwind_standin.main --may-take 4096\n'


def make_site(folder: Path, many: int) -> list[str]:
    """Make a site of servers, each with a port of its own and a tag for every tenth."""
    text = ['[site]\nname = "Saltmarsh Sailing Club"\n']
    names = [f"mooring{number:03}" for number in range(many)]
    for number, name in enumerate(names):
        home = folder / name
        home.mkdir()
        (home / "gullwind.properties").write_text(f"net.port={_FIRST_PORT + number}\nboat.slots=16\n")
        (home / "courses.txt").write_text("Harbour Mile\nThe Narrows\n")
        (home / "launch.sh").write_text(_LAUNCH.format(python=sys.executable))
        (home / "launch.sh").chmod(0o755)
        tags = '["wave"]' if number % 10 == 0 else "[]"
        text.append(
            f'\n[server.{name}]\nfolder = "{name}"\nstart = ["./launch.sh"]\nrulebook = "gullwind"\nwatch = "0.2s"\n'
            f"tags = {tags}\n"
        )
    (folder / "roundgate.toml").write_text("".join(text))
    return names


def call(folder: Path, *words: str) -> float:
    """Run the program; return the seconds that it took. It may find something, and must not break."""
    began = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "roundgate", "--site", str(folder), *words], capture_output=True, text=True, check=False
    )
    if done.returncode not in (0, 1):
        raise SystemExit(f"{words}: {done.returncode}\n{done.stdout[-2000:]}{done.stderr[-2000:]}")
    return time.perf_counter() - began


def keepers_of(folder: Path) -> list[psutil.Process]:
    """Return the processes that keep the site's servers, without the guards that only wait for them."""
    found = []
    for process in psutil.process_iter(["cmdline"]):
        words = process.info["cmdline"] or []  # of one that has just ended nothing is known
        if "roundgate.host.keeper" in words and any(word.startswith(str(folder)) for word in words):
            parent = process.parent()
            if parent is not None and "roundgate.host.keeper" in parent.cmdline():
                found.append(process)
    return found


def main() -> None:
    """Measure and print."""
    many = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    kept = []
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        names = make_site(folder, many)
        began = time.perf_counter()
        parts = [",".join(names[number::_TOGETHER]) for number in range(_TOGETHER)]
        try:
            with ThreadPoolExecutor(_TOGETHER) as pool:
                list(pool.map(lambda part: call(folder, "start", part), parts))
            print(f"{many} servers are up after {time.perf_counter() - began:.0f} s")
            kept.append(
                report("status of all, s", min(call(folder, "status") for _ in range(5)), 1.0 * max(1, many / 200))
            )
            print(f"check of all, s: {min(call(folder, 'check', '@all') for _ in range(3)):.2f}")
            print(f"fit, s: {min(call(folder, 'fit') for _ in range(3)):.2f}")
            keepers = keepers_of(folder)
            before = [sum(keeper.cpu_times()[:2]) for keeper in keepers]
            time.sleep(30)  # how much they use while nothing happens is what is measured
            used = [sum(one.cpu_times()[:2]) - old for one, old in zip(keepers, before, strict=True)]
            own = [keeper.memory_full_info().uss / 2**20 for keeper in keepers]
            share = 100 * sum(used) / 30
            print(f"{len(keepers)} keepers: {sum(own):.0f} MB of their own, {share:.2f} % of a processor")
            kept.append(report("largest keeper, MB of its own", max(own), 15.0))
            kept.append(report("processor time of a keeper when idle, %", share / len(keepers), 0.1))
            wave = [name for number, name in enumerate(names) if number % 10 == 0]
            with ThreadPoolExecutor(1) as pool:
                waves = pool.submit(
                    call, folder, "restart", "@wave", "--waves", "1,3,rest", "--parallel", str(_TOGETHER)
                )
                looks = [call(folder, "status")]
                while not waves.done():
                    looks.append(call(folder, "status"))
                took = waves.result()
            kept.append(report("status of all during the waves, longest, s", max(looks), 2.0 * max(1, many / 200)))
            print(f"restart of {len(wave)} in waves of 1, 3 and the rest, {_TOGETHER} together, s: {took:.1f}")
        finally:
            with ThreadPoolExecutor(_TOGETHER) as pool:
                list(pool.map(lambda part: call(folder, "stop", part), parts))
    end(kept)


if __name__ == "__main__":
    os.environ.pop("ROUNDGATE_SITE", None)
    main()
