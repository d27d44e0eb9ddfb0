"""What tests share: a site of stand-in servers in a temporary folder, and the built program run on it."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from itertools import islice
from pathlib import Path

import psutil
import pytest
from hypothesis import HealthCheck, settings

import roundgate
from forked import Forks
from ports import free_port
from sampling import ALL, sampled

pytest_plugins = ["rented_fixtures"]
__all__ = ["SiteUnderTest", "free_port", "wait_for", "words_of"]

if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    # Begun in the background, a shell has Ctrl-C ignored, and every program that a test starts would inherit that.
    signal.signal(signal.SIGINT, signal.default_int_handler)
# A service has no shell of a person's, and neither have the tests, wherever they are started.
os.environ.pop("SHELL", None)
# On a busy machine an example may take any time: how long it takes proves nothing.
settings.register_profile("suite", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("suite")
FORKS = Forks()
FEW = bool(os.environ.get("ROUNDGATE_FEW"))
"""Whether a sample is enough of files that are named too."""
SAMPLED = {
    "cli/test_agreement.py": 2,
    "cli/test_backups.py": 2,
    "cli/test_broken_rulebooks.py": 3,
    "cli/test_check_files.py": 2,
    "cli/test_commands.py": 2,
    "cli/test_hidden.py": 5,
    "cli/test_leaving.py": 2,
    "cli/test_loot.py": 3,
    "cli/test_notices.py": 2,
    "cli/test_people.py": 2,
    "cli/test_rank_changes.py": 2,
    "cli/test_rank_checks.py": 3,
    "cli/test_ranks.py": 2,
    "cli/test_rented.py": 8,
    "cli/test_rented_backups.py": 4,
    "cli/test_rented_sftp.py": 100,
    "cli/test_set_in_files.py": 2,
    "cli/test_timetable.py": 2,
    "cli/test_waves.py": 2,
    "cli/test_whole_server.py": 2,
    "cli/test_words_kept.py": 2,
    "core/test_hostile.py": 10,
    "core/test_large.py": 3,
    "core/test_nearby.py": 3,
    "core/test_scripts_run.py": 3,
    "core/test_slips.py": 2,
    "faults/test_archives.py": 2,
    "faults/test_full_disk.py": 3,
    "faults/test_intruders.py": 2,
    "faults/test_never_down.py": 2,
    "faults/test_never_ready.py": 2,
    "faults/test_restores.py": 2,
    "faults/test_state.py": 3,
    "faults/test_unfinished.py": 2,
    "host/test_background.py": 2,
    "host/test_consoles.py": 2,
    "host/test_drivers.py": 2,
    "host/test_keeper.py": 2,
    "host/test_log_files.py": 3,
    "host/test_process.py": 2,
    "host/test_rounds.py": 2,
    "host/test_ways_of_running.py": 2,
    "property/test_broken_secrets.py": 2,
}
"""Of each test with examples in these files, one example in so many is run; all of them where the file is named on the
command line, or with ROUNDGATE_EVERY_ACT."""
LONG = (
    "cli/test_agreement.py",
    "cli/test_backups.py",
    "cli/test_rented.py",
    "cli/test_rented_sftp.py",
    "cli/test_timetable.py",
    "cli/test_waves.py",
    "core/test_rank_edits.py",
    "faults/test_crashes.py",
    "faults/test_edits_kept.py",
    "faults/test_full_disk.py",
    "faults/test_hostile_files.py",
    "faults/test_live_rounds.py",
    "faults/test_lives.py",
    "faults/test_never_down.py",
    "faults/test_never_ready.py",
    "faults/test_restores.py",
    "faults/test_state.py",
    "faults/test_unfinished.py",
    "host/test_background.py",
    "host/test_drivers.py",
    "host/test_retention.py",
    "host/test_ways_of_running.py",
    "test_docs.py",
)
"""Files with tests that take long, most of it waiting: each worker begins with some of them."""


def pytest_xdist_auto_num_workers() -> int:
    """Return the number of workers: much of the time of these tests is waiting for servers."""
    return 5 * len(os.sched_getaffinity(0)) // 2


def pytest_sessionfinish() -> None:
    """End what the tests of this worker have in common."""
    FORKS.close()


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Leave out what SAMPLED says, and give each worker its part of what takes long to begin with.

    A test without examples always runs.
    """
    named = [word.partition("::")[0] for word in config.args]
    if not ALL and (FEW or not any(word.endswith(".py") for word in named)):
        examples = defaultdict[str, list[pytest.Item]](list)
        for item in items:
            if hasattr(item, "callspec"):
                examples[item.nodeid.partition("[")[0]].append(item)
        left_out = set[pytest.Item]()
        for name, several in examples.items():
            one_in = next((number for end, number in SAMPLED.items() if name.partition("::")[0].endswith(end)), 1)
            left_out |= set(several) - set(sampled(several, one_in))
        config.hook.pytest_deselected(items=list(left_out))
        items[:] = [item for item in items if item not in left_out]
    items[:] = _long_ones_first(items, int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1")))


def _file_of(item: pytest.Item) -> str:
    return item.nodeid.partition("::")[0]


def _long_ones_first(items: Sequence[pytest.Item], workers: int) -> list[pytest.Item]:
    """Return the tests so that each worker, which takes the next equal part of them, has long ones at its beginning."""
    long = [item for item in items if _file_of(item).endswith(LONG)]
    rest = iter([item for item in items if not _file_of(item).endswith(LONG)])
    found: list[pytest.Item] = []
    for worker in range(workers):
        found += long[worker::workers]
        found += islice(rest, max(0, len(items) * (worker + 1) // workers - len(found)))
    return found


BOOK = (Path(roundgate.__file__).parent / "rulebooks" / "gullwind.toml").read_text("utf-8")
LAUNCH = '#!/bin/sh\nexec "{python}" -m gullwind_standin.main --may-take 4096 {more}\n'


class SiteUnderTest:
    """A site in a temporary folder, and the program as a person calls it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.names: list[str] = []
        (folder / "roundgate.toml").write_text('[site]\nname = "Saltmarsh Sailing Club"\n')

    def add(self, name: str, properties: str = "", *, extra: str = "", trials: str = "", launch: str = "") -> Path:
        """Add a server; gives its folder. ``extra`` are more lines for its table of the site file."""
        home = self.folder / name
        home.mkdir()
        (home / "gullwind.properties").write_text(f"{properties}net.port={free_port()}\n")
        (home / "courses.txt").write_text("Harbour Mile\nThe Narrows\n")
        (home / "launch.sh").write_text(LAUNCH.format(python=sys.executable, more=launch))
        (home / "launch.sh").chmod(0o755)
        if trials:
            (home / "sea-trials.txt").write_text(trials)
        table = f'[server.{name}]\nfolder = "{name}"\nstart = ["./launch.sh"]\nrulebook = "gullwind"\n'
        defaults = "".join(
            f"{key} = {value}\n" for key, value in (("watch", '"0.2s"'), ("grace", '"5s"')) if f"{key} =" not in extra
        )
        with (self.folder / "roundgate.toml").open("a") as file:
            file.write(f"\n{table}{defaults}{extra}\n")
        self.names.append(name)
        return home

    def run(
        self, *words: str, cwd: Path | None = None, given: str | None = None, env: dict[str, str] | None = None
    ) -> subprocess.CompletedProcess[str]:
        """Run the program; ``given`` is its standard input."""
        whole = {**os.environ, "XDG_CONFIG_HOME": str(self.folder / "config"), **(env or {})}
        done = self._done(words, cwd or self.folder, given, whole)
        assert "hint: roundgate " not in done.stdout + done.stderr, "a command to type is not a hint"
        return done

    def _done(
        self, words: Sequence[str], cwd: Path, given: str | None, whole: dict[str, str]
    ) -> subprocess.CompletedProcess[str]:
        if FORKS.can(whole):
            return FORKS.run(words, cwd, given, whole, 100)
        return subprocess.run(
            [sys.executable, "-m", "roundgate", *words],
            cwd=cwd,
            input=given,
            stdin=subprocess.DEVNULL if given is None else None,
            capture_output=True,
            text=True,
            timeout=100,
            check=False,
            env=whole,
        )

    def ok(self, *words: str, given: str | None = None) -> str:
        """Run the program, see that it says 0, and return what it prints."""
        done = self.run(*words, given=given)
        assert done.returncode == 0, f"{words}: {done.returncode}\n{done.stdout}\n{done.stderr}"
        return done.stdout

    def fails(self, code: int, *words: str, given: str | None = None) -> str:
        """Run the program, see that it says ``code`` without a stack trace, and return all that it prints."""
        done = self.run(*words, given=given)
        output = done.stdout + done.stderr
        assert done.returncode == code, f"{words}: {done.returncode}\n{output}"
        assert "Traceback" not in output
        return output

    def text(self, server: str, path: str = "gullwind.properties") -> str:
        return (self.folder / server / path).read_text()

    def value(self, server: str, key: str) -> str | None:
        """Return a key's value in the core file, read by the test's own simple means."""
        pairs = [line.split("=", 1) for line in self.text(server).splitlines() if "=" in line and line[0] != "#"]
        return dict(pairs).get(key)  # type: ignore[arg-type]

    def processes(self) -> list[psutil.Process]:
        """Return every process that works for this site: servers, keepers, rounds."""
        found = []
        for process in psutil.process_iter():
            try:
                if str(self.folder) in " ".join(words_of(process)) or process.cwd().startswith(str(self.folder)):
                    found.append(process)
            except psutil.Error:
                continue
        return [item for item in found if item.pid != os.getpid()]

    def server_process(self, name: str) -> int | None:
        """Return the process that runs in a server's folder."""
        home = str(self.folder / name)
        for process in self.processes():
            try:
                if process.cwd() == home and process.status() != psutil.STATUS_ZOMBIE:
                    return process.pid
            except psutil.Error:
                continue
        return None

    def _keepers(self, name: str) -> list[psutil.Process]:
        """Return the guard and the keeper of a server; the guard is the keeper's parent."""
        state = str(self.folder / ".roundgate" / "servers" / name)
        words = {process: words_of(process) for process in self.processes() if is_alive(process)}
        return [item for item in words if "roundgate.host.keeper" in words[item] and state in words[item]]

    def keeper_process(self, name: str) -> int | None:
        """Return the process of a server's keeper."""
        found = self._keepers(name)
        guards = {process.pid for process in found}
        with contextlib.suppress(psutil.Error):  # one may have ended since they were listed
            return next((process.pid for process in found if process.ppid() in guards), None)
        return None

    def kill_keeper(self, name: str, *, with_guard: bool = False) -> int:
        """Kill a server's keeper, and the guard that would start another one; gives the keeper's process."""
        keeper = self.keeper_process(name)
        assert keeper is not None
        if with_guard:
            for process in self._keepers(name):
                if process.pid != keeper:
                    process.kill()
        os.kill(keeper, signal.SIGKILL)
        wait_for(lambda: keeper not in {one.pid for one in self._keepers(name)})
        return keeper

    def end(self) -> None:
        """End all that is left, and see it gone: a process lives on for a moment after it was killed."""
        for _ in range(3):
            killed = self.processes()
            for process in killed:
                try:
                    os.kill(process.pid, signal.SIGKILL)
                except ProcessLookupError:
                    continue
            wait_for(lambda killed=killed: not any(is_alive(process) for process in killed), 20)  # type: ignore[misc]


@pytest.fixture
def site(tmp_path: Path) -> Iterator[SiteUnderTest]:
    folder = tmp_path / "saltmarsh"
    folder.mkdir()
    made = SiteUnderTest(folder)
    yield made
    made.end()


@pytest.fixture
def regatta(site: SiteUnderTest) -> SiteUnderTest:
    """A site with one server, ``regatta``, that is down."""
    site.add("regatta", "server.name=Saltmarsh Regatta\nboat.slots=16\nheat.size=8\n")
    return site


@pytest.fixture
def running(regatta: SiteUnderTest) -> SiteUnderTest:
    """A site with one server, ``regatta``, that is up."""
    regatta.ok("start", "regatta")
    return regatta


def change_keepers(site: SiteUnderTest, monkeypatch: pytest.MonkeyPatch, **constants: object) -> None:
    """Give ``keeper.child`` other constants in keepers started from now on: the real pauses are long."""
    changed = site.folder / "changed"
    changed.mkdir()
    (changed / "sitecustomize.py").write_text(
        "import sys\n"
        "if any('roundgate.host.keeper' in word for word in sys.orig_argv):\n"
        "    from roundgate.host.keeper import child\n"
        f"    for name, value in {constants!r}.items():\n"
        "        assert hasattr(child, name), name\n"
        "        setattr(child, name, value)\n"
    )
    monkeypatch.setenv("PYTHONPATH", str(changed))


def is_alive(process: psutil.Process) -> bool:
    """Return whether a process is still at work; one that nobody has waited for yet is not."""
    try:
        return bool(process.status() != psutil.STATUS_ZOMBIE)
    except psutil.Error:
        return False


def words_of(process: psutil.Process) -> list[str]:
    """Return the command line of a process; of one that has ended since it was listed, nothing."""
    try:
        return process.cmdline()
    except psutil.Error:
        return []


def wait_for(what: Callable[[], bool], seconds: float = 60.0) -> None:
    """Wait until something holds; fail where it does not in time."""
    import time

    end = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < end, "it did not come about in time"
        time.sleep(0.02)
