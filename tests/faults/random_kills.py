"""Random kills: rounds whose processes are ended by SIGKILL at random instants. Run by hand: it takes some minutes.

    python tests/faults/random_kills.py [TRIALS] [SEED]

In each trial a round begins, and at a random instant one or several of these die: the round, the keeper, the keeper
and its guard, the command in the terminal, the server, a recovery that is under way. Then nobody does anything but
look with ``status``. At the end of each trial every file must be wholly old or wholly new, and the server up.
"""

from __future__ import annotations

import os
import random
import signal
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent))
import psutil

from background import Background, journal, rounds, status
from conftest import SiteUnderTest, words_of

TARGETS = ("round", "keeper", "keeper and guard", "command", "server", "round and keeper", "all", "recovery")
PATIENCE = 60.0


def processes(site: SiteUnderTest, target: str) -> list[psutil.Process]:
    """Return the processes that a target means just now."""
    found = []
    for process in site.processes():
        words = words_of(process)
        kinds = {
            "round": "roundgate.host.rounds" in words and "run" in words,
            "recovery": "roundgate.host.rounds" in words and "recover" in words,
            "command": "roundgate" in words and "apply" in words,
            "server": "gullwind_standin.main" in words,
        }
        if target == "all" or kinds.get(target) or (target == "round and keeper" and kinds["round"]):
            found.append(process)
    keeper = site.keeper_process("regatta")
    if keeper is not None and "keeper" in target:
        found.append(psutil.Process(keeper))
        if "guard" in target:
            found.append(psutil.Process(psutil.Process(keeper).ppid()))
    return found


def kill(site: SiteUnderTest, target: str) -> None:
    """End them all."""
    for process in processes(site, target):
        try:
            os.kill(process.pid, signal.SIGKILL)
        except (ProcessLookupError, psutil.Error):
            continue


def files(site: SiteUnderTest) -> tuple[str | None, bool]:
    """Return the value that the round sets, and whether the list has its new entry."""
    return site.value("regatta", "boat.slots"), "Lantern Run" in site.text("regatta", "courses.txt")


def waits_for_recovery(site: SiteUnderTest) -> bool:
    """Return whether the newest round is open and had touched the server; another one is closed by the next command."""
    newest = rounds(site)[0]
    return newest["outcome"] == "open" and any(step == "stop" for step, _, _ in journal(site, newest["round"]))


def trial(site: SiteUnderTest, dice: random.Random) -> tuple[str, str]:
    """Run one trial; return its target, and an empty text or what was wrong."""
    target = dice.choice(TARGETS)
    slots = "24" if site.value("regatta", "boat.slots") != "24" else "20"
    before = files(site)
    site.run("discard", "regatta")
    site.run("set", f"race.slots={slots}")
    site.run("remove" if before[1] else "add", "courses", "Lantern Run")
    work = Background(site, "apply", "--yes")
    time.sleep(dice.uniform(0.0, 1.1))  # the instant is the point of it
    kill(site, "round" if target == "recovery" else target)
    if target == "recovery":
        time.sleep(dice.uniform(0.0, 0.5))
        kill(site, "recovery")
    work.end()
    until = time.monotonic() + PATIENCE
    while time.monotonic() < until:
        now = status(site)
        if (
            now["state"] == "up"
            and now["round"] is None
            and not waits_for_recovery(site)  # killed just now, and its recovery has not begun yet
            and not processes(site, "round")
            and not processes(site, "recovery")
        ):
            break
        if "--recover" in sys.argv:
            site.run("rounds", "recover")
        time.sleep(0.1)
    else:
        return target, f"not up after {PATIENCE:g} s: {status(site)}"
    after = files(site)
    if after not in (before, (slots, not before[1])):
        return target, f"neither old nor new: {before} -> {after}"
    left = [path.name for path in (site.folder / "regatta").iterdir() if ".roundgate-" in path.name]
    return target, f"left behind: {left}" if left else ""


def main() -> int:
    """Run the trials; print what was wrong, and how many of each target went well."""
    numbers = [word for word in sys.argv[1:] if word.isdigit()]
    trials = int(numbers[0]) if numbers else 400
    seed = int(numbers[1]) if len(numbers) > 1 else 8
    dice = random.Random(seed)
    good: Counter[str] = Counter()
    bad = 0
    with tempfile.TemporaryDirectory(dir="/dev/shm" if os.access("/dev/shm", os.W_OK) else None) as folder:
        site = SiteUnderTest(Path(folder))
        site.add("regatta", "server.name=Saltmarsh Regatta\nboat.slots=20\n", extra='watch = "0.05s"')
        site.ok("start")
        try:
            for number in range(trials):
                if number % 4 == 0:  # a keeper gives up after six crashes in five minutes, as it should
                    site.ok("restart")
                if number % 20 == 0:
                    print(f"{number} trials, {bad} bad", flush=True)
                target, wrong = trial(site, dice)
                if wrong:
                    bad += 1
                    print(f"trial {number}, {target}: {wrong}", flush=True)
                    site.run("rounds", "recover")
                    site.run("start")
                else:
                    good[target] += 1
        finally:
            site.end()
    for target in TARGETS:
        print(f"{target:<17} {good[target]} good")
    print(f"{sum(good.values())} of {trials} trials good, {bad} bad (seed {seed})")
    return 1 if bad else 0


if __name__ == "__main__":
    raise SystemExit(main())
