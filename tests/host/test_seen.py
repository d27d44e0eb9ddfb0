"""Nothing is called proven, or in force, that was not seen."""

from __future__ import annotations

import json
import socket
import sys

from conftest import SiteUnderTest, free_port


def outcome(site: SiteUnderTest, number: int) -> str:
    [row] = [entry for entry in json.loads(site.ok("rounds", "--json")) if entry["round"] == number]
    return str(row["outcome"])


def test_what_an_old_world_was_made_with_is_said_when_going_back_to_it(regatta: SiteUnderTest) -> None:
    regatta.ok("start")
    regatta.ok("set", "world.save=second-tide", "tide.mode=custom")
    assert "proven" in regatta.ok("apply", "--yes")
    output = regatta.ok("set", "world.save=first-tide")
    reviewed = regatta.ok("slate")
    assert "the world first-tide was made with spring; custom in the file has no effect in it" in reviewed, output
    done = regatta.ok("apply", "--yes")
    assert "tide.mode is spring: the world first-tide was made with it; custom has no effect in it" in done
    shown = regatta.ok("show", "tide.mode")
    assert "needs a restart and a new world" in shown
    regatta.ok("set", "world.save=second-tide")
    assert "has no effect in it" not in regatta.ok("slate")


def test_a_round_whose_change_nobody_read_back_is_not_called_proven(regatta: SiteUnderTest) -> None:
    regatta.ok("start")
    regatta.ok("add", "courses", "Lantern Run")
    assert "cannot be read back" in regatta.ok("slate")
    done = regatta.ok("apply", "--yes")
    seen = "In force as far as can be seen: this server cannot be asked for courses."
    assert f"unread: regatta is up with the new files. {seen}" in done
    assert "in force" not in done.rpartition("Round")[2]
    assert outcome(regatta, 2) == "unread"
    regatta.ok("set", "race.slots=20")
    regatta.ok("add", "courses", "Long Reach")
    done = regatta.ok("apply", "--yes")
    assert f"proven: regatta is up. In force: race.slots. {seen}" in done


def test_a_server_without_a_rulebook_proves_only_that_it_is_up(site: SiteUnderTest) -> None:
    site.add("regatta", extra="")
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('rulebook = "gullwind"\n', ""))
    site.ok("start")
    site.ok("set", "gullwind.properties:boat.slots=20", "--new")
    assert "cannot be asked for gullwind.properties:boat.slots" in site.ok("apply", "--yes").lower()
    assert outcome(site, 2) == "unread"


def test_a_key_that_the_server_takes_out_is_missed_and_goes_on_being_missed(regatta: SiteUnderTest) -> None:
    regatta.ok("start")
    regatta.ok("set", "gullwind.properties:world.seed=4711", "--new")
    regatta.ok("apply", "--yes")
    core = regatta.folder / "regatta" / "gullwind.properties"
    assert "world.seed=4711" in core.read_text()
    regatta.ok("restart")  # the stand-in rewrites its file when it stops, without what it does not know
    core.write_text("".join(line for line in core.read_text().splitlines(True) if "world.seed" not in line))
    output = regatta.ok("restart")
    assert "gullwind.properties:world.seed, written by round 2, is no longer in its file" in output
    for _ in range(2):
        assert "written by round 2, and no longer in the file" in regatta.ok("show")


def test_what_the_console_was_told_by_hand_is_not_called_refused(regatta: SiteUnderTest) -> None:
    regatta.ok("start")
    regatta.ok("send", "value hull.damage 60")
    output = regatta.ok("show", "hull.damage", "--ask")
    assert "changed at its console since" in output


def test_a_port_on_another_address_of_the_machine_is_no_clash(site: SiteUnderTest) -> None:
    with socket.socket() as other:
        other.bind(("127.0.0.2", 0))
        other.listen()
        port = other.getsockname()[1]
        home = site.add("regatta")
        core = home / "gullwind.properties"
        lines = [line for line in core.read_text().splitlines() if "net.port" not in line]
        core.write_text("\n".join([*lines, f"net.port={port}", "net.address=127.0.0.1", ""]))
        assert "is up" in site.ok("start")


BEACON = """import socket, sys, threading
port = int(open("beacon.properties").read().split("=")[1])
udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
tcp = socket.create_server(("127.0.0.1", port))
udp.bind(("127.0.0.1", port))
def lights():
    while True:
        question, who = udp.recvfrom(99)
        udp.sendto(b"light on", who)
def talk():
    while True:
        link, _ = tcp.accept()
        link.sendall(b"%s\\n")
        link.close()
for work in (lights, talk):
    threading.Thread(target=work, daemon=True).start()
print("lit", flush=True)
for line in sys.stdin:
    if line.strip() == "stop":
        break
"""
BEACON_BOOK = """
[rulebook]
name = "beacon"
title = "A light that answers on two protocols"

[file.core]
path = "beacon.properties"
format = "properties"
about = "Its port."

[setting."port"]
file = "core"
key = "port"
type = "port"
default = 4000
about = "Where it answers, by UDP and by TCP."

[server]
ready = '^lit'
stop = "stop"

[[server.port]]
setting = "port"
protocol = "udp"
probe = { send = "?", match = '^light on' }

[[server.port]]
setting = "port"
protocol = "tcp"
probe = { send = "?", match = '^beacon' }
"""


def add_beacon(site: SiteUnderTest, answer: str) -> None:
    """Add a server that has one port number for two protocols; ``answer`` is what it says by TCP."""
    home = site.folder / "beacon"
    home.mkdir()
    (home / "beacon.properties").write_text(f"port={free_port()}")
    (home / "beacon.py").write_text(BEACON % answer)
    (site.folder / "rulebooks").mkdir()
    (site.folder / "rulebooks" / "beacon.toml").write_text(BEACON_BOOK)
    with (site.folder / "roundgate.toml").open("a") as file:
        start = json.dumps([sys.executable, "beacon.py"])
        file.write(f'\n[server.beacon]\nfolder = "beacon"\nrulebook = "beacon"\nstart = {start}\nwatch = "2s"\n')


def test_two_ports_of_one_setting_are_each_asked_by_their_own_protocol(site: SiteUnderTest) -> None:
    add_beacon(site, "beacon 1.0")
    site.ok("start", "beacon")
    facts = site.ok("rounds", "show", "1")
    assert "(udp) on any address and answers there by udp" in facts
    assert "(tcp) on any address and answers there by tcp" in facts


def test_a_probe_that_does_not_fit_is_told_with_what_was_seen(site: SiteUnderTest) -> None:
    add_beacon(site, "light on")  # what the probe for UDP wants, and not the one for TCP
    output = site.fails(1, "start", "beacon")
    assert "beacon runs, and is not proven" in output
    assert "(tcp), and the rulebook's probe got another answer: 'light on'" in output
