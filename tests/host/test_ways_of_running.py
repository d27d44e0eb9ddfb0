"""Each way to run a server, through a start, a change, a change that it does not come up with, a crash and a stop."""

from __future__ import annotations

import json
import os
import pwd
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import NamedTuple

import psutil
import pytest

import gullwind_standin
from conftest import SiteUnderTest, free_port, is_alive, wait_for, words_of

LAUNCH = """#!/bin/sh
grep -q '^boat.slots=13' gullwind.properties && exit 3
cd "$(dirname "$0")"
PYTHONPATH=../program exec {python} -m gullwind_standin.main --may-take 4096
"""
CONSOLE = "console.open=true\nconsole.port={port}\nconsole.code=barnacle-77\n"
LOOP = "#!/bin/sh\nwhile :; do ./launch.sh; sleep {pause}; done\n"
# Into the background as daemons go, with a session of its own.
FORKS = """import os
for again in range(2):
    if os.fork():
        os._exit(0)
    os.setsid()
with open("sea.pid", "w") as file:
    file.write(str(os.getpid()))
nothing = os.open(os.devnull, os.O_RDWR)
for handle in (0, 1, 2):
    os.dup2(nothing, handle)
os.execv("./real.sh", ["./real.sh"])
"""


class Way(NamedTuple):
    """How a server is run: lines of its table of the site file, what prepares it, and what can be said of it then."""

    table: str = ""
    prepare: Callable[[SiteUnderTest, Path], None] | None = None
    comes_back: bool = True
    can_stop: bool = True


@pytest.fixture
def site() -> Iterator[SiteUnderTest]:
    """A site in a folder that every user may enter."""
    folder = Path(tempfile.mkdtemp(prefix="roundgate-ways-"))
    folder.chmod(0o755)
    site = SiteUnderTest(folder)
    yield site
    subprocess.run(["tmux", "-S", folder / "mux", "kill-server"], capture_output=True, check=False)
    site.end()
    shutil.rmtree(folder)


def quietly(home: Path, *command: str) -> None:
    """Start something in the server's folder that belongs to nobody, as a person does who logs out then."""
    subprocess.run(
        ["sh", "-c", 'setsid "$0" "$@" </dev/null >/dev/null 2>&1 &', *command], cwd=home, check=True, timeout=60
    )
    wait_for(lambda: "Ready" in latest(home))


def latest(home: Path) -> str:
    path = home / "logs" / "latest.log"
    return path.read_text() if path.is_file() else ""


def as_nobody(site: SiteUnderTest, home: Path) -> None:
    for path in (home, *home.iterdir()):
        os.chown(path, pwd.getpwnam("nobody").pw_uid, -1)


def in_a_loop(pause: float) -> Callable[[SiteUnderTest, Path], None]:
    def prepare(site: SiteUnderTest, home: Path) -> None:
        (home / "host.sh").write_text(LOOP.format(pause=pause))
        (home / "host.sh").chmod(0o755)
        quietly(home, "./host.sh")

    return prepare


def forking(site: SiteUnderTest, home: Path) -> None:
    (home / "launch.sh").rename(home / "real.sh")
    (home / "fork.py").write_text(FORKS)
    (home / "launch.sh").write_text("#!/bin/sh\nexec /usr/bin/python3 fork.py\n")
    (home / "launch.sh").chmod(0o755)


def outside(site: SiteUnderTest, home: Path) -> None:
    quietly(home, "./launch.sh")
    before = serving(site)
    assert "up, not held" in site.ok("status")
    output = site.ok("adopt", "regatta", "--running", "--yes")
    assert "nothing restarts it" in output and "was not stopped" in output
    assert json.loads(site.ok("status", "--json"))["servers"][0]["process"] == before


def below_a_script(site: SiteUnderTest, home: Path) -> None:
    """A script has started it beside something else, in the same process group, and waits for both."""
    (home / "both.sh").write_text("#!/bin/sh\nsleep 300 &\nsh -c './launch.sh; true' &\nwait\n")
    (home / "both.sh").chmod(0o755)
    quietly(home, "./both.sh")
    before, beside = serving(site), beside_it(site)
    assert "was not stopped" in site.ok("adopt", "regatta", "--running", "--yes")
    assert json.loads(site.ok("status", "--json"))["servers"][0]["process"] == before
    site.ok("restart")
    assert beside_it(site) == beside != [], "it leads no group, and what shares its group is left alone"


def beside_it(site: SiteUnderTest) -> list[int]:
    return [item.pid for item in site.processes() if words_of(item) == ["sleep", "300"]]


def in_a_multiplexer(site: SiteUnderTest, home: Path) -> None:
    call = ["tmux", "-S", str(site.folder / "mux"), "new-session", "-d", "-s", "regatta", "./launch.sh"]
    subprocess.run(call, cwd=home, check=True, timeout=60)
    wait_for(lambda: "Ready" in latest(home))
    output = site.ok("adopt", "regatta", "--running", "--yes")
    assert "it runs in tmux" in output and "was not stopped" in output
    assert 'driver = "commands"' in (site.folder / "roundgate.toml").read_text()


root = pytest.mark.skipif(os.geteuid() != 0, reason="ONLY ROOT CAN START A SERVER AS ANOTHER USER")
tmux = pytest.mark.skipif(shutil.which("tmux") is None, reason="NO TERMINAL MULTIPLEXER IS INSTALLED")
WAYS = {
    "keeper": Way(),
    "user": Way('user = "nobody"\n', as_nobody),
    "wrapper, fast": Way('driver = "self"\n', in_a_loop(0.1), can_stop=False),
    "wrapper, slow": Way('driver = "self"\n', in_a_loop(1.5), can_stop=False),
    "fork": Way('pidfile = "sea.pid"\n', forking),
    "multiplexer": Way("", in_a_multiplexer, comes_back=False),
    "outside": Way("", outside),
    "outside, below a script": Way("", below_a_script),
}
MARKS = {"user": root, "multiplexer": tmux}


def serving(site: SiteUnderTest) -> int | None:
    """Return the process of the server itself; what starts it again works in its folder too."""
    found = [item.pid for item in site.processes() if "gullwind_standin.main" in words_of(item) and is_alive(item)]
    assert len(found) < 2, "nothing was started beside it"
    return found[0] if found else None


def state(site: SiteUnderTest) -> str:
    return str(json.loads(site.ok("status", "--json"))["servers"][0]["state"])


@pytest.mark.parametrize("name", [pytest.param(name, marks=MARKS.get(name, ())) for name in WAYS])
def test_a_server_is_started_changed_put_back_and_stopped_in_each_way(site: SiteUnderTest, name: str) -> None:
    way = WAYS[name]
    shutil.copytree(Path(gullwind_standin.__file__).parent, site.folder / "program" / "gullwind_standin")
    extra = f'start-within = "8s"\n{way.table}'
    home = site.add("regatta", "boat.slots=16\nheat.size=8\n" + CONSOLE.format(port=free_port()), extra=extra)
    python = "/usr/bin/python3" if name == "user" else sys.executable
    (home / "launch.sh").write_text(LAUNCH.format(python=python))
    if way.prepare:
        way.prepare(site, home)
    site.ok("start")
    first = serving(site)
    assert first is not None and state(site) == "up"
    if name == "user":
        assert psutil.Process(first).username() == "nobody"

    site.ok("set", "race.slots=24")
    output = site.ok("apply", "--yes")
    assert site.value("regatta", "boat.slots") == "24" and "race.slots is 24" in output, output
    assert "0 of 24 boats" in site.ok("send", "regatta", "status")
    assert serving(site) not in (None, first)

    # A host that restarts at once may have looked at the old file, and begun with the new one: what it refuses to take
    # on is the same at any moment.
    site.ok("set", "tick.rate=60" if name == "wrapper, fast" else "race.slots=13")
    output = site.fails(3, "apply", "--yes")
    assert site.value("regatta", "boat.slots") == "24" and "The files are as they were" in output, output
    assert "0 of 24 boats" in site.ok("send", "regatta", "status") and state(site) == "up"

    crashed = serving(site)
    assert crashed is not None
    os.kill(crashed, signal.SIGKILL)
    if way.comes_back:
        wait_for(lambda: serving(site) not in (None, crashed) and state(site) == "up")
    else:
        wait_for(lambda: serving(site) is None)
        assert state(site) == "down"
        site.ok("start")

    if way.can_stop:
        site.ok("stop")
        assert serving(site) is None and state(site) == "down"
    else:
        assert "cannot be stopped for good" in site.fails(1, "stop") and state(site) == "up"


def test_a_wrapper_and_a_folder_of_no_site_yet_are_adopted_as_they_run(site: SiteUnderTest) -> None:
    shutil.copytree(Path(gullwind_standin.__file__).parent, site.folder / "program" / "gullwind_standin")
    home = site.add("regatta", "boat.slots=16\n")
    (site.folder / "roundgate.toml").write_text("[site]\n")
    (home / "launch.sh").write_text(LAUNCH.format(python=sys.executable))
    assert "No process was found that works in" in site.fails(1, "adopt", "regatta", "--running", "--yes")
    in_a_loop(0.1)(site, home)
    process = serving(site)
    output = site.ok("adopt", "regatta", "--running", "--yes")
    assert "starts it again in a loop" in output and "driver: self" in output
    assert state(site) == "up" and serving(site) == process
    site.ok("restart")


def test_what_was_started_outside_goes_on_talking_to_whom_it_talked_to(site: SiteUnderTest) -> None:
    """Its output is not taken from whoever reads it, and its input is not the keeper's."""
    home = site.add("regatta", "boat.slots=16\n")
    server = subprocess.Popen(
        ["./launch.sh"], cwd=home, stdin=subprocess.PIPE, stdout=subprocess.PIPE, start_new_session=True
    )
    wait_for(lambda: "Ready" in latest(home))
    site.ok("adopt", "regatta", "--running", "--yes")
    assert "only after its next start" in site.fails(1, "send", "regatta", "status")
    site.ok("stop")
    output, _ = server.communicate(timeout=60)
    assert b"Ready" in output and b"Stopped" in output
    site.ok("start")
    assert "0 of 16 boats" in site.ok("send", "regatta", "status"), "now it is"


@contextmanager
def ended(process: subprocess.Popen[bytes]) -> Iterator[None]:
    """End a process and its group, whatever happens."""
    try:
        yield
    finally:
        with suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)


STUBBORN = "#!/bin/sh\nsh -c 'trap \"\" TERM; for again in 1 2 3 4 5 6 7 8; do sleep 0.2; done' &\nsleep 300\n"


def test_a_server_outside_that_leads_no_group_is_stopped_with_what_it_has_started(site: SiteUnderTest) -> None:
    """Nobody else in its group is sent a signal, and what does not hear one is waited for."""
    home = site.folder / "regatta"
    home.mkdir()
    (home / "launch.sh").write_text(STUBBORN)
    (home / "launch.sh").chmod(0o755)
    (home / "core.cfg").write_text("boats 4\n")
    both = "sleep 301 & cd regatta && ./launch.sh & wait"
    with subprocess.Popen(["sh", "-c", both], cwd=site.folder, start_new_session=True) as script, ended(script):
        wait_for(lambda: len([item for item in site.processes() if words_of(item) == ["sleep", "300"]]) == 1)
        site.ok("adopt", "regatta", "--running", "--yes", "--rulebook", "", "--start", "./launch.sh")
        names = [words_of(item) for item in site.processes()]
        assert ["sleep", "301"] in names and ["sleep", "300"] in names
        site.ok("stop")
        left = [words_of(item) for item in site.processes() if is_alive(item)]
        assert ["sleep", "301"] in left
        assert not [words for words in left if words[:1] == ["sleep"] and words != ["sleep", "301"]]
        assert not [words for words in left if "trap" in " ".join(words) and "sleep 301" not in " ".join(words)]


def of_nobody(site: SiteUnderTest) -> Path:
    """Add a server of another user's, which runs nothing that only this one may read."""
    shutil.copytree(Path(gullwind_standin.__file__).parent, site.folder / "program" / "gullwind_standin")
    home = site.add("regatta", "boat.slots=16\n")
    (home / "launch.sh").write_text(LAUNCH.format(python="/usr/bin/python3"))
    as_nobody(site, home)
    return home


@root
def test_a_server_that_runs_as_another_user_is_that_users_after_its_next_start_too(site: SiteUnderTest) -> None:
    """The site file named none so far, and Round Gate is root's: what it starts must not be."""
    home = of_nobody(site)
    quiet = {"stdin": subprocess.DEVNULL, "stdout": subprocess.DEVNULL}
    with (
        subprocess.Popen(["./launch.sh"], cwd=home, user="nobody", start_new_session=True, **quiet) as server,
        ended(server),
    ):
        wait_for(lambda: "Ready" in latest(home))
        assert 'user = "nobody"' in site.ok("adopt", "regatta", "--running", "--yes")
        site.ok("restart")
        server.wait(60)
    assert psutil.Process(serving(site)).username() == "nobody"


@root
@tmux
def test_a_multiplexer_of_another_user_is_not_talked_to(site: SiteUnderTest) -> None:
    home = of_nobody(site)
    # Two words: one alone goes to the login shell of that user, who has none.
    call = ["tmux", "-S", str(home / "mux"), "new-session", "-d", "env", "./launch.sh"]
    subprocess.run(call, cwd=home, user="nobody", env={**os.environ, "HOME": str(home)}, check=True, timeout=60)
    try:
        wait_for(lambda: "Ready" in latest(home))
        assert "runs in tmux of nobody" in site.fails(1, "adopt", "regatta", "--running", "--yes")
        assert "driver =" not in (site.folder / "roundgate.toml").read_text()
    finally:
        for item in site.processes():
            item.kill()


def in_a_group(process: int, name: str) -> Path:
    """Put a process into a control group of this name, as systemd and container engines do."""
    for top in ("/sys/fs/cgroup/pids", "/sys/fs/cgroup/unified", "/sys/fs/cgroup"):
        try:
            group = Path(top) / name
            group.mkdir()
            (group / "cgroup.procs").write_text(str(process))
        except OSError:
            continue
        return group
    pytest.skip("NO CONTROL GROUP CAN BE MADE HERE")


SYSTEMCTL = """#!/bin/sh
case "$*" in
    *--user*) echo MainPID=0;;
    *show*gullwind-27.service*) echo MainPID=$(cat {pid}); echo LoadState=loaded; echo ActiveState=active;;
    *) echo MainPID=0;;
esac
"""


@pytest.mark.parametrize("group", ["gullwind-27.service", "docker-5c1e0f22.scope"])
def test_a_unit_is_found_by_its_group_and_a_container_is_left_to_its_engine(
    site: SiteUnderTest, group: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    home = site.add("regatta", "boat.slots=16\n")
    quietly(home, "./launch.sh")
    process = serving(site)
    assert process is not None
    (site.folder / "tools").mkdir()
    (site.folder / "tools" / "systemctl").write_text(SYSTEMCTL.format(pid=site.folder / "pid"))
    (site.folder / "tools" / "systemctl").chmod(0o755)
    (site.folder / "pid").write_text(str(process))
    monkeypatch.setenv("PATH", f"{site.folder / 'tools'}:{os.environ['PATH']}")
    made = in_a_group(process, group)
    try:
        if group.startswith("docker"):
            assert "runs in a container" in site.fails(1, "adopt", "regatta", "--running", "--yes")
        else:
            output = site.ok("adopt", "regatta", "--running", "--yes")
            assert "main process of gullwind-27.service" in output and "driver: systemd" in output
            table = (site.folder / "roundgate.toml").read_text()
            assert 'driver = "systemd"' in table and 'unit = "gullwind-27.service"' in table
            assert state(site) == "up" and serving(site) == process
    finally:
        os.kill(process, signal.SIGKILL)
        wait_for(lambda: not (made / "cgroup.procs").read_text().strip())
        made.rmdir()
