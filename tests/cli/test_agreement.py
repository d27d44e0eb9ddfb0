"""What Round Gate says of the rosters is what the server thinks: both are asked after rounds of random changes."""

from __future__ import annotations

import json
import random
import re
import shutil
from pathlib import Path

import pytest

import roundgate
from conftest import SiteUnderTest
from roundgate.demo.logs import sailors

DEMO = Path(roundgate.__file__).parent / "demo" / "site" / "regatta"
FILES = ("officers.json", "ranks.yml", "guestlist.txt", "banned.txt", "startup.cfg", "helms.yml")
SAILORS = list(sailors())[:7]
WORDS = {"officer": "officers", "guest": "guests", "warden": "wardens", "grant": "grants", "helm": "helms"}
RANKS = {
    "officers": ("deckhand", "coxswain", "marshal"),
    "grants": ("1", "4", "9"),
    "helms": ("first", "second", "learner"),
}


@pytest.fixture
def quay(site: SiteUnderTest) -> SiteUnderTest:
    """A server with all of the demo's rosters."""
    core = "wardens=GW-7K3M-Q2XD,GW-2H9V-L6RB\nguests.only=true\n"
    home = site.add("regatta", core, extra='watch = "0.1s"')
    for name in FILES:
        shutil.copy(DEMO / name, home)
    site.ok("start")
    return site


def ours(site: SiteUnderTest) -> dict[str, set[str]]:
    """Return by sailor what Round Gate says that they are."""
    found = {person["id"]: set(person["rosters"]["regatta"]) for person in json.loads(site.ok("roster", "--json"))}
    return {sailor: found.get(sailor, set()) for sailor in SAILORS}


def theirs(site: SiteUnderTest) -> dict[str, set[str]]:
    """Return by sailor what the server says that they are, in the words of the rosters."""
    found: dict[str, set[str]] = {}
    for sailor in SAILORS:
        (output,) = re.findall(rf"{sailor} is (.*)", site.ok("send", "regatta", f"who {sailor}"))
        found[sailor] = set()
        for part in output.split(", "):
            word, _, rank = part.partition(" ")
            if word == "banned":
                found[sailor].add(f"bans {rank}".strip())
            elif word != "nobody":
                found[sailor].add(WORDS[word] + (f":{rank}" if rank else ""))
    return found


def change(site: SiteUnderTest, dice: random.Random) -> None:
    """Put a random change of a roster on the slate."""
    there = ours(site)
    roster = dice.choice([*WORDS.values(), "bans"])
    sailor = dice.choice(SAILORS)
    on = next((one for one in there[sailor] if one.partition(":")[0] == roster), "")
    ranks = RANKS.get(roster)
    waiting = site.ok("slate", "regatta")
    if f"{roster}/{sailor}" in waiting:
        return
    if on and ranks and dice.random() < 0.5:
        field = {"officers": "rank", "grants": "level", "helms": "seat"}[roster]
        site.ok("set", "regatta", f"{roster}/{sailor}.{field}={dice.choice(ranks)}")
    elif on:
        site.ok("remove", "regatta", f"{roster}/{sailor}", "--force")
    else:
        rank = ("--as", dice.choice(ranks)) if ranks else ()
        until = ("--until", "30d") if roster == "bans" and dice.random() < 0.5 else ()
        site.ok("add", "regatta", roster, sailor, *rank, *until)


@pytest.mark.parametrize("seed", range(2))
def test_after_random_changes_the_server_thinks_what_is_said_of_it(quay: SiteUnderTest, seed: int) -> None:
    dice = random.Random(seed)
    assert ours(quay) == theirs(quay)
    for _ in range(2):
        for _ in range(8):
            change(quay, dice)
        quay.ok("apply", "regatta", "--yes", "--force")
        assert ours(quay) == theirs(quay)


def test_what_the_server_ignores_without_a_word_or_stops_at_is_an_error_before(quay: SiteUnderTest) -> None:
    guests, bans = (quay.folder / "regatta" / name for name in ("guestlist.txt", "banned.txt"))
    wrong = SAILORS[4].lower()
    quay.ok("stop")
    guests.write_text(f"{guests.read_text()}{wrong}\n")
    quay.ok("start")
    assert "guest" not in quay.ok("send", "regatta", f"who {SAILORS[4]}"), "the server ignores it without a word"
    assert f"'{wrong}' does not have the right form. Did you mean {SAILORS[4]}?" in quay.fails(1, "check", "regatta")
    quay.ok("rename", "regatta", f"guests/{wrong}", SAILORS[4])
    quay.ok("apply", "regatta", "--yes", "--force")
    assert "guest" in quay.ok("send", "regatta", f"who {SAILORS[4]}")
    quay.ok("stop")
    whole = bans.read_text()
    bans.write_text(whole.replace("since: 2026-05-03", "since: in May"))
    output = quay.fails(1, "check", "regatta")
    assert "banned.txt:4:8" in output and "'in May' does not have the form" in output
    assert "fatal: ban" in quay.run("start").stdout, "one malformed ban keeps the server down"
    bans.write_text(whole)
    quay.ok("start")
