"""A packaged daemon that is not a game: its rulebook is drafted, corrected, and used in a round.

It runs on loopback alone, on a free port, for seconds; it links to no other server.
"""

from __future__ import annotations

import re
import shutil
import socket
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import SiteUnderTest, free_port

PROGRAM = shutil.which("ngircd") or shutil.which("ngircd", path="/usr/sbin")
SHIPPED = Path("/etc/ngircd/ngircd.conf")
pytestmark = pytest.mark.skipif(PROGRAM is None or not SHIPPED.is_file(), reason="the package ngircd is not installed")
SHOWN = "shown = 'Now listening on \\[[^\\]]+\\]:(?P<value>\\d+)'\n"
CORRECTIONS = """
ready = 'Server ".+" \\(on ".+"\\) ready'
failures = ['(?i)^\\[\\d+:[0-3] .*(?:error|fail|invalid)']

[[server.port]]
setting = "global.port"
address = "global.listen"
protocol = "tcp"
probe = { send = "NICK tern\\r\\nUSER tern 0 * :Tern\\r\\n", match = '\\S+' }
"""


@pytest.fixture
def quay(site: SiteUnderTest) -> Iterator[SiteUnderTest]:
    """A site with the daemon's own configuration in a folder, adopted and not described by any rulebook."""
    home = site.folder / "quay"
    home.mkdir()
    text = SHIPPED.read_text().replace("\tPidFile =", "\t;PidFile =")  # it has given up its rights by then
    (home / "ngircd.conf").write_text(text)
    (home / "start.sh").write_text(f'#!/bin/sh\nexec {PROGRAM} --nodaemon --config "$PWD/ngircd.conf"\n')
    (home / "start.sh").chmod(0o755)
    site.ok("adopt", "quay")
    site.names.append("quay")
    path = site.folder / "roundgate.toml"
    path.write_text(path.read_text() + 'watch = "0.3s"\n')
    yield site


def greeting(port: int) -> str:
    """Return the first line that the daemon says to somebody who comes in."""
    with socket.create_connection(("127.0.0.1", port), timeout=10) as link:
        link.sendall(b"NICK tern\r\nUSER tern 0 * :Tern\r\n")
        link.settimeout(10)
        return link.makefile("rb").readline().decode("utf-8", "replace")


def test_from_its_shipped_files_to_a_proven_round(quay: SiteUnderTest) -> None:
    output = quay.ok("rulebook", "draft", "quay")
    numbers = re.search(r"(\d+) settings \((\d+)%\) follow", output)
    assert numbers and int(numbers[1]) >= 60 and int(numbers[2]) >= 80, output
    book = quay.folder / "rulebooks" / "quay.toml"
    drafted = book.read_text()
    # what a person corrects: one port and one address of the two lists, and what the daemon's log says
    corrected = drafted.replace('[setting."global.ports"]', '[setting."global.port"]')
    for name, kind in (("global.port", "port"), ("global.listen", "address")):
        head, _, rest = corrected.partition(f'[setting."{name}"]')
        table, _, after = rest.partition("\n\n")
        table = re.sub(r"\n(?:unique|default|separator) = .*|\n# UNSURE.*", "", table)
        table = re.sub(r'\ntype = ".*"', f'\ntype = "{kind}"', table)
        shown = SHOWN if kind == "port" else ""
        corrected = f'{head}[setting."{name}"]{table}\n{shown}\n{after}'
    book.write_text(
        corrected.replace("[server]", f"[server]{CORRECTIONS}", 1) if "[server]" in corrected else corrected
    )
    path = quay.folder / "roundgate.toml"
    path.write_text(path.read_text() + 'rulebook = "quay"\n')
    assert "nothing wrong" in quay.ok("rulebook", "check", "quay")
    quay.ok("check", "quay")
    first, second = free_port(), free_port()
    quay.ok("set", "quay", f"global.port={first}", "global.listen=127.0.0.1", "global.name=quay.saltmarsh.example")
    done = quay.ok("apply", "quay", "--yes", "--start")
    assert f"global.port is {first}, says its start log" in done and "proven" in done
    assert "quay.saltmarsh.example" in greeting(first)
    quay.ok("set", "quay", f"global.port={second}", "limits.max-nick-length=12", "options.dns=no")
    assert f"global.port is {second}, says its start log" in quay.ok("apply", "quay", "--yes")
    assert "quay.saltmarsh.example" in greeting(second)
    kept = (quay.folder / "quay" / "ngircd.conf").read_bytes()
    shipped = SHIPPED.read_bytes()
    changed = [line for line in kept.splitlines() if line not in shipped.splitlines()]
    changed = [line for line in changed if b"PidFile" not in line]  # the fixture took that out
    assert sorted(line.split(b"=")[0].strip() for line in changed) == [
        b"DNS",
        b"Listen",
        b"MaxNickLength",
        b"Name",
        b"Ports",
    ], changed


def test_a_value_that_the_daemon_does_not_take_is_undone(quay: SiteUnderTest) -> None:
    quay.ok("rulebook", "draft", "quay")
    book = quay.folder / "rulebooks" / "quay.toml"
    ready = """[server]\nready = 'Server ".+" ready|\\(on ".+"\\) ready'\n"""
    book.write_text(book.read_text().replace("[server]\n", ready, 1))
    path = quay.folder / "roundgate.toml"
    path.write_text(path.read_text() + 'rulebook = "quay"\n')
    port = free_port()
    quay.ok("set", "quay", f"global.ports={port}", "global.listen=127.0.0.1")
    quay.ok("apply", "quay", "--yes", "--start")
    quay.ok("set", "quay", "global.name=quay")  # without a dot the daemon refuses to start
    output = quay.fails(3, "apply", "quay", "--yes")
    assert "The files are as they were" in output
    assert "irc.example.net" in greeting(port)
