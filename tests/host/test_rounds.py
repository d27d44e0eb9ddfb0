"""Rounds on the real stand-in server: each step, each way it can go wrong, and what is left behind."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
from pathlib import Path

import psutil
import pytest

from background import Background, wait_for_step
from conftest import BOOK, SiteUnderTest, free_port, wait_for, words_of
from terminals import Terminal


def outcome(site: SiteUnderTest, number: int) -> str:
    return str(json.loads(site.ok("rounds", "show", str(number), "--json"))["outcome"])


def rounds(site: SiteUnderTest) -> list[dict[str, object]]:
    found: list[dict[str, object]] = json.loads(site.ok("rounds", "--json"))
    return found


def test_a_change_is_proven_and_the_slate_is_empty_afterwards(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24", "idle.drop=10m", "hull.damage=90%")
    before = running.server_process("regatta")
    output = running.ok("apply", "--yes")
    assert "race.slots is 24, says its start log" in output
    assert "idle.drop is 10m, says its console" in output
    assert (running.value("regatta", "boat.slots"), running.value("regatta", "idle.drop.minutes")) == ("24", "10")
    assert running.server_process("regatta") not in (None, before)
    assert "the slate is empty" in running.ok("slate")
    assert outcome(running, 2) == "proven"


def test_a_slate_survives_that_the_server_rewrites_its_file_when_it_stops(running: SiteUnderTest) -> None:
    """The file is read again after the stop; comments that the server drops do not matter."""
    running.ok("set", "server.motto=Fair winds")
    running.ok("apply", "--yes")
    assert running.value("regatta", "server.motto") == "Fair winds"
    assert running.value("regatta", "boat.slots") == "16"


def test_an_edit_by_hand_while_the_server_runs_is_kept(running: SiteUnderTest) -> None:
    path = running.folder / "regatta" / "gullwind.properties"
    path.write_text(path.read_text().replace("heat.size=8", "heat.size=6"))
    assert "race.heat: on disk but not running: restart" in running.ok("status")
    output = running.ok("restart")
    assert "race.heat is 6, says its console" in output
    assert running.value("regatta", "heat.size") == "6"


@pytest.mark.parametrize("verb", ["stop", "restart"])
def test_a_value_set_live_goes_into_the_file_at_the_next_stop(running: SiteUnderTest, verb: str) -> None:
    assert "in force now" in running.ok("set", "race.laps=7", "--now")
    assert "in force by the console" in running.ok("show", "race.laps")
    running.ok(verb)
    assert running.value("regatta", "laps.count") == "7"
    assert "the slate is empty" in running.ok("slate")


def test_a_value_typed_at_the_console_only_is_said_to_be_lost_at_the_next_restart(running: SiteUnderTest) -> None:
    assert "lost at the next restart" in running.ok("send", "value gust.limit 30")
    assert "set at the console only: lost at the next restart" in running.ok("show", "gust.limit")
    running.ok("restart")
    assert "console only" not in running.ok("show", "gust.limit")


def test_a_server_that_does_not_start_with_the_change_gets_its_old_files_back(running: SiteUnderTest) -> None:
    before = running.text("regatta")
    running.ok("set", "tick.rate=60")
    output = running.fails(3, "apply", "--yes")
    assert "fatal: tick" in output and "the slate is kept" in output
    running.ok("stop")
    assert sorted(running.text("regatta").splitlines()) == sorted(_rewritten(before).splitlines())
    assert "tick.rate: 30 -> 60" in running.ok("slate")


def _rewritten(text: str) -> str:
    """What the stand-in makes of a file when it stops: all its settings, no comments."""
    from gullwind_standin import settings

    found = dict(line.split("=", 1) for line in text.splitlines() if "=" in line)
    keys = settings.known_keys("2.4", "inshore")
    return "".join(f"{key}={found.get(key, settings.DEFAULTS[key])}\n" for key in keys)


@pytest.mark.parametrize(
    ("trials", "within", "words"),
    [
        ("die-after 0.1", "90s", "ended soon after it was ready with exit code 3"),
        ("die-at-start", "90s", "its log says: ERROR bad config"),
        ("ready-never", "1s", "was not ready within 1s"),
    ],
)
def test_a_start_that_fails_is_undone_and_told(site: SiteUnderTest, trials: str, within: str, words: str) -> None:
    """The fault comes with the new start and stays: the old state does not start either, and that is said loudly.

    Only the times of the start that must fail are short, or long enough that the fault always comes first: a busy
    machine must not turn one fault into another.
    """
    home = site.add("regatta", "boat.slots=16\n")
    site.ok("start")
    file = site.folder / "roundgate.toml"
    patient = file.read_text()
    file.write_text(patient.replace('watch = "0.2s"', f'watch = "60s"\nstart-within = "{within}"'))
    (home / "sea-trials.txt").write_text(trials + "\n")
    site.ok("set", "race.slots=24")
    output = site.fails(3, "apply", "--yes")
    assert words in output
    assert "DOES NOT COME UP WITH THEM EITHER" in output
    assert site.value("regatta", "boat.slots") == "16"
    (home / "sea-trials.txt").unlink()
    file.write_text(patient)
    site.run("stop", "--kill")
    site.ok("start")
    assert "up" in site.ok("status")


def test_a_value_that_the_server_does_not_take_is_found_and_undone(site: SiteUnderTest) -> None:
    """A rulebook that is too generous: the server clamps the value without a word, and the proof reads it back."""
    (site.folder / "rulebooks").mkdir()
    (site.folder / "rulebooks" / "gullwind.toml").write_text(BOOK.replace("range = [0, 40]", "range = [0, 90]"))
    site.add("regatta", "gust.limit=20\n")
    site.ok("start")
    site.ok("set", "gust.limit=70")
    assert "gust.limit should be 70, but its console says 40" in site.fails(3, "apply", "--yes")
    assert site.value("regatta", "gust.limit") == "20"


def test_a_value_that_the_server_changes_in_its_own_file_is_not_proven_by_that_file(running: SiteUnderTest) -> None:
    """What the file holds after the start is the server's doing: the proof goes by what the round wrote."""
    launch = running.folder / "regatta" / "launch.sh"
    cut = "sed -i s/gust.limit=30/gust.limit=25/ gullwind.properties\nexec "
    launch.write_text(launch.read_text().replace("exec ", cut, 1))
    running.ok("set", "gust.limit=30")
    assert "gust.limit should be 30, but its console says 25" in running.fails(3, "apply", "--yes")


def test_a_bind_address_that_falls_back_to_all_addresses_is_found_and_undone(running: SiteUnderTest) -> None:
    running.ok("set", "net.address=203.0.113.7")
    output = running.fails(3, "apply", "--yes")
    assert "on 0.0.0.0, not on 203.0.113.7" in output


def test_a_server_that_ignores_the_stop_command_runs_on_and_nothing_is_changed(site: SiteUnderTest) -> None:
    home = site.add("regatta", "boat.slots=16\n", trials="hang-at-stop\n", extra='grace = "0.4s"')
    site.ok("start")
    process, before = site.server_process("regatta"), site.text("regatta")
    site.ok("set", "race.slots=24")
    output = site.fails(1, "apply", "--yes")
    assert "does not stop" in output and "--kill" in output
    assert site.server_process("regatta") == process and site.text("regatta") == before
    (home / "sea-trials.txt").write_text("")
    assert "SIGKILL" not in output
    site.ok("apply", "--yes", "--kill")
    assert site.value("regatta", "boat.slots") == "24"


def test_players_are_told_before_the_stop(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    running.ok("apply", "--yes", "--countdown", "2s", "--reason", "more boats")
    log = running.ok("log", "-n", "100")
    assert "[harbour radio] The server restarts in 2s: more boats" in log
    assert "[harbour radio] The server restarts in 1s: more boats" in log


def test_what_players_are_told_and_when_is_the_sites_word(site: SiteUnderTest) -> None:
    site.add("regatta")
    with (site.folder / "roundgate.toml").open("a") as file:
        file.write('[countdown]\nmarks = ["2s"]\ntext = "{server} {what} in {left} ({reason})"\n')
    site.ok("start")
    site.ok("restart", "--countdown", "3s", "--reason", "tea")
    site.ok("stop", "--countdown", "1s", "--reason", "low water")
    log = site.ok("log", "-n", "100")
    told = [line.split("] ", 1)[1] for line in log.splitlines() if "harbour radio" in line]
    assert told == ["regatta restarts in 3s (tea)", "regatta restarts in 2s (tea)", "regatta stops in 1s (low water)"]
    path = site.folder / "roundgate.toml"
    whole = path.read_text()
    for old, new, words in (
        ('["2s"]', '["soon"]', "'soon' of [countdown] is not a time"),
        ("{left}", "{lefft}", "[countdown] has no 'lefft' to fill in"),
    ):
        path.write_text(whole.replace(old, new))
        assert words in site.fails(1, "status")


def test_a_round_waits_until_nobody_is_aboard(running: SiteUnderTest) -> None:
    running.ok("send", "muster 2")
    running.ok("set", "race.slots=24")
    before = running.server_process("regatta")
    words = [sys.executable, "-m", "roundgate", "apply", "--yes", "--when-empty"]
    with Terminal(words, running.folder) as terminal:
        terminal.until("waiting until no players are aboard")
        assert rounds(running)[0]["outcome"] == "open" and running.server_process("regatta") == before
        running.ok("send", "ashore")
        assert terminal.end() == 0, terminal.text
    assert running.server_process("regatta") != before


def test_a_round_can_be_called_off_until_it_writes_and_goes_on_without_its_terminal(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    terminal = subprocess.Popen(
        [sys.executable, "-m", "roundgate", "apply", "--yes", "--countdown", "20m"],
        cwd=running.folder,
        env={name: value for name, value in os.environ.items() if name != "PYTHONUNBUFFERED"},
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
    )
    assert terminal.stdout is not None
    while b"restarts in" not in terminal.stdout.readline():
        pass
    terminal.kill()
    terminal.wait()
    terminal.stdout.close()
    number = int(str(rounds(running)[0]["round"]))
    assert outcome(running, number) == "open", "a closed terminal changes nothing"
    worker = next(process for process in running.processes() if "roundgate.host.rounds" in words_of(process))
    second = running.fails(5, "apply", "--yes")
    assert f"held by round {number}" in second and "since" in second
    os.kill(worker.pid, signal.SIGUSR1)
    wait_for(lambda: outcome(running, number) == "called-off")
    assert running.value("regatta", "boat.slots") == "16"
    assert "The restart is called off." in running.ok("log")


def test_two_changes_to_one_value_since_the_slate_show_all_three(regatta: SiteUnderTest) -> None:
    regatta.ok("set", "race.slots=24")
    path = regatta.folder / "regatta" / "gullwind.properties"
    path.write_text(path.read_text().replace("boat.slots=16", "boat.slots=20"))
    output = regatta.ok("slate")
    assert "20 -> 24" in output and "it was 16" in output


def test_a_server_that_is_down_gets_its_files_written_and_stays_down(regatta: SiteUnderTest) -> None:
    regatta.ok("set", "race.slots=24")
    assert "nothing is in force or proven yet" in regatta.ok("apply", "--yes")
    assert regatta.value("regatta", "boat.slots") == "24"
    assert regatta.server_process("regatta") is None


def test_rewind_puts_the_files_back_byte_for_byte(regatta: SiteUnderTest) -> None:
    path = regatta.folder / "regatta" / "gullwind.properties"
    path.write_bytes("\ufeff# café\r\nserver.name=Saltmarsh\r\nboat.slots = 16\r\nnet.port = 27999".encode())
    path.chmod(0o640)
    before = path.read_bytes()
    regatta.ok("set", "race.slots=24", "race.laps=5")
    regatta.ok("apply", "--yes")
    changed = path.read_bytes()
    assert changed == before.replace(b"boat.slots = 16", b"boat.slots = 24") + b"\r\nlaps.count = 5"
    assert path.stat().st_mode & 0o777 == 0o640
    regatta.ok("rounds", "rewind", "1", "--yes")
    assert path.read_bytes() == before
    assert path.stat().st_mode & 0o777 == 0o640


def test_a_link_is_followed_and_stays_a_link_and_never_leads_outside(regatta: SiteUnderTest, tmp_path: Path) -> None:
    home = regatta.folder / "regatta"
    path, real = home / "gullwind.properties", home / "real.properties"
    path.rename(real)
    path.symlink_to("real.properties")
    regatta.ok("set", "race.slots=24")
    regatta.ok("apply", "--yes")
    assert path.is_symlink() and "boat.slots=24" in real.read_text()
    outside = tmp_path / "outside.properties"
    outside.write_text("boat.slots=16\n")
    path.unlink()
    path.symlink_to(outside)
    output = regatta.fails(1, "set", "race.slots=20")
    assert "outside the server's folder" in output
    assert outside.read_text() == "boat.slots=16\n"


def test_a_value_reset_by_something_else_since_a_round_is_told(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    running.ok("apply", "--yes")
    running.ok("stop")
    path = running.folder / "regatta" / "gullwind.properties"
    path.write_text(path.read_text().replace("boat.slots=24", "boat.slots=18"))
    assert "reset by something other than Round Gate since round 2" in running.ok("show", "race.slots")
    path.write_text(path.read_text().replace("boat.slots=18", "boat.slots=024"))
    assert "reset by" not in running.ok("show", "race.slots"), "another spelling of the same value is no other value"


def test_a_new_world_is_needed_for_what_a_world_has_fixed(running: SiteUnderTest) -> None:
    output = running.fails(1, "set", "tide.mode=storm")
    assert "was fixed when the world" in output and "tide.mode=storm --new-world first-tide-2" in output
    running.ok("set", "tide.mode=storm", "world.save=second-tide")
    assert "tide.mode is storm, says its console" in running.ok("apply", "--yes")


class Lobby:
    """The stand-in's lobby on a free port."""

    def __init__(self, delay: float) -> None:
        self.port = free_port()
        words = [sys.executable, "-m", "gullwind_standin.main", "--lobby", str(self.port), "--delay", str(delay)]
        self.process = subprocess.Popen(words, stdout=subprocess.PIPE)
        assert self.process.stdout is not None
        self.process.stdout.readline()

    def close(self) -> None:
        self.process.terminate()
        self.process.wait()
        assert self.process.stdout is not None
        self.process.stdout.close()


def test_a_public_list_never_undoes_anything_and_is_looked_at_after_the_round(site: SiteUnderTest) -> None:
    lobby = Lobby(delay=0.5)
    try:
        site.add("regatta", f"lobby.listed=true\nlobby.url=http://127.0.0.1:{lobby.port}\nserver.name=Old Name\n")
        site.ok("start")
        wait_for(lambda: listed(site) is True)
        (site.folder / "regatta" / "sea-trials.txt").write_text("lobby-delay 60\n")
        (site.folder / "rulebooks").mkdir()
        (site.folder / "rulebooks" / "gullwind.toml").write_text(BOOK.replace('within = "10s"', 'within = "1s"'))
        site.ok("set", "race.slots=20")
        first = rounds(site)[0]["round"]
        assert "proven" in site.ok("apply", "--yes")
        assert len(rounds(site)) == int(str(first)) + 1, "no second restart"
        wait_for(lambda: "not found in the public list: it is not in the list" in site.ok("status"))
        assert site.value("regatta", "boat.slots") == "20" and listed(site) is False
    finally:
        lobby.close()
    assert "the list does not answer" in site.ok("status", "--list")
    (site.folder / "regatta" / "sea-trials.txt").unlink()
    site.ok("set", "race.slots=21")
    assert "proven" in site.ok("apply", "--yes")


def listed(site: SiteUnderTest) -> object:
    return json.loads(site.ok("status", "--json"))["servers"][0]["listed"]


def test_the_tcp_console_works_and_a_cut_one_is_told(site: SiteUnderTest) -> None:
    port = free_port()
    home = site.add(
        "regatta",
        f"console.open=true\nconsole.port={port}\nconsole.code=barnacle-77\n",
        extra='console = "tcp"',
    )
    site.ok("start")
    [asked] = json.loads(site.ok("show", "gust.limit", "--ask", "--json"))[0]["settings"]
    assert asked["running"] == "18"
    site.ok("set", "race.laps=7", "--now")
    site.ok("set", "race.slots=14")
    site.ok("apply", "--yes", "--countdown", "1s")
    assert "[harbour radio]" not in site.ok("log"), "the answer goes to the one who asked, on this console"
    (home / "sea-trials.txt").write_text("cut-console\n")
    site.ok("restart")
    output = site.fails(1, "send", "status")
    assert "the connection was cut" in output and "barnacle" not in output
    site.ok("set", "race.slots=15")
    assert "could not be told" in site.fails(1, "apply", "--yes", "--countdown", "1s")
    assert site.value("regatta", "boat.slots") == "14"
    site.fails(1, "set", "race.laps=5", "--now")


def test_a_taken_port_is_found_before_the_server_is_stopped(running: SiteUnderTest) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        process = running.server_process("regatta")
        running.ok("set", f"net.port={port}")
        output = running.fails(1, "apply", "--yes")
    assert f"Port {port} (tcp) is taken by process {os.getpid()}" in output
    assert running.server_process("regatta") == process


def test_a_server_that_runs_outside_round_gate_is_told_and_left_alone(regatta: SiteUnderTest) -> None:
    outside = subprocess.Popen(
        ["./launch.sh"], cwd=regatta.folder / "regatta", stdout=subprocess.PIPE, stdin=subprocess.DEVNULL
    )
    assert outside.stdout is not None
    while b"Ready" not in outside.stdout.readline():
        pass
    output = regatta.fails(1, "start")
    assert "already runs outside Round Gate" in output and str(outside.pid) in output
    assert "already runs outside Round Gate" in regatta.ok("status")
    regatta.ok("set", "race.slots=24")
    regatta.fails(1, "apply", "--yes")
    assert regatta.value("regatta", "boat.slots") == "16"
    assert outside.poll() is None
    outside.terminate()
    outside.wait()
    outside.stdout.close()


def test_worlds_are_saved_where_asked(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    running.ok("apply", "--yes", "--backup")
    copies = list((running.folder / ".roundgate" / "rounds" / "2" / "worlds" / "saves").iterdir())
    assert [copy.name for copy in copies] == ["first-tide.world"]


def test_what_changed_between_the_look_and_the_yes_is_refused(running: SiteUnderTest) -> None:
    """A person agrees to what is shown; if that is no longer so, nothing is done."""
    from roundgate.host.rounds.options import Options
    from roundgate.host.rounds.process import launch
    from roundgate.host.servers import Server
    from roundgate.host.site import read_site
    from roundgate.host.store import Store

    running.ok("set", "race.slots=24")
    site = read_site(running.folder)
    window = launch(Server(site, "regatta"), Store(site.state), Options(reviewed="something else"))
    events = list(window.events())
    window.close()
    assert events[-1].outcome == "refused" and "changed since you looked" in events[-1].message


def test_the_state_is_for_this_user_only(running: SiteUnderTest) -> None:
    running.ok("set", "race.slots=24")
    running.ok("apply", "--yes")
    state = running.folder / ".roundgate"
    for path in (state, *state.rglob("*")):
        mode = path.lstat().st_mode & 0o777
        assert mode & 0o077 == 0, f"{path} is {mode:o}"


def test_a_server_is_not_slower_to_come_back_for_a_long_watch(site: SiteUnderTest) -> None:
    """The watch goes on after the server is ready; players come in meanwhile."""
    site.add("regatta")
    site.ok("start")
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('watch = "0.2s"', 'watch = "100s"'))
    site.ok("set", "race.slots=24")
    work = Background(site, "apply", "--yes")
    number = wait_for_step(site, "prove", "note", "ready", kind="apply")
    assert outcome(site, number) == "open", "it still watches"
    assert "came aboard" in site.ok("send", "muster 3")
    assert outcome(site, number) == "open"
    site.end()
    work.end()


def test_the_keeper_lets_nobody_else_in(running: SiteUnderTest) -> None:
    socket_path = running.folder / ".roundgate" / "servers" / "regatta" / "keeper.sock"
    assert socket_path.stat().st_mode & 0o777 == 0o600
    assert psutil.Process(running.keeper_process("regatta")).ppid() != os.getpid()
