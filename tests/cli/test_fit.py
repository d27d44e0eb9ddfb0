"""``fit``: what the servers of a machine are promised, with what waits on their slates."""

from __future__ import annotations

import json
import os
import re
import shutil
import socket
from typing import Any

import pytest

from conftest import SiteUnderTest, free_port

LAUNCH = "#!/bin/sh\nexec gullwind-server --may-take {memory} --hold {memory}{more}\n"


@pytest.fixture
def fleet(site: SiteUnderTest) -> SiteUnderTest:
    """Two servers with ports of their own, each granted 1 GB."""
    for name in ("harbour", "regatta"):
        home = site.add(name, f"net.port={free_port()}\nnet.address=127.0.0.1\n")
        (home / "launch.sh").write_text(LAUNCH.format(memory=1024, more=""))
        (home / "launch.sh").chmod(0o755)
    return site


def port_of(site: SiteUnderTest, name: str) -> int:
    return int(site.value(name, "net.port") or 0)


def test_what_fits_and_what_clashes(fleet: SiteUnderTest) -> None:
    output = fleet.ok("fit")
    assert f"{port_of(fleet, 'harbour')}" in output and "2.0 GB promised of" in output and "node 0" in output
    fleet.ok("set", "regatta", f"net.port={port_of(fleet, 'harbour')}")
    output = fleet.fails(1, "fit", "ports")
    assert (
        "regatta has it too (net.port)" in output
        and "harbour has it too (net.port)" in output
        and "memory" not in output
    )
    found = json.loads(fleet.run("fit", "--json").stdout)
    assert not found["fits"] and [port["clashes-with"] for port in found["ports"]] == [["regatta"], ["harbour"]]
    assert fleet.ok("fit", "ports", "harbour"), "one by itself has no clash"


def test_the_next_free_block_of_ports(fleet: SiteUnderTest) -> None:
    harbour = port_of(fleet, "harbour")
    fleet.ok("set", "regatta", f"net.port={harbour}")
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        open_port = taken.getsockname()[1]
        block = json.loads(fleet.ok("fit", "ports", "--for", "regatta", "--from", str(harbour), "--json"))
        assert block["net.port"] > harbour or block["net.port"] != harbour
        other = json.loads(fleet.ok("fit", "ports", "--for", "regatta", "--from", str(open_port), "--json"))
        assert other["net.port"] != open_port, "somebody listens there now"
    fleet.ok("fit", "ports", "--for", "regatta", "--set")
    assert "net.port" in fleet.ok("slate", "regatta")
    fleet.ok("fit")


def test_what_somebody_else_holds_is_told(fleet: SiteUnderTest) -> None:
    with socket.socket() as taken:
        taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        taken.bind(("127.0.0.1", port_of(fleet, "harbour")))
        taken.listen()
        assert f"held now by process {os.getpid()}" in fleet.ok("fit", "ports")
    fleet.ok("start", "harbour")
    assert "held now" not in fleet.ok("fit", "ports"), "by the server itself, that is"


def test_more_memory_than_there_is(fleet: SiteUnderTest) -> None:
    megabytes = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE") // 2**20
    home = fleet.folder / "regatta"
    (home / "launch.sh").write_text(LAUNCH.format(memory=min(65536, megabytes - 100), more=""))
    output = fleet.fails(1, "fit", "memory")
    assert "too much" in output and "launch.memory" in output


def test_cores_are_shared_out_onto_the_slates(fleet: SiteUnderTest) -> None:
    cores = sorted(os.sched_getaffinity(0))
    home = fleet.folder / "regatta"
    (home / "launch.sh").write_text(LAUNCH.format(memory=1024, more=f" --cores 0x{1 << 63:x}"))
    output = fleet.fails(1, "fit", "cores")
    assert "the machine has no core 63" in output
    (home / "launch.sh").write_text(LAUNCH.format(memory=1024, more=""))
    assert "need" in fleet.fails(1, "fit", "cores", "@all", "--give", str(len(cores)))
    if len(cores) < 2:
        pytest.skip("there is one core only")
    fleet.ok("fit", "cores", "@all", "--give", "1", "--image", "cores.png")
    assert (fleet.folder / "cores.png").read_bytes().startswith(b"\x89PNG")
    fleet.ok("apply", "harbour", "--yes")
    fleet.ok("apply", "regatta", "--yes")
    for name, core in zip(("harbour", "regatta"), cores, strict=False):
        assert f"--cores 0x{1 << core:x}" in (fleet.folder / name / "launch.sh").read_text()
    fleet.ok("set", "regatta", f"launch.cores={cores[0]}")
    output = fleet.fails(1, "fit", "cores")
    assert "shares cores with harbour" in output and "shares cores with regatta" in output
    assert "--spare belongs to --give" in fleet.fails(2, "fit", "cores", "--spare", "1")


# --- clusters ---

CLUSTER = '\n[cluster.fair]\nservers = ["@quick", "nightwatch"]\nshares = ["race.laps", "courses", "server.motto"]\n'


@pytest.fixture
def cluster(site: SiteUnderTest) -> SiteUnderTest:
    for name, laps in (("harbour", 3), ("regatta", 3), ("nightwatch", 5)):
        tags = "" if name == "nightwatch" else 'tags = ["quick"]'
        site.add(name, f"laps.count={laps}\n", extra=tags)
    site.add("lone", "laps.count=9\n")
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text() + CLUSTER)
    return site


def test_a_difference_in_a_cluster_is_found_with_the_command_that_mends_it(cluster: SiteUnderTest) -> None:
    found = json.loads(cluster.run("check", "@all", "--json").stdout)["findings"]
    (one,) = [finding for finding in found if finding["code"] == "cluster-differs"]
    assert one["server"] == "nightwatch" and one["do"] == "roundgate set nightwatch race.laps=3"
    assert "race.laps is 5 here and 3 on harbour, regatta: the cluster fair shares it." in one["cause"]
    assert (one["file"], one["line"] > 0) == ("gullwind.properties", True)
    cluster.ok("set", "@fair", "race.laps=4")
    for name in ("harbour", "regatta", "nightwatch"):
        assert "-> 4" in cluster.ok("slate", name)
        cluster.ok("apply", name, "--yes")
    assert "the slate is empty" in cluster.ok("slate", "lone")
    assert "cluster-differs" not in cluster.run("check", "@fair").stdout
    (cluster.folder / "harbour" / "courses.txt").write_text("The Narrows\n")
    output = cluster.run("check", "@fair").stdout
    assert output.count("cluster-differs") == 1 and "courses is 1 entry, from The Narrows here" in output


def test_two_servers_of_a_cluster_that_disagree_are_both_told(cluster: SiteUnderTest) -> None:
    file = cluster.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('["@quick", "nightwatch"]', '["harbour", "nightwatch"]'))
    found = json.loads(cluster.run("check", "@fair", "--json").stdout)["findings"]
    told = {finding["server"]: finding["do"] for finding in found if finding["code"] == "cluster-differs"}
    assert set(told) == {"harbour", "nightwatch"}
    assert set(told.values()) == {"roundgate set @fair race.laps=<value>"}, "else the two would swap their values"


def test_a_server_in_two_clusters_that_disagree_is_told_once(cluster: SiteUnderTest) -> None:
    with (cluster.folder / "roundgate.toml").open("a") as file:
        file.write('[cluster.late]\nservers = ["nightwatch", "lone"]\nshares = ["race.laps"]\n')
    found = json.loads(cluster.run("check", "nightwatch", "--json").stdout)["findings"]
    [one] = [finding for finding in found if finding["code"] == "cluster-differs"]
    assert "race.laps is shared by clusters that have different values of it: fair has 3, late has 9." in one["cause"]
    assert one["hint"] == "Take race.laps out of one of these clusters in roundgate.toml, or nightwatch out of it."
    cluster.ok("set", "lone,nightwatch", "race.laps=3")
    cluster.ok("apply", "lone", "--yes")
    cluster.ok("apply", "nightwatch", "--yes")
    assert "cluster-differs" not in cluster.run("check", "@all").stdout


@pytest.mark.parametrize(
    ("old", "new", "expected"),
    [
        ('"nightwatch"]', '"nightwtch"]', "the cluster fair has no server 'nightwtch' to take in"),
        ("[cluster.fair]", "[cluster.quick]", "a cluster cannot be called 'quick'"),
        ("shares =", "share =", "share"),
    ],
)
def test_a_cluster_that_makes_no_sense_is_told(cluster: SiteUnderTest, old: str, new: str, expected: str) -> None:
    file = cluster.folder / "roundgate.toml"
    file.write_text(file.read_text().replace(old, new))
    assert expected in cluster.fails(1, "status")


def test_a_setting_that_the_rulebook_does_not_know_is_told(cluster: SiteUnderTest) -> None:
    file = cluster.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('"race.laps"', '"race.lapse"'))
    assert "shares race.lapse, and the rulebook of harbour does not know it" in cluster.run("check", "harbour").stdout


def test_a_whole_tag_is_compared_a_server_to_a_column(cluster: SiteUnderTest) -> None:
    rows = json.loads(cluster.run("compare", "@fair", "lone", "--json").stdout)
    assert rows["sides"] == ["harbour", "regatta", "nightwatch", "lone"]
    (laps,) = [row for row in rows["rows"] if row["name"] == "race.laps"]
    assert laps["values"] == ["3", "3", "5", "9"]


def shared(site: SiteUnderTest, *words: str) -> list[dict[str, Any]]:
    """Return what ``check`` finds of ports that two servers have."""
    found = json.loads(site.run("check", *words, "--json").stdout)
    return [finding for finding in found["findings"] if finding["code"] == "port-shared"]


def test_check_finds_a_port_that_two_servers_have_and_its_command_ends_that(fleet: SiteUnderTest) -> None:
    assert shared(fleet) == []
    taken = port_of(fleet, "harbour")
    fleet.ok("set", "regatta", f"net.port={taken}")
    first, second = shared(fleet)
    assert (first["server"], second["server"]) == ("harbour", "regatta"), "what waits on a slate counts"
    assert f"regatta has port {taken} (tcp) too" in first["cause"]
    assert first["file"] == "gullwind.properties" and first["line"] > 0
    fleet.ok(*second["do"].split()[1:])
    assert shared(fleet) == []


def test_what_clashes_is_told_when_it_is_set_and_in_the_review(fleet: SiteUnderTest) -> None:
    taken = port_of(fleet, "harbour")
    told = f"harbour has port {taken} (tcp) too"
    assert told in fleet.ok("set", "regatta", f"net.port={taken}")
    assert "port-shared" not in fleet.ok("set", "regatta", "race.slots=18"), "it is told once"
    assert "port-shared" not in fleet.ok("set", "regatta", "net.address=0.0.0.0"), "as before"
    fleet.ok("set", "regatta", "net.address=127.0.0.1")
    assert told in fleet.ok("slate", "regatta") and told in fleet.fails(1, "check", "regatta", "--slate", "--strict")
    (review,) = json.loads(fleet.ok("slate", "regatta", "--json"))
    assert [finding["code"] for finding in review["findings"]] == ["port-shared"]
    assert "port-shared" not in fleet.ok("set", "regatta", "net.address=127.0.0.2"), "it has the port to itself there"
    assert shared(fleet, "regatta", "--slate") == [] and told not in fleet.ok("slate", "regatta")
    assert told in fleet.ok("set", "regatta", "net.address=0.0.0.0"), "all addresses are that of the other too"
    assert "value-limit" not in fleet.ok("set", "regatta", f"launch.cores={min(os.sched_getaffinity(0))}")
    output = fleet.ok("set", "regatta", "launch.cores=0-63")
    if len(os.sched_getaffinity(0)) < 64:
        assert "value-limit" in output and "This machine has the cores" in fleet.ok("check", "regatta")


def test_one_server_is_told_of_ports_that_the_others_have_on_disk(fleet: SiteUnderTest) -> None:
    taken = port_of(fleet, "harbour")
    file = fleet.folder / "regatta" / "gullwind.properties"
    file.write_text(file.read_text().replace(f"net.port={port_of(fleet, 'regatta')}", f"net.port={taken}"))
    (found,) = shared(fleet, "regatta")
    assert f"harbour has port {taken} (tcp) too" in found["cause"] and found["server"] == "regatta"
    file.write_text(file.read_text().replace("net.address=127.0.0.1", "net.address=127.0.0.2"))
    assert shared(fleet) == [], "each has it on an address of its own"
    file.write_text(file.read_text().replace("net.address=127.0.0.2", "net.address=0.0.0.0"))
    assert len(shared(fleet)) == 2, "all addresses are those of the other too"
    (fleet.folder / "harbour" / "gullwind.properties").write_bytes(b"\xff\xfe\x00")
    assert shared(fleet, "regatta") == [], "a server whose files cannot be read is left out"
    shutil.rmtree(fleet.folder / "harbour")
    assert shared(fleet, "regatta") == [] and "is not there" in fleet.fails(1, "check", "harbour")


def test_many_servers_with_one_port_are_each_told_once(site: SiteUnderTest) -> None:
    port = free_port()
    for number in range(18):
        site.add(f"buoy{number}", f"net.address=127.0.0.1\n{'' if number else 'console.port=' + str(port)}\n")
        file = site.folder / f"buoy{number}" / "gullwind.properties"
        file.write_text(re.sub(r"net\.port=\d+", f"net.port={port}", file.read_text()))
    found = shared(site)
    assert [finding["server"] for finding in found] == [f"buoy{number}" for number in range(18)]
    assert "buoy0, buoy1, buoy2 and others have port" in found[-1]["cause"]
