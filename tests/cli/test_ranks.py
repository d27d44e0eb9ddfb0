"""Ranks: who may do what, why, and what a slate alters; compared with what the server itself says."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path

import pytest

import roundgate
from conftest import SiteUnderTest

DEMO = Path(roundgate.__file__).parent / "demo" / "site" / "regatta"
WREN, TERN, SKUA, KNOT = "GW-7K3M-Q2XD", "GW-8P2C-W4TN", "GW-2H9V-L6RB", "GW-4Z8Q-R7HB"


@pytest.fixture
def quay(site: SiteUnderTest) -> SiteUnderTest:
    """A server, down, with the demo's ranks and officers."""
    home = site.add("regatta")
    for name in ("ranks.yml", "officers.json"):
        shutil.copy(DEMO / name, home)
    return site


def test_who_may_and_why_with_the_place_of_each_entry(quay: SiteUnderTest) -> None:
    output = quay.ok("ranks", "who", "race.abort")
    assert re.search(rf"Tern +{TERN} +marshal grants race\.\* \(ranks\.yml:14\)", output), output
    assert "newcomers" not in output
    assert quay.ok("ranks", "may", "Tern", "race.abort") == "regatta  Tern may race.abort\n"
    assert "Tern may NOT race.delete" in quay.fails(1, "ranks", "may", "tern", "race.delete")
    assert "newcomers may sail.start" in quay.ok("ranks", "may", "newcomers", "sail.start")
    why = quay.ok("ranks", "why", "Tern", "race.delete")
    assert "may NOT race.delete: marshal denies race.delete (ranks.yml:15)" in why
    assert "else     may: marshal grants race.* (ranks.yml:14)" in why and "else     may NOT: no entry" in why
    assert "deckhand grants sail.start (ranks.yml:5), by way of marshal > coxswain > deckhand" in quay.ok(
        "ranks", "why", "Tern", "sail.start"
    )
    assert "Wren may race.delete" in quay.ok("ranks", "may", "Wren", "race.delete"), "the harbourmaster's own is nearer"
    assert f"by {'harbourmaster'}: race.*, race.abort, race.delete" in quay.ok("ranks", "of", WREN)
    assert [person["name"] for person in json.loads(quay.ok("ranks", "who", "rank.give", "--json"))] == ["Wren"]


def test_the_ranks_as_a_tree_and_as_a_matrix(quay: SiteUnderTest) -> None:
    tree = quay.ok("ranks", "tree")
    assert "  deckhand  (newcomers)  sail.start, sail.stop" in tree
    assert "      marshal  (2 in it)  race.*, never race.delete" in tree
    (found,) = json.loads(quay.ok("ranks", "matrix", "--json"))
    assert found["columns"] == ["deckhand", "coxswain", "marshal", "harbourmaster"]
    assert found["rows"]["race.delete"] == ["-", "-", "no", "yes *"]
    assert found["rows"]["sail.start"] == ["yes", "from above", "from above", "from above"]
    assert "sail.start" not in quay.ok("ranks", "matrix", "--differs")
    rows = quay.ok("ranks", "matrix", "--people", "--csv").splitlines()
    assert rows[0] == "server,permission,Wren,Tern,Skua,newcomers"
    assert "regatta,race.abort,yes *,yes *,yes *,-" in rows


def test_one_of_several_kinds_of_ranks_is_named_with_the_server(quay: SiteUnderTest) -> None:
    book = Path(roundgate.__file__).parent / "rulebooks" / "gullwind.toml"
    (quay.folder / "rulebooks").mkdir()
    always = book.read_text().replace("when = \"ranks.kept == 'signals'\"\n", "")
    (quay.folder / "rulebooks" / "gullwind.toml").write_text(always)
    for name in ("signals.ini", "signalcrew.txt"):
        shutil.copy(DEMO.parent / "harbour" / name, quay.folder / "regatta")
    output = quay.fails(2, "ranks", "grant", "regatta", "marshal", "chat.mute")
    assert "regatta@deck, regatta@signals" in output
    assert "do: roundgate ranks grant regatta@<name> marshal chat.mute" in output
    assert "chat.mute" in quay.ok("ranks", "grant", "regatta@deck", "marshal", "chat.mute")
    quay.ok("ranks", "grant", "regatta@signals", "guest", "chat.mute")
    assert "signals.ini" in quay.ok("slate")
    assert "[race.abort]" not in quay.ok("ranks", "tree", "regatta@signals")
    assert "harbourmaster" in quay.ok("ranks", "tree", "regatta@signals")
    assert "do: roundgate ranks tree regatta@deck" in quay.fails(2, "ranks", "tree", "regatta@dekc")


def test_what_the_slate_alters_is_said_by_people_and_permission(quay: SiteUnderTest) -> None:
    assert "changes nothing" in quay.ok("ranks", "impact")
    quay.ok("set", "regatta", "officers/Skua.rank=coxswain")
    output = quay.ok("ranks", "impact")
    assert output.splitlines() == ["regatta  Skua loses race.*."]
    assert "Skua loses race.*." in quay.ok("slate", "regatta")
    quay.ok("add", "regatta", "ranks.yml:ranks.deckhand.may", "chat.mute")
    output = quay.ok("ranks", "impact")
    assert "Skua, Tern, Wren and all newcomers gain chat.mute." in output and "Skua loses race.*." in output
    quay.ok("discard", "regatta")
    quay.ok("add", "regatta", "officers", KNOT, "name=Knot", "--as", "marshal")
    output = quay.ok("slate", "regatta")
    assert "Knot gains crew.call, crew.swap, race.*." in output


@pytest.mark.parametrize(
    ("words", "expected"),
    [
        (("dance",), "'ranks dance' is not a command. One of: tree, who"),
        (("grnat", "marshal", "race.abort"), "Did you mean 'ranks grant'?"),
        (("regatta", "why"), "'why' is too much. It takes: ranks tree [SERVER]"),
        (("who",), "Missing argument"),
        (("who", "race.abrt"), "has no permission 'race.abrt'"),
        (("may", "Nobody", "race.abort"), "no rank called 'Nobody'"),
        (("why", "Skuah", "race.abort"), "Did you mean Skua?"),
        (("tree", "regata"), "regata"),
        (("grant", "marshal", "race.abrot"), "Did you mean race.abort?"),
        (("grant", "marshall", "race.abort"), "Did you mean marshal?"),
        (("join", "marshall", "Wren"), "Did you mean marshal?"),
        (("withdraw", "marshal", "race.start"), "has no entry 'race.start' of its own"),
        (("leave", "coxswain", "Tern"), "Tern is not in coxswain"),
        (("add", "marshal"), "There is a rank marshal already"),
        (("add", "steward", "--above", "deckhnad"), "Did you mean deckhand?"),
        (("add", "steward", "coulour=#112233"), "Did you mean colour?"),
        (("grant", "marshal", "race.abort", "--above", "deckhand"), "No such option: --above"),
        (("tree", "regatta@nowhere"), "no ranks 'nowhere'"),
    ],
)
def test_wrong_questions_are_one_message(quay: SiteUnderTest, words: tuple[str, ...], expected: str) -> None:
    assert expected in quay.fails(2, "ranks", *words)


def test_the_running_server_says_the_same(quay: SiteUnderTest) -> None:
    quay.ok("start")
    for sailor in (WREN, TERN, KNOT):
        for permission in ("race.abort", "race.delete", "sail.start", "rank.give"):
            code = quay.run("ranks", "may", sailor, permission).returncode
            output = quay.ok("send", "regatta", f"may {sailor} {permission}")
            assert (f"{sailor} may {permission}" in output) == (code == 0), (sailor, permission, output)


@pytest.mark.parametrize(
    ("old", "new", "code", "words"),
    [
        ("  deckhand:\n", "  deckhand:\n    also: [marshal]\n", "rank-circle", "have each other's permissions"),
        ("newcomers: deckhand", "newcomers: deckhnad", "rank-newcomers", "Did you mean deckhand?"),
        ("newcomers: deckhand\n", "", "rank-newcomers", "No rank is that of newcomers"),
        ("crew.swap", "crew.swop", "rank-permission", "Did you mean crew.swap?"),
        ("      - crew.swap\n", "      - crew.swap\n      - sail.start\n", "rank-idle", "coxswain grants sail.start"),
        ("never: [race.delete]", "never: [race.delete, rank.give]", "rank-idle", "nothing grants it to them"),
    ],
)
def test_what_is_wrong_with_ranks_is_found(quay: SiteUnderTest, old: str, new: str, code: str, words: str) -> None:
    path = quay.folder / "regatta" / "ranks.yml"
    assert "rank-" not in quay.run("check", "regatta").stdout
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new, 1))
    output = quay.run("check", "regatta").stdout
    assert code in output and words in output, output
    assert "unexpected" not in quay.run("ranks", "matrix").stderr
