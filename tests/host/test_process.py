"""How a server's process is run, stopped and asked: a terminal, another user, a save before the stop, queries."""

from __future__ import annotations

import os
import pwd
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from conftest import SiteUnderTest, free_port, is_alive, wait_for, words_of
from roundgate.host import machine

BOOK = """
[rulebook]
name = "quay"
title = "A quay"
[file.core]
path = "core.cfg"
format = "directives"
[setting.port]
type = "port"
file = "core"
key = "port"
[setting.boats]
type = "int"
file = "core"
key = "boats"
default = 4
{setting}
[setting.code]
type = "secret"
file = "core"
key = "code"
{more}
[server]
process = "quay.py"
{server}
"""
QUAY = r'''
"""A small server for the tests: what it does is in core.cfg and in the words of its call."""
import os, select, signal, socket, struct, sys, time

settings = dict(line.split(" ", 1) for line in open("core.cfg").read().splitlines() if " " in line)
say = lambda text: print(text, flush=True)
signals = []
signal.signal(signal.SIGINT, lambda *_: signals.append("INT"))
signal.signal(signal.SIGTERM, lambda *_: signals.append("TERM"))
door = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
door.bind(("127.0.0.1", int(settings["port"])))
open("facts", "w").write(f"{os.getuid()} {os.getcwd()} {os.environ.get('HOME')} {os.umask(0):03o} {os.isatty(0)}")
wanted = int(settings.get("signals", "1"))
missed = int(settings.get("missed", "0"))
if os.isatty(0):
    print("\x1b[2J\x1b[1;1H\x1b[31mready\x1b[0m\x1b[5;3Hat work", flush=True)
elif "quiet" not in settings:
    say("ready")
sources = [door] if "deaf" in settings else [door, 0]
while len(signals) < wanted:
    able, _, _ = select.select(sources, [], [], 0.05)
    if door in able:
        data, place = door.recvfrom(2000)
        if len(data) >= 16:
            door.sendto(b"noise", place)
            door.sendto(b"\xffinfo" + struct.pack("<H", int(settings["boats"])) + b"quay\0", place)
    if 0 in able:
        line = os.read(0, 1000).decode()
        if not line:
            sources.remove(0)
        for word in line.splitlines():
            if word == "save":
                time.sleep(0.3)
                open("saved", "a").write("x")
                say("saved the world")
            elif word == "stop":
                missed -= 1
                if missed < 0:
                    sys.exit(0)
            elif word:
                say("heard " + word)
say("ended by " + " ".join(signals))
'''
PROBE = r'probe = { hex = "ff 69", pad = 16, starts = "ff", match = "quay", least = 8 }'


def quay(
    site: SiteUnderTest, *, server: str = "", more: str = "", setting: str = "", core: str = "", table: str = ""
) -> Path:
    (site.folder / "rulebooks").mkdir(exist_ok=True)
    (site.folder / "rulebooks" / "quay.toml").write_text(BOOK.format(server=server, more=more, setting=setting))
    home = site.folder / "quay"
    home.mkdir()
    (home / "core.cfg").write_text(f"port {free_port()}\nboats 4\ncode tide-and-time\n{core}")
    (home / "quay.py").write_text(QUAY)
    with (site.folder / "roundgate.toml").open("a") as file:
        file.write(
            f'\n[server.quay]\nfolder = "quay"\nstart = [{sys.executable!r}, "quay.py"]\nrulebook = "quay"\n'
            f'watch = "0.2s"\ngrace = "3s"\n{table}\n'
        )
    site.names.append("quay")
    return home


READY = "ready = '^ready$'\nsignals = [\"SIGTERM\"]\n"
PORT = f'[[server.port]]\nsetting = "port"\nbind = "127.0.0.1"\nprotocol = "udp"\n{PROBE}\n'


def test_a_server_in_a_terminal_is_read_without_its_colours_and_outlives_its_keeper(site: SiteUnderTest) -> None:
    home = quay(site, server=READY + "terminal = true\nstop = 'stop'\n" + PORT)
    site.ok("start")
    assert (home / "facts").read_text().endswith("True")
    assert "heard wind" in site.ok("send", "quay", "wind")
    log = site.ok("log", "quay")
    assert "\nat work" in log and "\x1b" not in log and "heard wind" in log
    process = next(one for one in site.processes() if words_of(one)[1:2] == ["quay.py"])
    keeper = site.kill_keeper("quay", with_guard=True)
    site.ok("status")
    wait_for(lambda: site.keeper_process("quay") not in (None, keeper))
    assert is_alive(process) and "heard tide" in site.ok("send", "quay", "tide")
    site.ok("stop")
    assert not is_alive(process)


def test_a_signal_reaches_the_server_in_its_terminal(site: SiteUnderTest) -> None:
    quay(site, server=READY + "terminal = true\n" + PORT)
    site.ok("start")
    site.ok("stop")
    assert "ended by TERM" in site.ok("log", "quay")


@pytest.fixture
def open_site() -> Iterator[SiteUnderTest]:
    """A site that another user can come into; every other run of pytest closes the folder above ``tmp_path`` again."""
    with tempfile.TemporaryDirectory(dir="/tmp") as folder:
        Path(folder).chmod(0o755)
        site = SiteUnderTest(Path(folder))
        yield site
        site.end()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can make a network namespace")
def test_a_server_in_a_network_namespace_of_its_own_is_proven_there(site: SiteUnderTest) -> None:
    """Somebody outside holds the same port meanwhile; that is not in its way, nor taken for its own."""
    home = site.add("regatta", "boat.slots=16\n")
    port = int(site.value("regatta", "net.port") or "")
    script = (home / "launch.sh").read_text()
    (home / "launch.sh").write_text(script.replace("exec ", "exec unshare --net "))
    site.ok("start")
    assert f"port {port} (tcp) is not asked: its process has a network" in site.ok("rounds", "show", "1")
    with socket.create_server(("127.0.0.1", port)):
        site.ok("set", "race.slots=24")
        assert f"owns port {port}" in site.ok("apply", "--yes")
        (home / "launch.sh").write_text(script)
        assert "fatal: socket" in site.fails(3, "restart"), "outside, the port is taken"


IN_A_NETWORK = """
import os, socket, sys
def door(kind, family, address, port):
    made = socket.socket(family, kind)
    made.bind((address, port))
    if kind == socket.SOCK_STREAM:
        made.listen()
    return made
neighbour = os.fork()
if neighbour == 0:
    held = [door(socket.SOCK_STREAM, socket.AF_INET, "127.0.0.1", 7003)]
else:
    held = [door(socket.SOCK_STREAM, socket.AF_INET, "127.0.0.1", 7001)]
    held += [door(socket.SOCK_DGRAM, socket.AF_INET, "0.0.0.0", 7002)]
    held += [door(socket.SOCK_STREAM, socket.AF_INET6, "::", 7004)]
    idle = socket.socket()
    idle.bind(("127.0.0.1", 7005))
    print(neighbour, flush=True)
sys.stdin.read()
"""


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can make a network namespace")
def test_the_ports_of_a_process_in_another_network_are_its_own_and_no_neighbours() -> None:
    with subprocess.Popen(
        ["unshare", "--net", sys.executable, "-c", IN_A_NETWORK],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
    ) as process:
        assert process.stdin is not None and process.stdout is not None
        neighbour = int(process.stdout.readline())
        mine = {(held.protocol, held.address, held.port) for held in machine.listening([process.pid])}
        assert mine == {("tcp", "127.0.0.1", 7001), ("udp", "0.0.0.0", 7002), ("tcp", "::", 7004)}, "7005 only binds"
        wait_for(lambda: [held.port for held in machine.listening([neighbour])] == [7003])
        holders = machine.holders("tcp", 7003, [process.pid])
        assert [owner.process for owner in holders] == [neighbour] and not machine.holders("tcp", 7003)
        process.stdin.close()


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can start a server as another user")
@pytest.mark.skipif(not os.path.exists("/usr/bin/python3"), reason="no Python that every user can run")
def test_a_server_runs_as_another_user_in_a_home_and_a_folder_of_its_own(open_site: SiteUnderTest) -> None:
    nobody, site = pwd.getpwnam("nobody"), open_site
    home = quay(
        site, server=READY + PORT,
        table='user = "nobody"\numask = "0027"\nenvironment = { HOME = "{folder}/home", TZ = "UTC" }\n',
    )  # fmt: skip
    os.chown(home, nobody.pw_uid, nobody.pw_gid)
    os.chown(home / "core.cfg", nobody.pw_uid, nobody.pw_gid)
    table = site.folder / "roundgate.toml"
    table.write_text(table.read_text().replace(sys.executable, "/usr/bin/python3"))
    site.ok("start")
    assert (home / "facts").read_text().split()[:4] == [str(nobody.pw_uid), str(home), str(home / "home"), "027"]
    site.ok("set", "boats=6")
    site.ok("apply", "--yes")
    assert (home / "core.cfg").stat().st_uid == nobody.pw_uid and (home / "home").stat().st_uid == nobody.pw_uid
    site.ok("stop")


def test_a_user_that_is_not_there_is_named(site: SiteUnderTest) -> None:
    quay(site, server=READY + PORT, table='user = "no-such-sailor"\n')
    assert "this machine has no user no-such-sailor" in site.fails(1, "start")


def test_the_folder_that_a_server_is_run_in(site: SiteUnderTest) -> None:
    home = quay(site, server=READY + PORT, table='run-in = "bin"\n')
    (home / "bin").mkdir()
    for name in ("core.cfg", "quay.py"):
        (home / "bin" / name).symlink_to(home / name)
    site.ok("start")
    assert (home / "bin" / "facts").read_text().split()[1] == str(home / "bin")
    site.ok("stop")


def test_adopting_says_how_the_process_is_run(site: SiteUnderTest) -> None:
    (site.folder / "pier").mkdir()
    site.ok(
        "adopt", "pier", "--start", "./run.sh", "--user", "nobody", "--umask", "0027", "--run-in", "bin",
        "--environment", "HOME={folder}/home", "--environment", "TZ=UTC",
    )  # fmt: skip
    table = (site.folder / "roundgate.toml").read_text()
    assert 'user = "nobody"' in table and 'run-in = "bin"' in table and 'umask = "0027"' in table
    assert 'environment = { HOME = "{folder}/home", TZ = "UTC" }' in table
    (site.folder / "mole").mkdir()
    assert "is not a variable" in site.fails(2, "adopt", "mole", "--start", "./run.sh", "--environment", "TZ")


def test_what_comes_before_a_stop_is_waited_for(site: SiteUnderTest) -> None:
    before = '\n[[server.before-stop]]\nsend = "save"\nmatch = "^saved"\nwithin = "5s"\n'
    home = quay(site, server=READY + "stop = 'stop'\n" + PORT + before)
    site.ok("start")
    site.ok("restart")
    assert (home / "saved").read_text() == "x"
    site.ok("stop")
    assert (home / "saved").read_text() == "xx"


def test_a_save_that_is_not_confirmed_is_noted_and_the_stop_goes_on(site: SiteUnderTest) -> None:
    before = '\n[[server.before-stop]]\nsend = "save"\nmatch = "^never"\nwithin = "0.2s"\n'
    quay(site, server=READY + "stop = 'stop'\n" + PORT + before)
    site.ok("start")
    assert "'save' was not answered as the rulebook says" in site.ok("stop")


def test_a_stop_that_is_missed_is_sent_again_inside_the_grace_time(site: SiteUnderTest) -> None:
    quay(site, server=READY + "stop = 'stop'\nstop-again = '0.3s'\ngrace = '300s'\n" + PORT, core="missed 2\n")
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('grace = "3s"', 'grace = "30s"'))
    site.ok("start")
    began = time.monotonic()
    output = site.ok("stop")
    assert "still there" not in output and time.monotonic() - began < 25


def test_signals_in_order_each_with_a_time_of_its_own(site: SiteUnderTest) -> None:
    server = 'ready = \'^ready$\'\ngrace = \'300s\'\nsignals = ["SIGINT 0.3s", "SIGINT 0.3s", "SIGTERM"]\n'
    quay(site, server=server + PORT, core="signals 3\n")
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('grace = "3s"', 'grace = "30s"'))
    site.ok("start")
    began = time.monotonic()
    site.ok("stop")
    assert time.monotonic() - began < 25
    assert "ended by INT INT TERM" in site.ok("log", "quay")


def test_a_server_that_gives_no_ready_sign_is_ready_by_its_port(site: SiteUnderTest) -> None:
    quay(site, server='signals = ["SIGTERM"]\n' + PORT, core="quiet yes\n")
    output = site.ok("start")
    assert "answers there by udp" in output and "proven to be" in output
    site.ok("stop")


def test_a_port_on_another_address_than_the_wanted_one_proves_nothing(site: SiteUnderTest) -> None:
    """The server listens on 127.0.0.1 alone; a bad address makes some servers fall back to another one."""
    quay(site, server=READY + PORT.replace('bind = "127.0.0.1"', 'bind = "0.0.0.0"').replace(PROBE, ""))
    output = site.fails(1, "start")
    assert "owns port" in output and "on 127.0.0.1, not on 0.0.0.0" in output
    site.ok("stop")


QUERY = '[query.info]\nport = "port"\nhex = "ff 69"\npad = 16\nstarts = "ff"\n'
BY_BYTES = 'live = { query = "info", bytes = [5, 2] }'
LINES = """[query.info]
run = ["x"]
[setting.x]
file = "core"
type = "int"
live = { query = "info", match = 'a\\n(?P<value>.)' }
"""
LINE_BY_COMMAND = """live = { query = "file", match = '^boats (?P<value>[0-9]+)$' }"""
BY_COMMAND = """live = { query = "file", match = 'boats (?P<value>[0-9]+)' }"""


@pytest.mark.parametrize(
    ("live", "query"),
    [
        (BY_BYTES, QUERY),
        (BY_COMMAND, '[query.file]\nrun = ["cat", "{folder}/core.cfg"]\n'),
        (
            BY_COMMAND.replace("'boats", "'^boats").replace(")'", ")$'"),
            '[query.file]\nrun = ["cat", "{folder}/core.cfg"]\n',
        ),
    ],
)
def test_values_are_read_back_by_a_query(site: SiteUnderTest, live: str, query: str) -> None:
    quay(site, server=READY + PORT, setting=live, more=query, core="deaf yes\n")
    site.ok("rulebook", "allow", "--yes")
    site.ok("start")
    site.ok("set", "boats=6")
    assert "boats is 6, says its query" in site.ok("apply", "--yes")
    assert "6" in site.ok("show", "boats", "--ask")
    site.ok("stop")


@pytest.mark.parametrize(
    ("query", "why"),
    [
        ('[query.info]\nrun = ["false"]\n', "'false' ended with exit code 1"),
        ('[query.info]\nrun = ["sleep", "9"]\nwithin = "0.2s"\n', "it took too long"),
        ('[query.info]\nrun = ["./none"]\n', "no such file or directory"),
        (QUERY + 'match = "elsewhere"\nwithin = "0.3s"\n', "not the one that the rulebook describes"),
        ('[query.info]\nrun = ["echo", "boats 5"]\n', "should be 6, but its query says 5"),
    ],
)
def test_a_query_that_fails_or_says_otherwise_proves_nothing(site: SiteUnderTest, query: str, why: str) -> None:
    live = BY_BYTES if "port" in query else """live = { query = "info", match = 'boats (?P<value>[0-9]+)' }"""
    quay(site, server=READY + PORT, setting=live, more=query)
    site.ok("rulebook", "allow", "--yes")
    site.ok("start")
    site.ok("set", "boats=6")
    output = site.fails(3, "apply", "--yes")
    assert why in output.lower() or why in output, output
    site.ok("stop")


@pytest.mark.parametrize(
    ("more", "why"),
    [
        ('[query.info]\nrun = ["x", "{code}"]\n', "may not have the secret code"),
        ('[query.info]\nrun = ["x", "{boots}"]\n', "boots"),
        (LINES, "cannot hold a line break"),
        ("[query.info]\n", "has a 'port' to ask, or a command to 'run'"),
        ('[query.info]\nport = "port"\nhex = "f"\n', "not a row of bytes in hex"),
        ('[query.info]\nport = "port"\nsend = "x"\nhex = "ff"\n', "not both"),
        ('[action.go]\nsend = "go {where}"\n', "where"),
        ('[action.go]\nsend = "go"\nargument.where = { type = "text" }\n', "'send' has no {where}"),
    ],
)
def test_mistakes_in_queries_and_actions_are_found_before_they_are_used(
    site: SiteUnderTest, more: str, why: str
) -> None:
    quay(site, more=more)
    assert why in site.fails(1, "rulebook", "check", "quay")


def test_a_console_that_is_not_there_proves_nothing_and_costs_no_round(site: SiteUnderTest) -> None:
    deaf = '[setting.deaf]\ntype = "bool"\nfile = "core"\nkey = "deaf"\ndefault = false\nspelling = ["yes", "no"]\n'
    live = """live = { set = "boats {value}", read = "boats", match = '^heard boats (?P<value>.*)$' }"""
    server = READY + "stop = 'stop'\nstdin-needs = 'not deaf'\n" + PORT
    quay(site, server=server, more=deaf, setting=live, core="deaf yes\n")
    site.ok("start")
    site.ok("set", "boats=6")
    output = site.ok("apply", "--yes")
    assert "cannot be asked for boats" in output and "has no console as it is started now" in output
    assert "has no console as it is started now" in site.fails(1, "send", "quay", "wind")
    site.ok("stop")


def test_the_text_of_a_terminal_is_the_same_however_it_is_cut() -> None:
    from roundgate.host.keeper.terminal import Plain

    whole = b"one\r\n\x1b[31mtwo\x1b[0m\x1b]0;title\x07 three\x1b[12;1Hfour\x1b(B\r\n"
    wanted = Plain().text(whole)
    assert wanted == b"one\ntwo three\nfour\n"
    for size in range(1, len(whole)):
        plain = Plain()
        parts = [plain.text(whole[at : at + size]) for at in range(0, len(whole), size)]
        assert b"".join(parts).split() == wanted.split(), size


@pytest.mark.parametrize(("given", "wanted"), [(None, "xterm"), ("vt100", "vt100")])
def test_a_terminal_has_a_name_where_a_service_starts_the_server(given: str | None, wanted: str) -> None:
    environment = {name: value for name, value in os.environ.items() if name != "TERM"} | (
        {"TERM": given} if given else {}
    )
    call = [sys.executable, "-m", "roundgate.host.keeper.terminal", "sh", "-c", "echo it is $TERM"]
    done = subprocess.run(
        call, env=environment, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=60, check=False
    )
    assert f"it is {wanted}" in done.stdout, done.stderr


@pytest.mark.parametrize("mask", ["0022", "0007"])
def test_a_server_has_the_callers_umask_whoever_of_ours_has_started_it(site: SiteUnderTest, mask: str) -> None:
    """A round is private, and so is its keeper; a keeper that another one's death or a timetable starts is no other."""
    home = quay(site, server=READY + PORT)
    own = {name: value for name, value in os.environ.items() if name != "ROUNDGATE_UMASK"}

    def call(*words: str) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "roundgate", *words], cwd=site.folder, umask=int(mask, 8), env=own, check=False,
            capture_output=True, text=True,
        )  # fmt: skip
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    call("start")
    assert (home / "facts").read_text().split()[3] == mask[1:]
    call("set", "boats=6")
    (home / "facts").unlink()
    call("apply", "--yes")
    assert (home / "facts").read_text().split()[3] == mask[1:]
    server = psutil.Process(site.server_process("quay"))
    assert "ROUNDGATE_UMASK" not in server.environ()
    keeper = server.parent()
    assert keeper is not None
    keeper.kill()
    wait_for(lambda: "up" in call("status"))
    call("restart")
    assert (home / "facts").read_text().split()[3] == mask[1:]


def test_a_wrong_umask_is_refused(site: SiteUnderTest) -> None:
    quay(site, table='umask = "rwx"\n')
    assert "is not a umask" in site.fails(1, "status")


def test_no_process_of_these_tests_is_left(site: SiteUnderTest) -> None:
    quay(site, server=READY + PORT)
    site.ok("start")
    site.ok("stop")
    wait_for(lambda: not [process for process in psutil.process_iter() if _is_ours(process, site)])


def _is_ours(process: psutil.Process, site: SiteUnderTest) -> bool:
    try:
        return "quay.py" in words_of(process) and process.cwd().startswith(str(site.folder))
    except psutil.Error:
        return False
