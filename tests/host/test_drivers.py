"""Drivers besides the keeper: the owner's commands, systemd, a host that starts its server again by itself."""

from __future__ import annotations

import json
import os
import re
import signal
import stat
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest

from conftest import BOOK, SiteUnderTest, free_port, wait_for

CONSOLE = "console.open=true\nconsole.port={port}\nconsole.code=barnacle-77\n"
UP = "#!/bin/sh\ncd {home} && setsid ./launch.sh </dev/null >/dev/null 2>&1 &\n"
HOST = """
import subprocess, time
while True:
    quiet = dict(stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    subprocess.Popen(["./launch.sh"], cwd={home!r}, **quiet).wait()
    time.sleep({pause})
"""
SYSTEMCTL = '''#!{python}
"""Stands in for systemctl: the few words that are used, in its own form of output."""
import os, signal, subprocess, sys, time
words = [word for word in sys.argv[1:] if not word.startswith("-")]
options = [word for word in sys.argv[1:] if word.startswith("-")]
verb, unit = words[0], words[1]
state = {state!r}
with open(state + "/calls", "a") as file:
    file.write(" ".join(sys.argv[1:]) + "\\n")
if unit != "gullwind@regatta.service":
    if verb == "show":
        print("MainPID=0\\nLoadState=not-found\\nActiveState=inactive")
    else:
        print(f"Failed to {{verb}} {{unit}}: Unit {{unit}} not found.", file=sys.stderr)
    sys.exit(0 if verb == "show" else 5)
place = state + "/pid"
pid = int(open(place).read()) if os.path.exists(place) else 0
alive = pid and os.path.exists(f"/proc/{{pid}}") and open(f"/proc/{{pid}}/stat").read().split()[2] != "Z"
if verb == "start" and not alive:
    quiet = dict(stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    server = subprocess.Popen(["./launch.sh"], cwd={home!r}, start_new_session=True, **quiet)
    open(place, "w").write(str(server.pid))
elif verb == "stop" and alive:
    os.kill(pid, signal.SIGTERM)
elif verb == "kill" and alive:
    os.kill(pid, getattr(signal, options[0].split("=")[1]))
elif verb == "show":
    print(f"MainPID={{pid if alive else 0}}\\nLoadState=loaded\\nActiveState={{'active' if alive else 'inactive'}}")
'''


def driven(site: SiteUnderTest, more: str, trials: str = "") -> Path:
    """Make a site whose server is held by something else; gives its folder."""
    properties = "server.name=Saltmarsh Regatta\nboat.slots=16\nheat.size=8\n" + CONSOLE.format(port=free_port())
    home = site.add("regatta", properties, trials=trials, extra=more.replace("FOLDER", str(site.folder)))
    up = site.folder / "up.sh"
    up.write_text(UP.format(home=home))
    up.chmod(up.stat().st_mode | stat.S_IXUSR)
    return home


def test_commands_of_the_owners_start_and_stop_a_server(site: SiteUnderTest) -> None:
    driven(site, 'driver = "commands"\ncommands = { start = ["FOLDER/up.sh"] }\n')
    assert "regatta is up, and proven to be" in site.ok("start")
    site.ok("set", "race.slots=20")
    output = site.ok("apply", "--yes")
    assert "race.slots is 20, says its start log" in output and "proven" in output
    assert "0 of 20 boats" in site.ok("send", "regatta", "status")
    assert "Nobody counts the players" in site.fails(1, "restart", "--when-empty")
    site.ok("stop")
    assert site.server_process("regatta") is None and "down" in site.ok("status")


def test_what_does_not_come_up_by_commands_is_put_back(site: SiteUnderTest) -> None:
    home = driven(site, 'driver = "commands"\nstart-within = "2s"\ncommands = { start = ["FOLDER/up.sh"] }\n')
    site.ok("start")
    (home / "sea-trials.txt").write_text("die-at-start\n")
    site.ok("set", "race.slots=20")
    output = site.run("apply", "--yes").stdout
    assert "DOES NOT COME UP" in output and site.value("regatta", "boat.slots") == "16", output
    (home / "sea-trials.txt").unlink()
    site.ok("start")
    assert "0 of 16 boats" in site.ok("send", "regatta", "status")


@pytest.mark.parametrize(
    ("commands", "why"),
    [
        ('{ start = ["FOLDER/none.sh"] }', "cannot be run: no such file or directory"),
        ('{ start = ["false"] }', "ended with exit code 1"),
        ('{ start = ["sleep", "5"], within = "0.2s" }', "did not end within 0.2 s"),
    ],
)
def test_a_command_that_fails_is_named(site: SiteUnderTest, commands: str, why: str) -> None:
    driven(site, f'driver = "commands"\ncommands = {commands}\n')
    assert why in site.fails(1, "start")


def test_a_server_that_cannot_be_seen_is_alive_by_a_command(site: SiteUnderTest) -> None:
    home = driven(
        site,
        'driver = "commands"\ncommands = { start = ["FOLDER/up.sh"], alive = ["sh", "-c", "test -e up.mark"], '
        'stop = ["sh", "-c", "kill $(cat up.mark); rm up.mark"] }\n',
    )
    launch = home / "launch.sh"
    launch.write_text(launch.read_text().replace("exec ", f"echo $$ > {home}/up.mark\nexec "))
    site.ok("start")
    assert "up" in site.ok("status")
    assert "regatta is down" in site.ok("stop")
    assert not (home / "up.mark").exists()


@pytest.fixture
def systemd(site: SiteUnderTest, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    home = driven(site, 'driver = "systemd"\nunit = "gullwind@regatta.service"\nuser-unit = true\n')
    tools = site.folder / "tools"
    tools.mkdir()
    (tools / "systemctl").write_text(SYSTEMCTL.format(python=sys.executable, state=str(tools), home=str(home)))
    (tools / "systemctl").chmod(0o755)
    monkeypatch.setenv("PATH", f"{tools}:{os.environ['PATH']}")
    yield tools


def test_systemd_starts_and_stops_a_unit(site: SiteUnderTest, systemd: Path) -> None:
    assert "proven to be" in site.ok("start")
    site.ok("set", "race.slots=20")
    assert "race.slots is 20" in site.ok("apply", "--yes")
    site.ok("stop")
    wait_for(lambda: site.server_process("regatta") is None)
    calls = (systemd / "calls").read_text().splitlines()
    unit = "gullwind@regatta.service"
    assert f"--user start {unit}" in calls and f"--user stop --no-block {unit}" in calls


def test_a_unit_that_systemd_does_not_know_is_named(site: SiteUnderTest, systemd: Path) -> None:
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace("gullwind@regatta", "gullwind@harbour"))
    assert "systemd knows no unit gullwind@harbour.service" in site.fails(1, "start")
    file.write_text(file.read_text().replace('unit = "gullwind@harbour.service"\n', ""))
    assert "needs a 'unit'" in site.fails(1, "start")


@pytest.fixture
def hosted(site: SiteUnderTest, request: pytest.FixtureRequest) -> Iterator[SiteUnderTest]:
    home = driven(site, 'driver = "self"\n')
    with subprocess.Popen(
        [sys.executable, "-c", HOST.format(home=str(home), pause=getattr(request, "param", 0))]
    ) as host:
        wait_for(lambda: site.server_process("regatta") is not None)
        wait_for(lambda: (home / "logs" / "latest.log").is_file() and "Ready" in (home / "logs/latest.log").read_text())
        yield site
        for child in psutil.Process(host.pid).children(recursive=True):
            child.kill()
        host.kill()


def test_a_host_that_restarts_its_server_by_itself(hosted: SiteUnderTest) -> None:
    first = hosted.server_process("regatta")
    hosted.ok("set", "race.slots=20")
    done = hosted.run("apply", "--yes")
    assert done.returncode in (0, 3), done.stdout + done.stderr
    second = hosted.server_process("regatta")
    assert second not in (None, first)
    has = hosted.ok("send", "regatta", "status")
    # the host may be faster than the files: then the proof has seen it, and all is as it was
    assert ("0 of 20 boats" in has) == ("proven" in done.stdout and not done.returncode), done.stdout
    assert "cannot be stopped for good" in hosted.fails(1, "stop")
    assert "proven to be" in hosted.ok("restart")


def test_a_server_whose_logs_nobody_names_is_ready_by_its_ports_and_probe(site: SiteUnderTest) -> None:
    """No ready sign is heard: it opens its port, and answers the probe, two seconds after its start."""
    home = driven(site, 'driver = "commands"\ncommands = { start = ["FOLDER/up.sh"] }\nwatch = "0.2s"\n')
    (home / "sea-trials.txt").write_text("start-seconds 2\n")
    (site.folder / "rulebooks").mkdir()
    book = re.sub(r"^logs = .*$", "", BOOK, flags=re.MULTILINE)
    assert book != BOOK
    (site.folder / "rulebooks" / "gullwind.toml").write_text(book)
    output = site.ok("start")
    assert "its ready sign is not seen" in output and "proven to be" in output
    assert "up" in site.ok("status").split()
    site.ok("set", "race.slots=20")
    assert "0 of 20 boats" in site.ok("apply", "--yes") + site.ok("send", "regatta", "status")
    site.ok("stop")


def test_a_server_that_was_started_elsewhere_is_up_and_not_held(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n")
    server = subprocess.Popen(["./launch.sh"], cwd=home, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL)
    try:
        wait_for(lambda: "up, not held" in site.ok("status"), 20)
        row = json.loads(site.ok("status", "--json"))["servers"][0]
        assert row["state"] == "up, not held" and row["process"] is None
        assert f"process {server.pid}" in site.ok("status")
        assert "roundgate adopt regatta --running" in site.ok("status")
        assert "runs outside Round Gate" in site.fails(1, "start")
    finally:
        server.kill()
        server.communicate()
    wait_for(lambda: site.server_process("regatta") is None)
    assert json.loads(site.ok("status", "--json"))["servers"][0]["state"] == "down"


@pytest.mark.parametrize("hosted", [0.3, 1.0], indirect=True)
@pytest.mark.parametrize("rewritten", ["at-stop", "never"])
def test_a_wrapper_that_waits_before_it_restarts_is_no_lost_server(hosted: SiteUnderTest, rewritten: str) -> None:
    (hosted.folder / "rulebooks").mkdir()
    book = re.sub(r'rewritten = "[a-z-]+"', f'rewritten = "{rewritten}"', BOOK)
    (hosted.folder / "rulebooks" / "gullwind.toml").write_text(book)
    for slots in (20, 21):
        hosted.ok("set", f"race.slots={slots}")
        assert f"race.slots is {slots}, says its start log" in hosted.ok("apply", "--yes")
        assert f"0 of {slots} boats" in hosted.ok("send", "regatta", "status")
    first = hosted.server_process("regatta")
    assert "proven to be" in hosted.ok("restart") and hosted.server_process("regatta") not in (None, first)


def test_a_server_that_ends_by_itself_is_noticed_while_a_round_waits(site: SiteUnderTest) -> None:
    driven(site, 'driver = "commands"\ncommands = { start = ["FOLDER/up.sh"] }\n')
    site.ok("start")
    site.ok("set", "race.slots=20")
    process = site.server_process("regatta")
    assert process is not None
    with subprocess.Popen(
        [sys.executable, "-m", "roundgate", "apply", "--yes", "--countdown", "60s"],
        cwd=site.folder, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
    ) as waiting:  # fmt: skip
        wait_for(lambda: "The server restarts in" in site.run("rounds", "show", "2").stdout)
        os.kill(process, signal.SIGKILL)
        output = waiting.communicate(timeout=60)[0]
    assert "ended by itself while the round waited" in output


def test_the_unit_of_a_keeper_has_what_it_needs_and_no_more(regatta: SiteUnderTest) -> None:
    output = regatta.ok("unit", "regatta")
    pairs = dict(line.split("=", 1) for line in output.splitlines() if "=" in line)
    assert pairs["ExecStart"].endswith(f"--site {regatta.folder} start regatta")
    assert pairs["ExecStop"].endswith(f"--site {regatta.folder} stop regatta")
    assert pairs["NoNewPrivileges"] == "yes" and pairs["ProtectSystem"] == "strict"
    assert str(regatta.folder) in pairs["ReadWritePaths"].split()
    assert int(pairs["TimeoutStopSec"]) > 5
    call = pairs["ExecStart"].split()
    done = subprocess.run(call, cwd="/", capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 0 and "proven to be" in done.stdout
    done = subprocess.run(pairs["ExecStop"].split(), cwd="/", capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 0 and "regatta is down" in done.stdout
    file = regatta.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('watch = "0.2s"', 'watch = "0.2s"\ndriver = "self"'))
    assert "is not held by a keeper" in regatta.fails(1, "unit", "regatta")
