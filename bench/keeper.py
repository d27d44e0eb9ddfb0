"""The keeper's own memory (not shared) and processor time while it is idle.

python bench/keeper.py [SECONDS]
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

import psutil
from measure import end, report

from roundgate.cli import demo


def main() -> None:
    """Measure and print."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 10.0
    with tempfile.TemporaryDirectory() as folder:
        site = Path(folder)
        lobby, port = demo._start_lobby(site)
        demo._make_site(site, port)
        demo._run(site, "start @all", quiet=True)
        try:
            keepers = [process for process in psutil.process_iter(["cmdline"]) if _is_keeper(process, folder)]
            before = [sum(keeper.cpu_times()[:2]) for keeper in keepers]
            time.sleep(seconds)
            used = max(sum(keeper.cpu_times()[:2]) - old for keeper, old in zip(keepers, before, strict=True))
            own = max(keeper.memory_full_info().uss for keeper in keepers) / 2**20
        finally:
            demo._run(site, "stop @all", quiet=True)
            lobby.terminate()
            lobby.wait()
    kept = [
        report("memory of its own, MB", own, 15.0),
        report("processor time when idle, %", 100 * used / seconds, 0.1),
    ]
    end(kept)


def _is_keeper(process: psutil.Process, folder: str) -> bool:
    """Return whether a process is a keeper of a site; of one that has just ended nothing is known."""
    words = process.info["cmdline"] or []
    return "roundgate.host.keeper" in words and any(word.startswith(folder) for word in words)


if __name__ == "__main__":
    main()
