"""Three packaged game servers, through the built program: from adopting one to a rewind, each answer its own."""

from __future__ import annotations

import os
import signal
import socket
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import SiteUnderTest, free_port, wait_for
from real_servers import SERVERS, RealServer

pytestmark = [pytest.mark.real, pytest.mark.timeout(180)]
EACH = pytest.mark.parametrize("real", SERVERS.values(), ids=SERVERS, indirect=True)


@pytest.fixture
def real(request: pytest.FixtureRequest, own_network: bool) -> RealServer:
    wanted: RealServer = request.param
    if not wanted.is_there:
        pytest.skip(f"the package of {wanted.program} is not installed")
    return wanted


@pytest.fixture
def sea(site: SiteUnderTest, real: RealServer) -> Iterator[SiteUnderTest]:
    """A site with the server adopted, checked and up."""
    home = site.folder / "sea"
    home.mkdir()
    real.lay_down(home, free_port())
    site.ok(
        "adopt", "sea", "--rulebook", real.rulebook, "--start", real.start, "--environment", "HOME={folder}/home",
        "--tag", "real",
    )  # fmt: skip
    site.names.append("sea")
    table = site.folder / "roundgate.toml"
    table.write_text(table.read_text() + 'watch = "0.3s"\n')
    real.prepare(site, home)
    site.ok("start", "sea")
    yield site


def files_of(site: SiteUnderTest) -> dict[str, bytes]:
    """Return the files of the server that Round Gate may write, byte for byte."""
    names = ("server.cfg", "bans.cfg", "minetest.conf", "start.sh")
    found = {name: site.folder / "sea" / name for name in names}
    return {name: path.read_bytes() for name, path in found.items() if path.is_file()}


@EACH
def test_values_are_set_proven_and_read_back_by_the_server_itself(sea: SiteUnderTest, real: RealServer) -> None:
    output = sea.ok("check", "sea")
    assert "warning" not in output and "error" not in output, output
    sea.ok("set", "sea", *(f"{name}={value}" for name, value in real.five.items()))
    sea.ok("add", "sea", *real.entry)
    output = sea.ok("apply", "sea", "--yes")
    for name in real.five:
        assert f"proof     {name} is " in output, output
    assert real.entry_said in output and " proven: sea is up" in output
    for line, answer in real.asked.items():
        assert answer in sea.ok("send", "sea", line), line
    for words in real.wrong:
        assert "Nothing was changed" in sea.fails(1, "set", "sea", words), words
    name, value = real.live
    assert "read back from the console" in sea.ok("set", "sea", f"{name}={value}", "--now")
    line, answer = real.live_asked
    assert answer in sea.ok("send", "sea", line)
    sea.ok("restart", "sea")  # what was set live goes into the file at the stop, and lasts
    assert answer in sea.ok("send", "sea", line)


@EACH
def test_what_goes_wrong_is_refused_or_undone(sea: SiteUnderTest, real: RealServer) -> None:
    before = files_of(sea)
    with socket.socket() as other, socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as too:
        taken = free_port()
        other.bind(("127.0.0.1", taken))
        other.listen()
        too.bind(("127.0.0.1", taken))
        sea.ok("set", "sea", f"{real.port}={taken}")
        output = sea.fails(1, "apply", "sea", "--yes")
        assert f"Port {taken}" in output and "is taken by" in output
    sea.ok("discard", "sea")
    name, value = next(iter(real.five.items()))
    sea.ok("set", "sea", f"{name}={value}", real.bad_start)
    output = sea.fails(3, "apply", "sea", "--yes")
    assert "rewound: Not proven" in output and "sea is up with them" in output, output
    assert files_of(sea) == before
    sea.ok("discard", "sea")
    sea.ok("set", "sea", f"{name}={value}")
    sea.ok("apply", "sea", "--yes")
    number = sea.ok("rounds").splitlines()[1].split()[0]
    sea.ok("rounds", "rewind", number, "--yes")
    assert files_of(sea) == before


@EACH
def test_a_crash_and_a_killed_keeper_cost_no_server(sea: SiteUnderTest, real: RealServer) -> None:
    first = sea.server_process("sea")
    assert first is not None
    os.kill(first, signal.SIGKILL)
    wait_for(lambda: sea.server_process("sea") not in (None, first))
    wait_for(lambda: " up " in sea.ok("status"))
    second = sea.server_process("sea")
    keeper = sea.kill_keeper("sea")
    wait_for(lambda: sea.keeper_process("sea") not in (None, keeper))
    assert sea.server_process("sea") == second
    name, value = real.live
    assert "read back from the console" in sea.ok("set", "sea", f"{name}={value}", "--now")
    sea.ok("stop", "sea")
    assert sea.server_process("sea") is None


@EACH
def test_bad_files_on_disk_keep_a_running_server_up_and_a_late_stop_brings_it_back(
    sea: SiteUnderTest, real: RealServer
) -> None:
    first = sea.server_process("sea")
    assert first is not None
    name, right, wrong = real.bad_line
    file = sea.folder / "sea" / name
    text = file.read_text()
    assert right in text
    file.write_text(text.replace(right, wrong))
    assert "There are errors on disk, so nothing was done" in sea.fails(1, "restart", "sea")
    assert sea.server_process("sea") == first
    file.write_text(text)
    table = sea.folder / "roundgate.toml"
    table.write_text(table.read_text() + 'grace = "1s"\n')
    os.kill(first, signal.SIGSTOP)  # it hears nothing of what it is told
    output = sea.fails(1, "restart", "sea")
    assert "does not stop within 1s" in output, output
    os.kill(first, signal.SIGCONT)
    wait_for(lambda: sea.server_process("sea") not in (None, first))
    wait_for(lambda: " up " in sea.ok("status"))
    sea.ok("stop", "sea")


def test_no_test_of_them_reaches_another_network(own_network: bool) -> None:
    if not own_network:
        pytest.skip("only root can have a network of its own")
    routes = Path("/proc/thread-self/net/route").read_text().splitlines()[1:]
    assert routes == []
