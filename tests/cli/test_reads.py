"""How often a command reads a server's files: a look at one moment reads each file once, whatever it works out."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from tests.conftest import SiteUnderTest

HOOK = """
import os, sys

def log(event, args, out=os.open(os.environ["READS"], os.O_WRONLY | os.O_APPEND | os.O_CREAT)):
    if event == "open" and isinstance(args[0], str) and args[2] & (os.O_WRONLY | os.O_DIRECTORY) == 0:
        folder = sys._getframe(1).f_locals.get("folder")
        if isinstance(folder, int):
            where = os.readlink(f"/proc/self/fd/{folder}")
            role = "round" if "roundgate.host.rounds" in sys.orig_argv else "terminal"
            os.write(out, f"{role} {where}/{args[0]}\\n".encode())

sys.addaudithook(log)
"""
"""Runs when Python starts: it writes down every file that is opened for reading below a server's folder."""


def reads(site: SiteUnderTest, tmp_path: Path, *words: str) -> Counter[tuple[str, str]]:
    """Run a command; count what each of its processes reads in the server's folder, by file."""
    hook = tmp_path / "hook"
    hook.mkdir(exist_ok=True)
    (hook / "sitecustomize.py").write_text(HOOK)
    log = hook / "reads.log"
    log.write_text("")
    done = site.run(*words, env={"PYTHONPATH": str(hook), "READS": str(log)})
    assert done.returncode == 0, done.stdout + done.stderr
    found: Counter[tuple[str, str]] = Counter()
    for line in log.read_text().splitlines():
        role, path = line.split(" ", 1)
        if Path(path).parent == (site.folder / "regatta").resolve():
            found[role, Path(path).name] += 1
    return found


FILES = ("gullwind.properties", "courses.txt", "launch.sh", "weather.ini")


def make(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n")
    (home / "weather.ini").write_text("[gusts]\nstrength=1.0\n")


def test_commands_that_do_not_stop_the_server_read_each_file_once(site: SiteUnderTest, tmp_path: Path) -> None:
    make(site)
    for words in (
        ("set", "race.slots=24", "idle.drop=10m"),
        ("add", "courses", "Long Reach"),
        ("show",),
        ("check",),
        ("status",),
        ("reset", "idle.drop"),
    ):
        found = reads(site, tmp_path, *words)
        assert [found["terminal", name] for name in FILES] == [1] * len(FILES), words
        once = [count for (_, name), count in found.items() if name != "banned.txt"]
        assert max(once) == 1, words  # the server may be writing its bans: they are read until they are at rest


def test_a_round_reads_each_file_once_before_the_stop_and_once_after_it(site: SiteUnderTest, tmp_path: Path) -> None:
    make(site)
    site.ok("start")
    site.ok("set", "race.slots=24")
    found = reads(site, tmp_path, "apply", "--yes")
    for name in FILES:
        assert found["terminal", name] == 1, name
    for name in ("courses.txt", "launch.sh", "weather.ini"):  # what the round writes it compares once more
        assert found["round", name] == 2, name
    assert site.value("regatta", "boat.slots") == "24"
