"""No content of any file, and no file that is none, keeps a server from being stopped, started or looked at."""

from __future__ import annotations

import os
import random
import shutil
import socket
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from background import status
from conftest import BOOK, SiteUnderTest, wait_for
from hostile_shapes import Shape, shapes
from peers import Hook
from sampling import sampled

ENDINGS = {
    "weather.ini": "ini", "startup.cfg": "cfg", "officers.json": "json", "guestlist.txt": "txt", "helms.yml": "yml",
    "ranks.yml": "yml", "berths.lua": "lua", "flotsam.json": "json", "seamanship.toml": "toml", "buoys.xml": "xml",
}  # fmt: skip
LIFE = (["status"], ["discard", "regatta"], ["stop", "regatta"], ["start", "regatta"], ["rounds", "recover"])


def contents(number: int) -> dict[str, bytes]:
    """Return a hostile content for each file that keeps no server from starting: shapes first, then any bytes."""
    by_ending: dict[str, list[Shape]] = {}
    for shape in shapes():
        by_ending.setdefault(shape.ending, []).append(shape)
    dice = random.Random(number)
    found = {}
    for name, ending in ENDINGS.items():
        known = by_ending[ending]
        if number < len(known):
            found[name] = known[number].text(4000).encode()
        else:
            found[name] = bytes(dice.choices(range(256), k=dice.choice((0, 1, 7, 300))))
    return found


ROOTS = [b"{}\n", b"[]\n", b"word\n", b"---\n", b"null\n", b'"x"\n', b"\x00", b"\xff\xfe", b"- " * 254, b"\n" * 9]


SAMPLE = sampled(range(18), 6)


@pytest.mark.parametrize("number", SAMPLE)
def test_the_life_of_a_server_does_not_hang_on_what_its_files_hold(running: SiteUnderTest, number: int) -> None:
    home = running.folder / "regatta"
    for name, data in contents(number).items():
        (home / name).write_bytes(data)
    if number < len(ROOTS):
        (home / "ranks.yml").write_bytes(ROOTS[number])
    for words in LIFE:
        done = running.run(*words)
        output = done.stdout + done.stderr
        assert done.returncode == 0 and "unexpected" not in output and "without a message" not in output, (
            words,
            output,
        )
    assert status(running)["state"] == "up"
    for words in (["show", "--all"], ["slate"]):
        output = running.run(*words).stderr
        assert "unexpected" not in output, (words, output)


@pytest.mark.parametrize("made", ["fifo", "device", "folder", "socket", "loop"])
def test_what_is_no_regular_file_is_not_read(
    running: SiteUnderTest, monkeypatch: pytest.MonkeyPatch, made: str
) -> None:
    """A pipe would be waited for without end, and a device read without end."""
    place = running.folder / "regatta" / "ranks.yml"
    if made == "fifo":
        os.mkfifo(place)
    elif made == "device":
        place.symlink_to("/dev/zero")
    elif made == "folder":
        place.mkdir()
    elif made == "socket":
        monkeypatch.chdir(place.parent)  # a socket's path has at most 107 bytes
        with socket.socket(socket.AF_UNIX) as listener:
            listener.bind(place.name)
    else:
        place.symlink_to(place)
    for words in (["status"], ["stop"], ["start"]):
        running.ok(*words)
    output = running.run("check").stdout
    assert "file-unreadable" in output and "ranks.yml" in output
    assert "Traceback" not in running.run("set", "race.slots=24").stderr
    keeper = running.keeper_process("regatta")
    assert keeper is not None and int(Path(f"/proc/{keeper}/statm").read_text().split()[1]) * 4096 < 60_000_000


def test_a_pattern_that_breaks_while_the_server_is_up_is_refused_before_the_stop(running: SiteUnderTest) -> None:
    (running.folder / "rulebooks").mkdir()
    book = running.folder / "rulebooks" / "gullwind.toml"
    first, keeper = running.server_process("regatta"), running.keeper_process("regatta")
    running.ok("set", "race.slots=24")
    for spoilt in (
        BOOK.replace("ready = '", "ready = '^READY('", 1).replace("^READY('", "^READY(' #", 1),
        BOOK.replace("[server]\n", '[server]\nsignals = ["SIGFOO"]\n', 1),
    ):
        assert spoilt != BOOK
        book.write_text(spoilt)
        assert running.run("apply", "--yes").returncode == 1
        assert running.run("restart").returncode == 1
        assert (running.server_process("regatta"), running.keeper_process("regatta")) == (first, keeper)
        assert running.run("rulebook", "check", "gullwind").returncode == 1
    assert "regatta" in running.ok("status")
    running.ok("discard", "regatta")
    running.ok("stop")
    assert running.server_process("regatta") is None


def test_a_pattern_with_endless_backtracking_does_not_stop_the_keeper(site: SiteUnderTest) -> None:
    """The players' names are the players' own; the pattern is switched off, and that is said."""
    (site.folder / "rulebooks").mkdir()
    book = BOOK.replace("joined = '", "joined = '^sailor (?:(?:[a-z]|[a-z])*)*X GW ", 1)
    assert book != BOOK
    (site.folder / "rulebooks" / "gullwind.toml").write_text(book)
    site.add("regatta")
    site.ok("start")
    for _ in range(5):
        site.ok("send", "say sailor " + "a" * 60)
    console = "[harbour radio] sailor"
    assert console in site.ok("log")
    (site.folder / "rulebooks" / "gullwind.toml").write_text(
        book.replace("joined = '^sailor", "joined = '^.harbour radio. sailor", 1)
    )
    site.ok("restart")
    for _ in range(5):
        site.ok("send", "say sailor " + "a" * 60)
    wait_for(lambda: "take too long" in site.ok("status"))
    assert "0 of 12 boats" in site.ok("send", "status")


def test_a_tcp_console_that_talks_without_end_is_left_in_time(site: SiteUnderTest) -> None:
    stop = threading.Event()
    listener = socket.create_server(("127.0.0.1", 0))
    port = listener.getsockname()[1]

    def stream() -> None:
        listener.settimeout(0.2)
        while not stop.is_set():
            try:
                link, _ = listener.accept()
            except TimeoutError:
                continue
            threading.Thread(target=flood, args=(link,), daemon=True).start()

    def flood(link: socket.socket) -> None:
        with link:
            try:
                link.sendall(b"code?\n")
                link.recv(100)
                link.sendall(b"aboard\n")
                while not stop.is_set():
                    link.sendall(b"the tide goes in, the tide goes out\n" * 50)
            except OSError:
                return

    thread = threading.Thread(target=stream)
    thread.start()
    try:
        site.add("regatta", f"console.port={port}\nconsole.code=barnacle-77\n", extra='console = "tcp"')
        site.ok("start")
        core = site.folder / "regatta" / "gullwind.properties"
        core.write_text(core.read_text() + "")
        done = site.run("set", "race.laps=7", "--now")
        assert done.returncode == 1 and "could not be read back" in done.stderr + done.stdout
        assert "is held by" not in site.run("stop", "--kill").stdout
    finally:
        stop.set()
        thread.join()
        listener.close()


@pytest.mark.parametrize("extra", ["", "terminal = true"])
def test_a_file_named_like_a_module_is_never_run(site: SiteUnderTest, tmp_path: Path, extra: str) -> None:
    """People call the program in their servers' folders, and whoever can write there must not act with their rights."""
    hook = Hook()
    home = site.add("regatta", "boat.slots=16\n", extra=extra)
    with (site.folder / "roundgate.toml").open("a") as file:
        file.write(f'[notices.webhook.club]\nurl = "{hook.url}"\n')
    script = home / "launch.sh"
    script.write_text(script.read_text().replace(" -m ", " -P -m "))  # the server's own process is its own affair
    trap = f"open({str(tmp_path / 'sprung')!r}, 'a').write(__file__ + '\\n')\nraise SystemExit(99)\n"
    for folder in (home, site.folder):
        # ``re`` is not among them: the script that pip makes loads it before it loads anything of ours.
        for name in ("json", "os", "signal", "selectors", "sqlite3", "typing", "msgspec", "psutil", "typer", "regex"):
            (folder / f"{name}.py").write_text(trap)
        if extra:  # with an empty entry in PYTHONPATH, Python takes this for the program before any of ours is loaded
            (folder / "roundgate").mkdir()
            (folder / "roundgate" / "__init__.py").write_text(trap)
    (home / "saves").mkdir(exist_ok=True)
    for words in (
        "start regatta", "set regatta race.slots=24", "apply regatta --yes", "backup regatta", "notices test",
        "stop regatta", "unit regatta",
    ):  # fmt: skip
        # The script that pip installs, with a path for modules that has the working folder in it; -m below -P.
        script = [str(Path(sys.executable).parent / "roundgate")]
        call = [*([sys.executable, "-P", "-m", "roundgate"] if extra else script), *words.split()]
        folder = site.folder if extra else home
        found = {**os.environ, "PYTHONPATH": os.pathsep.join(("", ".", os.environ.get("PYTHONPATH", "")))}
        env = os.environ if extra else found
        done = subprocess.run(call, cwd=folder, capture_output=True, text=True, timeout=100, check=False, env=env)
        assert done.returncode == 0, f"{words}: {done.stdout}{done.stderr}"
    hook.close()
    plain = subprocess.run(
        [sys.executable, "-m", "roundgate.cli", "status"], cwd=tmp_path, capture_output=True, check=False
    )
    shutil.rmtree(home / "roundgate", ignore_errors=True)  # -m itself takes what is called so there
    done = subprocess.run([sys.executable, "-m", "roundgate", "status"], cwd=home, capture_output=True, check=False)
    assert (done.returncode, plain.returncode) == (0, 2), done.stderr
    assert not (tmp_path / "sprung").exists(), (tmp_path / "sprung").read_text()
