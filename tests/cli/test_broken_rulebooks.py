"""A rulebook of the person's own with a mistake in it: every command goes on without it, or names its place."""

from __future__ import annotations

import pytest

from conftest import SiteUnderTest

COMMANDS = (
    "show regatta",
    "explain regatta race.slots",
    "explain regatta world.save",
    "set regatta race.slots=20",
    "set regatta world.save=high-tide",
    "add regatta bans GW-7K3M-Q2XD --until 7d",
    "slate regatta",
    "reset regatta race.slots",
    "compare regatta harbour",
    "status",
    "people seen",
    "roster",
)
BROKEN_PATTERNS = ("(", r"\p{Lu}+", "(?<name>a)", "a{9}{9}{", "[z-a]")
"""The second and the third are none for the module ``re``, and some for ``regex``."""


def mistaken(table: str, line: str) -> str:
    return f'[rulebook]\nname = "quay"\nlayers = ["gullwind"]\n\n[{table}]\n{line}\n'


MISTAKES = [
    mistaken('setting."race.slots"', line)
    for line in ("default = 99", 'default = "many"', "range = [50, 60]", 'type = "bool"')
]
PLACES = [("server", "process"), ("server", "joined"), ('setting."world.save"', "pattern"), ("kind.sailor", "pattern")]
MISTAKES += [
    mistaken(table, f"{key} = '{pattern}'")
    for number, (table, key) in enumerate(PLACES)
    for pattern in (BROKEN_PATTERNS[0], BROKEN_PATTERNS[1 + number])
]


@pytest.fixture
def quay(site: SiteUnderTest) -> SiteUnderTest:
    for name in ("regatta", "harbour"):
        home = site.add(name)
        (home / "logs").mkdir()
        (home / "logs" / "latest.log").write_text("[2026-11-20 19:00:00] sailor Wren (GW-7K3M-Q2XD) came aboard\n")
    file = site.folder / "roundgate.toml"
    file.write_text(file.read_text().replace('rulebook = "gullwind"', 'rulebook = "quay"', 1))
    (site.folder / "rulebooks").mkdir()
    return site


@pytest.mark.parametrize("text", MISTAKES)
def test_no_mistake_in_a_rulebook_is_a_mistake_of_ours(quay: SiteUnderTest, text: str) -> None:
    (quay.folder / "rulebooks" / "quay.toml").write_text(text)
    for command in COMMANDS:
        done = quay.run(*command.split())
        output = done.stdout + done.stderr
        assert "unexpected" not in output and "Traceback" not in output, f"{command}\n{output}"
    assert "quay.toml:" in quay.fails(1, "rulebook", "check", "quay")
    assert "quay.toml:" in quay.fails(1, "check", "regatta"), "a check tells of the rulebook too"
    assert "nothing wrong" in quay.ok("check", "harbour"), "the bundled one is right"


def test_a_server_whose_rulebook_broke_while_it_runs_can_be_stopped(quay: SiteUnderTest) -> None:
    book = quay.folder / "rulebooks" / "quay.toml"
    for pattern in BROKEN_PATTERNS[:2]:
        book.write_text('[rulebook]\nname = "quay"\nlayers = ["gullwind"]\n')
        quay.ok("start", "regatta")
        book.write_text(mistaken("server", f"process = '{pattern}'"))
        assert "quay.toml:6:1: The pattern is wrong" in quay.fails(1, "restart", "regatta")
        assert "regatta is down" in quay.ok("stop", "regatta")
        assert "quay.toml:6:1: The pattern is wrong" in quay.fails(1, "start", "regatta")


LOOKS = (
    "fit",
    "fit ports --for harbour",
    "roster",
    "people show Wren",
    "people seen",
    "slate",
    "ranks tree @all",
)


@pytest.mark.parametrize("what", ["folder", "rulebook"])
def test_a_server_that_cannot_be_read_hides_no_other(quay: SiteUnderTest, what: str) -> None:
    with (quay.folder / "roundgate.toml").open("a") as file:
        file.write('[cluster.fleet]\nservers = ["@all"]\nshares = ["race.slots"]\n')
    (quay.folder / "people.toml").write_text('[person.wren]\nname = "Wren"\nids = { sailor = ["GW-7K3M-Q2XD"] }\n')
    book = quay.folder / "rulebooks" / "quay.toml"
    book.write_text('[rulebook]\nname = "quay"\nlayers = ["gullwind"]\n')
    for command in LOOKS:
        assert "left out" not in quay.run(*command.split()).stderr
    if what == "folder":
        (quay.folder / "regatta").rename(quay.folder / "elsewhere")
    else:
        book.write_text('[rulebook]\nname = "quay')
    for command in LOOKS:
        done = quay.run(*command.split())
        assert done.returncode in (0, 1), f"{command}\n{done.stderr}"
        assert done.stderr.count("warning  regatta is left out: ") == 1, f"{command}\n{done.stderr}"
        assert "error" not in done.stderr, f"{command}\n{done.stderr}"
    assert "harbour: nothing wrong" in quay.ok("check", "harbour")
    output = quay.fails(1, "check", "@all")
    assert "1 error." in output and "regatta" in output
    assert "is not there" in quay.fails(1, "slate", "regatta") or what == "rulebook"
