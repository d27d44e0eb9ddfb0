"""Odds: exact against every outcome counted one by one, and against what comes out when one rolls many times."""

from __future__ import annotations

import json
import random
import re
from collections import Counter
from fractions import Fraction
from itertools import permutations, product
from math import sqrt
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import sampling
from gullwind_standin.flotsam import Flotsam
from roundgate.core.files import ServerFiles
from roundgate.core.loot import draws
from roundgate.core.loot.model import LootScheme
from roundgate.core.loot.odds import Endless, Reckoner, TooMany
from roundgate.core.loot.reading import loot_in, read_chance
from roundgate.core.loot.shape import circles_in, fruitful
from roundgate.core.loot.shifts import percent
from roundgate.core.rulebook.model import About, File, Loot, LootTable, RecordField, RecordSet, Rulebook
from roundgate.core.text import Text
from roundgate.host.rulebooks import load_rulebook

TEXT, LIST = RecordField(type="text"), RecordField(type="list", unique=False)
SWITCH, SHARE = RecordField(type="bool", default=False), RecordField(type="decimal", default=0)
FIELDS = {
    "count": RecordField(type="int", default=1),
    "positions": LIST,
    "out": SHARE,
    "sure": SWITCH,
    "take": RecordField(type="text", default="each"),
    "times": RecordField(type="text", default="1"),
    "has": LIST,
}
FORMS = ("{what}*{count}|{chance}", "{what}|{chance}", "{what}*{count}", "{what}")


def book(**more: Any) -> Rulebook:
    """Return a rulebook of crates and tables; ``more`` is said of both."""
    output = {"entries": ("has",), "entry": FORMS, "draw_by": "take", "draws": "times", "sure": "sure", **more}
    table = LootTable(prefix="@", nothing="-", **output)
    loot = Loot(records="crates", at_once="count", left_out="out", nothing="-", table={"tables": table}, **output)
    sets = {name: RecordSet(file="f", at=f"{name}.*", field=FIELDS) for name in ("crates", "tables")}
    return Rulebook(
        rulebook=About(name="quay"),
        file={"f": File(path="f.json", format="json")},
        records=sets,
        loot={"finds": loot},
    )


def scheme(content: dict[str, Any], rules: Rulebook | None = None) -> LootScheme:
    return loot_in(ServerFiles(rules or book(), {"f.json": Text(json.dumps(content))}), "finds")


# --- every outcome, one by one ---

Outcomes = dict[tuple[tuple[str, int], ...], Fraction]
"""What comes out, and with what chance."""


def joined(one: Outcomes, other: Outcomes) -> Outcomes:
    found: Outcomes = {}
    for (first, chance), (second, also) in product(one.items(), other.items()):
        sums = Counter(dict(first)) + Counter(dict(second))
        key = tuple(sorted(sums.items()))
        found[key] = found.get(key, Fraction(0)) + chance * also
    return found


def weighed(parts: list[tuple[Fraction, Outcomes]]) -> Outcomes:
    found: Outcomes = {}
    for weight, outcomes in parts:
        for key, chance in outcomes.items():
            found[key] = found.get(key, Fraction(0)) + weight * chance
    return found


NOTHING: Outcomes = {(): Fraction(1)}


def part(text: str) -> tuple[str, list[int], Fraction]:
    what, _, chance = text.partition("|")
    what, _, count = what.partition("*")
    least, _, most = (count or "1").partition("-")
    return what, list(range(int(least), int(most or least) + 1)), Fraction(chance or "1")


def outcomes_of(content: dict[str, Any], record: dict[str, Any], *, again: bool, of_record: bool) -> Outcomes:
    """Count every outcome of one opening, as slowly and plainly as can be."""
    out = Fraction(str(record.get("out", 0)))

    def entry(text: str) -> Outcomes:
        what, counts, _ = part(text)
        found: list[tuple[Fraction, Outcomes]] = []
        for count in counts:
            if what == "-":
                one = NOTHING
            elif what.startswith("@"):
                one = NOTHING
                for _ in range(count):
                    inner = content["tables"].get(what[1:], {})
                    one = joined(one, outcomes_of(content, inner, again=again, of_record=of_record))
            else:
                one = {((what, count),): Fraction(1)}
            found.append((Fraction(1, len(counts)), one))
        drawn = weighed(found)
        return drawn if of_record else weighed([(1 - out, drawn), (out, NOTHING)])

    has = record.get("has", [])
    if record.get("sure") or record.get("take", "each") == "each":
        found = NOTHING
        for text in has:
            chance = Fraction(1) if record.get("sure") else part(text)[2]
            found = joined(found, weighed([(chance, entry(text)), (1 - chance, NOTHING)]))
    else:
        least, _, most = str(record.get("times", "1")).partition("-") if record["take"] == "some" else ("1", "", "")
        numbers = range(int(least), int(most or least) + 1)
        weights = [part(text)[2] for text in has]
        total = sum(weights)
        ways: list[tuple[Fraction, Outcomes]] = []
        for number in numbers if total else ():
            if again or record["take"] == "one":
                chosen = product(range(len(has)), repeat=number)
            else:
                positive = [at for at, weight in enumerate(weights) if weight]
                chosen = permutations(positive, min(number, len(positive)))
            for way in chosen:
                left, chance = total, Fraction(1)
                for at in way:
                    chance *= weights[at] / left
                    left = left if again or record["take"] == "one" else left - weights[at]
                one = NOTHING
                for at in way if chance else ():
                    one = joined(one, entry(has[at]))
                ways.append((chance / len(numbers), one))
        found = weighed(ways) if ways else NOTHING
    return weighed([(1 - out, found), (out, NOTHING)]) if of_record else found


CHANCE = st.sampled_from(["", "|0", "|0.25", "|0.5", "|0.75", "|1"])
WEIGHT = st.sampled_from(["", "|0", "|1", "|2", "|3", "|0.5"])
COUNT = st.sampled_from(["", "*2", "*1-3", "*0-1"])
THING = st.sampled_from(["rope", "lamp", "cup", "-"])


@st.composite
def records(draw: st.DrawFn, *, with_tables: bool) -> dict[str, Any]:
    take = draw(st.sampled_from(["each", "one", "some"]))
    names = THING if not with_tables else st.one_of(THING, st.sampled_from(["@odds", "@ends"]))
    chance = CHANCE if take == "each" else WEIGHT
    small = st.sampled_from(["", "*2"]) if with_tables else COUNT
    has = draw(st.lists(st.builds("{}{}{}".format, names, small, chance), max_size=3))
    made: dict[str, Any] = {"take": take, "has": has, "times": draw(st.sampled_from(["1", "2", "1-2", "3"]))}
    if draw(st.booleans()):
        made["sure"] = draw(st.booleans())
    return made


@settings(max_examples=400 if sampling.ALL else 60)
@given(
    crate=records(with_tables=True),
    odds=records(with_tables=False),
    ends=records(with_tables=False),
    out=st.sampled_from([0, 0.25, 1]),
    again=st.booleans(),
    of_record=st.booleans(),
)
def test_odds_are_those_of_every_outcome_counted(
    crate: dict[str, Any], odds: dict[str, Any], ends: dict[str, Any], out: float, again: bool, of_record: bool
) -> None:
    content = {"crates": {"bow": {**crate, "out": out}}, "tables": {"odds": odds, "ends": ends}}
    rules = book(again=again, left_out_of="record" if of_record else "entry")
    reckoner = Reckoner(scheme(content, rules))
    found = reckoner.opening(("crates", "bow"))
    wanted = outcomes_of(content, content["crates"]["bow"], again=again, of_record=of_record)
    assert sum(wanted.values()) == 1
    for thing in ("rope", "lamp", "cup"):
        counts = found.get(thing, draws.NONE)
        assert counts.sum() == pytest.approx(1, abs=1e-9) and counts.min() >= -1e-12
        for number, chance in enumerate(counts):
            exact = sum(one for key, one in wanted.items() if dict(key).get(thing, 0) == number)
            assert chance == pytest.approx(float(exact), abs=1e-9), (thing, number)
        ways = sum(path.expected for path in reckoner.paths(("crates", "bow"), thing)) if thing in found else 0
        assert ways == pytest.approx(draws.mean_of(counts), abs=1e-9), "the ways to a thing add up to all of it"
    assert "-" not in found


@pytest.mark.parametrize("weights", [[1, 1, 1, 1, 1], [5, 1, 1, 0.5, 0.01], [1e-6, 1, 1000, 3], [2, 2, 3]])
@pytest.mark.parametrize("times", [1, 2, 3, 9])
def test_different_entries_are_drawn_as_they_would_be_one_by_one(weights: list[float], times: int) -> None:
    exact = [Fraction(0)] * len(weights)
    shares = [Fraction(str(weight)) for weight in weights]
    for way in permutations(range(len(weights)), min(times, len(weights))):
        left, chance = sum(shares), Fraction(1)
        for at in way:
            chance *= shares[at] / left
            left -= shares[at]
        for at in way:
            exact[at] += chance
    for at in range(len(weights)):
        counts = draws.without_repetition(weights, {at: draws.uniform(1, 1)}, times)
        assert counts[1] == pytest.approx(float(exact[at]), abs=1e-9)


@pytest.mark.parametrize("weights", [[1, 1, 1, 1], [5, 1, 2, 0.5]])
@pytest.mark.parametrize("times", [1, 2, 3])
def test_a_thing_in_several_of_the_entries_is_counted_in_each(weights: list[float], times: int) -> None:
    drawn = {0: draws.uniform(1, 1), 2: draws.uniform(2, 3)}
    exact: Counter[int] = Counter()
    for way in permutations(range(len(weights)), times):
        left, chance = Fraction(str(sum(weights))), Fraction(1)
        for at in way:
            chance *= Fraction(str(weights[at])) / left
            left -= Fraction(str(weights[at]))
        for more in (2, 3):
            exact[(1 if 0 in way else 0) + (more if 2 in way else 0)] += chance / 2  # type: ignore[assignment]
    counts = draws.without_repetition(weights, drawn, times)
    assert [float(exact[number]) for number in range(len(counts))] == pytest.approx(counts.tolist(), abs=1e-9)


def rolled(found: LootScheme, key: tuple[str, str], rng: random.Random) -> Counter[str]:
    """Roll one opening: plain code that knows nothing of sums."""
    node = found.nodes[key]
    got: Counter[str] = Counter()
    if node.missing_of == "record" and rng.random() < node.missing:
        return got
    if node.draw == "each":
        chosen = [item for item in node.items if rng.random() < node.chance_of(item)]
    else:
        times = rng.randint(*node.draws) if node.draw == "some" else 1
        weights = [node.weight_of(item) for item in node.items]
        chosen = rng.choices(node.items, weights, k=times) if sum(weights) else []
    for item in chosen:
        if node.missing_of == "entry" and rng.random() < node.missing:
            continue
        count = rng.randint(item.least, item.most)
        if item.table:
            for _ in range(count):
                got += rolled(found, item.name, rng)
        elif item.what != node.nothing:
            got[item.what] += count
    return got


@pytest.mark.parametrize("seed", range(3))
def test_odds_agree_with_many_rolls_of_a_random_scheme(seed: int) -> None:
    """200,000 openings where every sample is asked for: what comes out is within its own error of what was said."""
    rng = random.Random(seed)
    many = 200_000 if sampling.ALL and seed == 0 else 12_000
    things = ["rope", "lamp", "cup", "net", "-"]

    def made(level: int) -> dict[str, Any]:
        take = rng.choice(["each", "one", "some"])
        names = things + [f"@t{number}" for number in range(level)]
        has = [
            f"{rng.choice(names)}{rng.choice(['', '*2', '*1-4'])}|{rng.choice([0.05, 0.2, 0.5, 0.9])}" for _ in range(6)
        ]
        return {"take": take, "has": has, "times": rng.choice(["2", "1-3"]), "out": rng.choice([0, 0.3])}

    tables = {f"t{number}": made(number) for number in range(4)}
    found = scheme({"crates": {"bow": made(4)}, "tables": tables})
    exact = Reckoner(found).opening(("crates", "bow"))
    there: Counter[str] = Counter()
    sums: Counter[str] = Counter()
    for _ in range(many):
        got = rolled(found, ("crates", "bow"), rng)
        sums += got
        there.update(thing for thing, count in got.items() if count)
    assert set(there) <= set(exact)
    for thing, counts in exact.items():
        chance, mean = 1 - counts[0], draws.mean_of(counts)
        assert abs(there[thing] / many - chance) <= 5 * sqrt(chance * (1 - chance) / many) + 1e-9, thing
        assert abs(sums[thing] / many - mean) <= 5 * draws.spread_of(counts) / sqrt(many) + 1e-9, thing


# --- the rest of the model ---


def test_all_that_is_there_after_a_restart() -> None:
    crates = {
        "bow": {"count": 3, "has": ["rope|0.5"]},
        "mast": {"count": 0, "has": ["lamp"]},
        "aft": {"has": ["rope*2"]},
    }
    content = {"crates": crates}
    found = Reckoner(scheme(content)).restart()
    assert found["rope"] == pytest.approx([0, 0, 1 / 8, 3 / 8, 3 / 8, 1 / 8])
    assert found["lamp"] == pytest.approx([1.0]), "there is none of that crate"


def test_there_are_never_more_than_places() -> None:
    rules = book()
    rules = Rulebook(
        rulebook=rules.rulebook, file=rules.file, records=rules.records,
        loot={"finds": Loot(records="crates", at_once="count", places="positions", entries=("has",), entry=FORMS)},
    )  # fmt: skip
    found = scheme({"crates": {"bow": {"count": 5, "positions": ["1 2", "3 4"], "has": ["rope"]}}}, rules)
    assert found.at_once == {"bow": 2} and found.wanted == {"bow": 5}
    assert Reckoner(found).restart()["rope"] == pytest.approx([0, 0, 1])


@pytest.mark.parametrize(
    "content",
    [
        {"has": [{"item": "rope", "chance": 0.25, "min": 1, "max": 2}, {"item": "lamp"}]},
        {"has": ["rope*1-2|0.25", "lamp"]},
    ],
)
def test_entries_may_be_objects_or_texts(content: dict[str, Any]) -> None:
    rules = book(entry=(*FORMS, "what=item,chance=chance,least=min,most=max"))
    found = Reckoner(scheme({"crates": {"bow": content}}, rules)).opening(("crates", "bow"))
    assert found["rope"] == pytest.approx([0.75, 0.125, 0.125]) and found["lamp"] == pytest.approx([0, 1])


@pytest.mark.parametrize(
    ("chance", "shown"),
    [(0, "0%"), (1e-13, "0%"), (1e-12, "1e-10%"), (0.00052, "0.052%"), (0.001, "0.1%"), (0.25, "25.0%"),
     (0.999, "99.9%"), (0.99951, "99.95%"), (1 - 1e-6, "99.99%"), (1 - 1e-13, "100%"), (1, "100%")],
)  # fmt: skip
def test_what_is_nearly_never_or_nearly_always_is_not_shown_as_that(chance: float, shown: str) -> None:
    assert percent(chance) == shown


def test_entries_may_be_a_map_of_chances_in_percent() -> None:
    rules = book(full=100)
    found = Reckoner(scheme({"crates": {"bow": {"has": {"rope": 25, "lamp": 100}}}}, rules)).opening(("crates", "bow"))
    assert found["rope"] == pytest.approx([0.75, 0.25]) and found["lamp"] == pytest.approx([0, 1])


def test_what_the_weights_leave_of_the_whole_is_nothing() -> None:
    content = {"crates": {"bow": {"take": "one", "has": ["rope|30", "lamp|20"]}}}
    found = Reckoner(scheme(content, book(whole=100))).opening(("crates", "bow"))
    assert found["rope"] == pytest.approx([0.7, 0.3]) and found["lamp"] == pytest.approx([0.8, 0.2])
    shared = Reckoner(scheme(content)).opening(("crates", "bow"))
    assert shared["rope"] == pytest.approx([0.4, 0.6])


def test_a_share_that_says_what_is_there() -> None:
    content = {"crates": {"bow": {"out": 0.25, "has": ["rope"]}}}
    rules = book()
    there = Loot(records="crates", left_out="out", left_out_is="there", entries=("has",), entry=FORMS)
    other = Rulebook(rulebook=rules.rulebook, file=rules.file, records=rules.records, loot={"finds": there})
    assert Reckoner(scheme(content)).opening(("crates", "bow"))["rope"] == pytest.approx([0.25, 0.75])
    assert Reckoner(scheme(content, other)).opening(("crates", "bow"))["rope"] == pytest.approx([0.75, 0.25])


def test_a_table_in_itself_is_told_and_not_worked_out() -> None:
    found = scheme({"crates": {"bow": {"has": ["@a"]}}, "tables": {"a": {"has": ["@b", "rope"]}, "b": {"has": ["@a"]}}})
    assert circles_in(found) == [(("tables", "a"), ("tables", "b"), ("tables", "a"))]
    with pytest.raises(Endless, match="tables/a > tables/b > tables/a"):
        Reckoner(found).opening(("crates", "bow"))


def test_tables_may_be_nested_very_deep() -> None:
    tables = {f"t{number}": {"has": [f"@t{number + 1}"]} for number in range(3000)}
    found = scheme({"crates": {"bow": {"has": ["@t0"]}}, "tables": {**tables, "t3000": {"has": ["rope|0.5"]}}})
    assert Reckoner(found).opening(("crates", "bow"))["rope"] == pytest.approx([0.5, 0.5])
    assert circles_in(found) == [] and ("crates", "bow") in fruitful(found)


def test_what_grows_beyond_all_bounds_is_refused() -> None:
    tables = {f"t{number}": {"has": [f"@t{number + 1}*50"]} for number in range(4)}
    found = scheme({"crates": {"bow": {"has": ["@t0*50"]}}, "tables": {**tables, "t4": {"has": ["rope|0.5"]}}})
    with pytest.raises(TooMany, match="of rope"):
        Reckoner(found).opening(("crates", "bow"))


@settings(max_examples=80)
@given(st.lists(st.floats(0, 1), min_size=1, max_size=400), st.lists(st.floats(0, 1), min_size=1, max_size=400))
def test_sums_of_counts_are_the_same_by_either_way(first: list[float], second: list[float]) -> None:
    one, other = np.array([*first, 1.0]), np.array([*second, 1.0])
    one, other = one / one.sum(), other / other.sum()
    found = draws.both(one, other)
    assert found == pytest.approx(np.convolve(one, other), abs=1e-12) and found.min() >= 0
    assert draws.mean_of(found) == pytest.approx(draws.mean_of(one) + draws.mean_of(other))
    low, high = draws.between(found)
    assert found[: low + 1].sum() >= 0.1 - 1e-9 and found[:low].sum() < 0.1 + 1e-9
    assert found[: high + 1].sum() >= 0.9 - 1e-9


@pytest.mark.parametrize(
    ("text", "number", "slip", "meant"),
    [
        ("0.25", 0.25, "", ""),
        ("1", 1.0, "", ""),
        ("25", 1.0, "chance-percent", "0.25"),
        ("250", 1.0, "chance-range", "1"),
        ("0,5", 0.5, "chance-comma", "0.5"),
        ("25%", 0.25, "chance-percent", "0.25"),
        ("-0.5", 0.0, "chance-range", ""),
        ("often", 0.0, "chance-text", ""),
        ("nan", 0.0, "chance-text", ""),
        ("inf", 0.0, "chance-text", ""),
    ],
)
def test_a_chance_is_read_as_the_game_does_and_what_was_meant_is_told(
    text: str, number: float, slip: str, meant: str
) -> None:
    assert read_chance(text, 1) == (number, slip, meant)


def test_a_weight_may_be_any_number_that_is_not_negative() -> None:
    assert read_chance("250", 0) == (250.0, "", "") and read_chance("-1", 0)[1] == "chance-range"


# --- the stand-in's own dice ---


def gullwind() -> Rulebook:
    return load_rulebook("gullwind", None)


def flotsam(seed: int) -> dict[str, Any]:
    """Make crates as the demo has them: every kind of table, and counts, and shares left out."""
    rng = random.Random(seed)
    names = ["rope", "lamp oil", "cup", "nothing"]

    def entries(level: int, many: int, *, weights: bool) -> list[str]:
        tables = [f"table:t{number}" for number in range(level)] + (["rig:skiff"] if level else [])
        numbers = ["", "|1", "|2", "|0.5"] if weights else ["", "|0.1", "|0.6", "|1"]
        return [
            f"{rng.choice(names + tables)}{rng.choice(['', '*2', '*1-3'])}{rng.choice(numbers)}" for _ in range(many)
        ]

    takes = ["each", "one", "some"]
    tables = {
        f"t{number}": {
            "sure": rng.random() < 0.2,
            "take": takes[number],
            "times": rng.choice(["2", "1-3"]),
            "entries": entries(number, 4, weights=takes[number] != "each"),
        }
        for number in range(3)
    }
    crate = [entry for entry in entries(3, 6, weights=False) if not entry.startswith("nothing")]
    drop = {"count": 1, "positions": ["1 2 3|4 5 6"], "left-out": rng.choice([0, 0.3]), "contents": crate}
    rigs = {"skiff": {"sail": "lugsail", "lens": "clear lens", "fittings": ["anchor|0.5", "oars"]}}
    return {"drops": {"Bow": drop}, "rigs": rigs, "tables": tables}


@pytest.mark.parametrize("seed", range(6))
def test_odds_agree_with_the_dice_of_the_stand_in(tmp_path: Path, seed: int) -> None:
    content = flotsam(seed)
    (tmp_path / "flotsam.json").write_text(json.dumps(content))
    server, many = Flotsam(str(tmp_path)), 6_000
    server.random.seed(seed)
    line = server.roll(f"Bow {many}").partition(": ")[2]
    rolled_counts = {
        name: (int(there), int(sums)) for name, there, sums in re.findall(r"(?:^|, )([a-z ]+) (\d+)/(\d+)", line)
    }
    files = ServerFiles(gullwind(), {"flotsam.json": Text(json.dumps(content))})
    exact = Reckoner(loot_in(files, "flotsam")).opening(("flotsam", "Bow"))
    assert set(rolled_counts) <= set(exact)
    for thing, counts in exact.items():
        there, sums = rolled_counts.get(thing, (0, 0))
        chance, mean = 1 - counts[0], draws.mean_of(counts)
        assert abs(there / many - chance) <= 5 * sqrt(max(0, chance * (1 - chance)) / many) + 1e-9, thing
        assert abs(sums / many - mean) <= 5 * draws.spread_of(counts) / sqrt(many) + 1e-9, thing


def test_the_stand_in_has_the_traps_that_check_tells(tmp_path: Path) -> None:
    path = tmp_path / "flotsam.json"
    crate = {"count": 5, "positions": ["1 2 3|4 5 6"], "contents": ["rope|25", "table:none"]}
    path.write_text(json.dumps({"drops": {"Bow": crate}}))
    assert Flotsam(str(tmp_path)).roll("Bow 50") == "rolled Bow 50, 1 at once: rope 50/50"
    path.write_text(path.read_text().replace("]}}}", "],}}}"))
    server = Flotsam(str(tmp_path))
    assert server.remark == "flotsam: ?" and server.roll("Bow 1") == "roll what?"
