"""The outage of a round on three packaged game servers against their own stop and start, in one run.

python bench/real_servers.py [RUNS]

The same way of stopping is used both times: the word on the console where that needs no account, else the signal.
"""

from __future__ import annotations

import json
import os
import re
import signal
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from measure import report

from conftest import SiteUnderTest, free_port
from real_servers import SERVERS, RealServer, leave_the_network

READY = {
    "teeworlds": rb"\[server\]: version ",
    "openttd": rb"Map generated, starting game",
    "minetest": rb"listening on",
}
MOST_ON_TOP = 0.15


def begin(real: RealServer, home: Path) -> subprocess.Popen[bytes]:
    """Start a server by itself and wait for its ready sign."""
    words = real.start.split()
    process = subprocess.Popen(
        words, cwd=home, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
        env={**os.environ, "HOME": str(home / "home"), "TERM": "dumb"},
    )  # fmt: skip
    assert process.stdout is not None
    for line in process.stdout:
        if re.search(READY[real.rulebook], line):
            return process
    raise AssertionError(f"{real.rulebook} did not come up")


def end(real: RealServer, home: Path, process: subprocess.Popen[bytes]) -> None:
    """Stop a server as its rulebook does, and wait for its end."""
    if real.rulebook == "openttd":
        assert process.stdin is not None
        process.stdin.write(b"quit\n")
        process.stdin.flush()
    elif real.rulebook == "teeworlds":
        text = (home / "server.cfg").read_text()
        port = int(re.findall(r"ec_port (\d+)", text)[0])
        with socket.create_connection(("127.0.0.1", port)) as link:
            link.recv(1000)
            link.sendall(b"pebble-shore\n")
            link.recv(1000)
            link.sendall(b"shutdown\n")
            process.wait(20)
    else:
        process.send_signal(signal.SIGINT)
    assert process.stdout is not None
    process.stdout.read()
    process.wait(20)


def own_time(real: RealServer, home: Path) -> float:
    """Return the seconds from the stop to the ready sign of the next start."""
    first = begin(real, home)
    began = time.perf_counter()
    end(real, home, first)
    second = begin(real, home)
    took = time.perf_counter() - began
    end(real, home, second)
    return took


def round_time(site: SiteUnderTest, change: str) -> float:
    """Run a round; return the seconds from the stop to the ready sign, out of its journal."""
    site.ok("set", "sea", change)
    site.ok("apply", "--yes")
    number = json.loads(site.ok("rounds", "--json"))[0]["round"]
    journal = json.loads(site.ok("rounds", "show", str(number), "--json"))["journal"]
    at = {(line["step"], line["mark"]): line["at"] for line in journal}
    return float(at["start", "end"] - at["stop", "begin"])


def laid_down(real: RealServer, folder: Path) -> SiteUnderTest:
    """Make a site with one server."""
    folder.mkdir()
    site = SiteUnderTest(folder)
    home = folder / "sea"
    home.mkdir()
    (home / "home").mkdir()
    real.lay_down(home, free_port())
    site.ok("adopt", "sea", "--rulebook", real.rulebook, "--start", real.start, "--environment", "HOME={folder}/home")
    script = home / "start.sh"
    if script.is_file():  # a terminal of its own cannot be had by both ways alike: it is stopped by the signal
        script.write_text(script.read_text().replace(" --terminal", ""))
    return site


def main() -> int:
    """Measure each server that is installed."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    print("in a network of its own" if leave_the_network() else "on this machine's loopback")
    ok = True
    for name, real in SERVERS.items():
        if not real.is_there:
            print(f"{name}: its package is not installed")
            continue
        with tempfile.TemporaryDirectory() as folder:
            site = laid_down(real, Path(folder) / "site")
            own = statistics.median(own_time(real, site.folder / "sea") for _ in range(runs))
            site.ok("start")
            setting, value = next(iter(real.five.items()))
            took = statistics.median(
                round_time(site, f"{setting}={value if at % 2 else 'Saltmarsh'}") for at in range(runs)
            )
            site.ok("stop")
            site.end()
            more = f"(own {own:.3f} s, round {took:.3f} s, {took - own:+.3f} s; mark: 1.05 and {MOST_ON_TOP} s on top)"
            ok &= report(f"{name}: outage", took / (own * 1.05 + MOST_ON_TOP), 1.0, more)
    return 0 if ok else 1


if __name__ == "__main__":
    sys.exit(main())
