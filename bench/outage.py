"""The outage of a round (stop sent to proven ready) against the stand-in's own stop and start, in one run.

python bench/outage.py [RUNS]

The watch time comes after the server is ready and is not part of the outage: players are on again by then.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from measure import end, report

from roundgate.cli import demo

SECONDS = (0.0, 2.0)
"""How long the stand-in takes to start, beyond its process."""


def roundgate(site: Path, *words: str) -> str:
    """Run the program and give what it prints."""
    command = [sys.executable, "-m", "roundgate", *words]
    return subprocess.run(
        command, cwd=site, stdin=subprocess.DEVNULL, capture_output=True, text=True, check=True
    ).stdout


def own_time(home: Path) -> float:
    """Start the stand-in by itself, stop it, start it again; return the seconds from the stop command to ready."""
    first = begin(home)
    assert first.stdin is not None
    began = time.perf_counter()
    first.stdin.write(b"stop\n")
    first.stdin.flush()
    first.wait()
    second = begin(home)
    took = time.perf_counter() - began
    second.terminate()
    second.wait()
    return took


def begin(home: Path) -> subprocess.Popen[bytes]:
    """Start the stand-in and wait for its ready sign."""
    process = subprocess.Popen(["./launch.sh"], cwd=home, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert process.stdout is not None
    while b"Ready" not in process.stdout.readline():
        pass
    return process


def round_time(site: Path, slots: int) -> float:
    """Run a round; return the seconds from the stop to proven ready, out of its journal."""
    roundgate(site, "set", "harbour", f"race.slots={slots}")
    roundgate(site, "apply", "harbour", "--yes")
    number = json.loads(roundgate(site, "rounds", "harbour", "--json"))[0]["round"]
    journal = json.loads(roundgate(site, "rounds", "show", str(number), "--json"))["journal"]
    at = {(line["step"], line["mark"]): line["at"] for line in reversed(journal)}
    return float(at[("prove", "note")] - at[("stop", "begin")])


def main() -> None:
    """Measure and print."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 7
    kept = []
    for seconds in SECONDS:
        with tempfile.TemporaryDirectory() as folder:
            site = Path(folder)
            lobby, port = demo._start_lobby(site)
            demo._make_site(site, port)
            path = site / "harbour" / "gullwind.properties"
            path.write_text(path.read_text().replace("lobby.listed=true", "lobby.listed=false"))
            (site / "harbour" / "sea-trials.txt").write_text(f"start-seconds {seconds}\nstop-seconds 0\n")
            own, rounds = [], []
            for number in range(runs):
                own.append(own_time(site / "harbour"))
                roundgate(site, "start", "harbour")
                rounds.append(round_time(site, 8 + number))
                roundgate(site, "stop", "harbour")
            lobby.terminate()
            lobby.wait()
        alone, whole = statistics.median(own), statistics.median(rounds)
        print(f"start takes {seconds:g}s more: alone {alone * 1000:.0f} ms, in a round {whole * 1000:.0f} ms")
        if seconds:
            kept.append(report("outage against the server's own", whole / alone, 1.05))
        kept.append(report("outage on top, in seconds", whole - alone, 0.15))
    end(kept)


if __name__ == "__main__":
    main()
