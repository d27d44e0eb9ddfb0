"""What the program proposes after a wrong call: of what chance makes, 95 of 100 are right, and none changes another."""

from __future__ import annotations

import json
import random

from conftest import SiteUnderTest
from next_steps import verdicts
from roundgate.cli import demo
from roundgate.core.next_step import (
    LeftOut,
    Meant,
    corrected,
    mapped,
    step_of,
    typed_command,
    whole_call,
    written_command,
)
from sampling import sampled

SEEDS = [f"part {number}" for number in range(8)]
MANY = 60
SHARE = 0.95


def test_what_a_wrong_call_proposes_is_the_right_one(site: SiteUnderTest) -> None:
    demo._make_site(site.folder, 1)
    shown = json.loads(site.ok("show", "regatta", "--all", "--json"))
    settings = [row["name"] for row in (shown[0] if isinstance(shown, list) else shown)["settings"]]
    found = [verdict for seed in sampled(SEEDS, 8) for verdict in verdicts(site, settings, random.Random(seed), MANY)]
    wrong = [verdict for verdict in found if verdict.wrong]
    print(f"{len(found) - len(wrong)} of {len(found)} are right")
    assert len(found) > 40
    assert len(wrong) <= (1 - SHARE) * len(found), "\n".join(map(str, wrong))
    assert not [verdict for verdict in wrong if "changes" in verdict.wrong or "taken" in verdict.wrong], wrong


def test_a_corrected_call_is_the_whole_call() -> None:
    words = ["set", "regata", "race.slots=4", "regatta.x=4"]
    assert corrected(words, "regata", "regatta") == ["set", "regatta", "race.slots=4", "regatta.x=4"]
    assert corrected(["set", "a=4", "b=4"], "b=4", "b=5") == ["set", "a=4", "b=5"]
    assert corrected(["check", "cove,harbur"], "harbur", "harbour") == ["check", "cove,harbour"]
    assert corrected(["set", "harbour-2"], "harbour", "cove") == [] == corrected(["set", "set"], "x", "y")
    assert corrected(["add", "add", "x"], "add", "remove") == ["add", "remove", "x"], "never the command itself"


def test_a_proposed_setting_is_put_into_what_was_typed() -> None:
    names = {"slots": "race.slots"}
    typed = ["set", "@fair", "slots=40", "laps=3"]
    slots = typed_command("set", "harbour", "race.slots=32")
    call = whole_call(typed, slots, lambda word: names.get(word, word))
    assert str(call) == "roundgate set @fair race.slots=32 laps=3"
    rule = whole_call(["set", "race.heat=14"], typed_command("set", "regatta", "race.slots=14"), lambda word: word)
    assert str(rule) == "roundgate set regatta race.heat=14 race.slots=14", "both settings of a rule, in one call"
    assert whole_call(["check"], slots, str) == slots
    world = typed_command("set", "cove", "b=2", options=("--new-world", "bay-2"))
    with_option = whole_call(["set", "cove", "a=1", "b=1", "--now"], world, str)
    assert str(with_option) == "roundgate set cove a=1 b=2 --now --new-world bay-2"
    once = whole_call(["set", "cove", "b=1", "--new-world", "bay-2"], world, str)
    assert str(once) == "roundgate set cove b=2 --new-world bay-2"
    asked = whole_call(["set", "a=1"], typed_command("set", "regatta", "a=2", hint="the server's own"), str)
    assert str(asked) == "roundgate set regatta a=2 (the server's own)"
    assert whole_call(["set", "a=1"], "Correct the server's file.", str) == "Correct the server's file."


def test_a_step_is_a_command_or_a_hint() -> None:
    both = step_of(typed_command("stop", "regatta", hint="or try again"))
    assert both.lines() == ["hint: or try again", "do: roundgate stop regatta"]
    assert step_of("Write a colon.").lines() == ["hint: Write a colon."]
    assert step_of("").lines() == []
    assert step_of(Meant("text", "a", "b")).lines() == ["hint: text"]
    assert step_of(Meant(typed_command("log", "regatta"), "a", "b")).lines() == ["do: roundgate log regatta"]


def test_the_advice_of_a_rulebook_is_a_command_where_it_is_one() -> None:
    assert written_command("roundgate set {server} a=1", "cove") == typed_command("set", "cove", "a=1")
    assert written_command("roundgate ranks add {server} 'first mate'", "cove") == typed_command(
        "ranks add", "cove", "first mate"
    )
    assert written_command("roundgate status", "cove") == typed_command("status")
    assert written_command("Ask {server}'s owner.", "cove") == "Ask cove's owner."


def test_each_text_of_a_step_can_be_blanked_out() -> None:
    step = typed_command("set", "cove", "code=4711", options=("--kind", "4711"), hint="not 4711")
    shown = str(mapped(Meant(step, "4711", "code 4711"), lambda text: text.replace("4711", "...")))
    assert shown == "roundgate set cove code=... --kind ... (not ...)"
    assert mapped("4711", lambda text: text[::-1]) == "1174"
    left = mapped(LeftOut("Give 4711.", "4711", is_server=True), lambda text: text.replace("4711", "it"))
    assert left == LeftOut("Give it.", "it", is_server=True)
