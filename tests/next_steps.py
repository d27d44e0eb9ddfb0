"""Right calls, each with one mistake put into it by a seed: what the program proposes is compared with what was right.

The right call is kept apart. What is proposed must be that call, or a command that runs as it stands; where it leaves
something open, shell and program must refuse it. It must name a server, and must not touch another one.
"""

from __future__ import annotations

import random
import re
import shlex
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from conftest import SiteUnderTest
from roundgate.core.quoting import placeholder_in

SERVERS = ("regatta", "harbour", "nightwatch")
VALUES = ("10", "on", "off", "10m", "5G", "90%", "Gull", "0.5", "spring")
WRONG_VALUES = ("-5", "999999", "10 m", "1,5", "perhaps", "", "1e9", "+", "12345678901234567890")
ANSWERS = (("check",), ("compare",), ("ranks", "may"), ("ranks", "diff"), ("fit",), ("backup", "check"))
"""Commands whose exit code is an answer."""
WITHOUT_SERVER = ("people", "rulebook", "backup", "rounds", "notices", "fit", "status", "timetable", "roster")
"""Commands that mean all servers, or none, where none is named."""
CALLS = (
    "show {server} {setting}", "explain {server} {setting}", "reset {server} {setting}", "compare {server} defaults",
    "set {server} {setting}={value}", "set {server} {setting}={value} {setting}={value}",
    "add {server} courses 'Lantern Run'", "remove {server} courses 'The Narrows'",
    "move {server} courses 'The Narrows' --to 0", "add {server} officers Plover --as coxswain",
    "add {server} bans Knot --until 7d", "set {server} officers/Wren.rank=marshal",
    "set {server} berths/DECKHAND.pay=+10%", "add {server} berths BOWMAN --like DECKHAND name=Bowman take=skilled",
    "remove {server} officers/Skua", "rename {server} ranks/marshal warden", "arrange {server} officers --by name",
    "ranks why {server} Wren race.abort", "ranks who {server} race.abort", "ranks of {server} Tern",
    "ranks grant {server} marshal chat.mute", "ranks add {server} steward --above deckhand",
    "ranks join {server} marshal Wren", "ranks matrix {server} --differs", "ranks tree {server}",
    "people show Wren", "people want Wren {server} officers:marshal", "people seen {server} --since 2d",
    "roster show {server} guests", "preset use {server} gentle", "preset list {server}",
    "odds {server} flotsam/North", "curve {server} seamanship", "fit ports {server}", "check {server}",
    "set {server} officers.json:officers[0].rank=marshal", "switch {server} ranks.yml:ranks.coxswain.may --off",
    "rulebook show gullwind", "slate {server}", "rounds list {server}", "timetable show {server}",
)  # fmt: skip


class Verdict(NamedTuple):
    """One proposed command: the call that was typed, what it says, and what is wrong with that; empty where nothing."""

    typed: list[str]
    proposed: str
    wrong: str

    def __str__(self) -> str:
        return f"{self.wrong}: {shlex.join(self.typed)}\n    do: {self.proposed}"


def right_call(rng: random.Random, settings: Sequence[str]) -> list[str]:
    """Return one call, filled by chance; it may still be one that this server refuses."""
    words = shlex.split(rng.choice(CALLS))
    server = rng.choice(SERVERS[:2])

    def chosen(found: re.Match[str]) -> str:
        return {"server": server, "setting": rng.choice(settings), "value": rng.choice(VALUES)}[found[1]]

    return [re.sub(r"\{(\w+)\}", chosen, word) for word in words]


def with_mistake(call: Sequence[str], rng: random.Random) -> list[str]:
    """Return a call with one mistake: a slip in a word, a wrong value, or a word too few or too many."""
    typed = list(call)
    assigned = [at for at, word in enumerate(typed) if "=" in word]
    kind = rng.randrange(10)
    at = rng.randrange(len(typed))
    if kind == 0 and len(typed) > 2:
        del typed[rng.randrange(1, len(typed))]
    elif kind == 1:
        typed.insert(at, typed[at])
    elif kind < 5 and assigned:
        at = rng.choice(assigned)
        typed[at] = f"{typed[at].partition('=')[0]}={rng.choice(WRONG_VALUES)}"
    else:
        typed[at] = slip(typed[at], rng)
    return typed


def slip(word: str, rng: random.Random) -> str:
    """Return a word as a finger slips on it."""
    if len(word) < 3:
        return f"{word}x"
    at = rng.randrange(len(word) - 1)
    return rng.choice(
        (
            word[:at] + word[at + 1 :],
            word[:at] + word[at + 1] + word[at] + word[at + 2 :],
            word[: at + 1] + word[at:],
            word.upper(),
            word[:at] + rng.choice("abcdefghijklmnopqrstuvwxyz") + word[at + 1 :],
        )
    )


def verdicts(site: SiteUnderTest, settings: Sequence[str], rng: random.Random, many: int) -> Iterator[Verdict]:
    """Type so many wrong calls, follow each proposal, and yield a verdict on it. The slates are empty after it."""
    seen: set[tuple[str, ...]] = set()
    while len(seen) < many:
        call = right_call(rng, settings)
        typed = with_mistake(call, rng)
        if tuple(typed) in seen:
            continue
        is_right = site.run(*call).returncode == 0
        site.run("discard", "@all")
        if not is_right:
            continue
        seen.add(tuple(typed))
        before = contents(site)
        done = site.run(*typed)
        output = done.stdout + done.stderr
        assert "Traceback" not in output and "unexpected happened" not in output, f"{typed}: {output}"
        site.run("discard", "@all")
        for line in dict.fromkeys(re.findall(r"^ +do: (.*)$", output, re.M)) if done.returncode else ():
            proposed = line.partition("   (check --fix")[0]
            yield Verdict(typed, proposed, what_is_wrong(site, call, typed, proposed))
            site.run("discard", "@all")
        assert contents(site) == before, f"{typed} or what it proposes has changed a file"


def contents(site: SiteUnderTest) -> dict[Path, bytes]:
    """Return the files of all servers."""
    paths = [path for name in SERVERS for path in (site.folder / name).rglob("*")]
    return {path: path.read_bytes() for path in paths if path.is_file()}


def what_is_wrong(site: SiteUnderTest, call: list[str], typed: list[str], proposed: str) -> str:
    """Follow what was proposed for a call; return what is wrong with it, or an empty text."""
    words = shlex.split(proposed)[1:]
    if words == call:
        return ""
    done = site.run(*words)
    if placeholder_in(proposed):
        return "" if done.returncode == 2 else "what it leaves open is taken as it stands"
    if "--help" in words and done.returncode == 0:
        return ""
    if done.returncode > any(tuple(words[: len(answer)]) == answer for answer in ANSWERS):
        return f"it ends with {done.returncode}"
    named = [word for word in words if word in SERVERS or word[:1] == "@" or "," in word]
    if not named and words[0] not in WITHOUT_SERVER:
        return "it names no server"
    if set(named) - set(typed) - set(call):
        return "it names another server"
    slates = {name: site.run("slate", name).stdout for name in SERVERS if name not in call}
    others = [name for name, shown in slates.items() if "the slate is empty" not in shown]
    if others:
        return f"it changes {', '.join(others)}"
    changes = sum("=" in word for word in typed)
    if words[0] == typed[0] == "set" and sum("=" in word for word in words) < changes:
        return "it leaves out a part of the call"
    if "*" in proposed and not any("*" in word for word in typed):
        return "it has a * in it"
    return ""
