"""Ids as people paste them, who was seen in a log, and the people book."""

from __future__ import annotations

import time
import tomllib
from datetime import date
from typing import Literal

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from roundgate.core.formats.protocol import EditRefused
from roundgate.core.people.book import BookProblem, Person, key_for, read_people, with_person, with_table, with_values
from roundgate.core.people.ids import id_mistake, ids_in, meant_id, same_id
from roundgate.core.people.seen import LogPattern, SeenPerson, Sighting, fold, needed_text
from roundgate.core.people.until import end_of, end_on, is_over
from roundgate.core.rulebook.model import ItemKind
from roundgate.core.text import Text

KIND = ItemKind(pattern=r"GW-[0-9A-Z]{4}-[0-9A-Z]{4}", example="GW-7K3M-Q2XD", prefix="GW-")
RIGHT = "GW-7K3M-Q2XD"


@pytest.mark.parametrize(
    "pasted",
    [
        RIGHT,
        f"  {RIGHT}\t",
        RIGHT.lower(),
        "GW\u20117K3M\u2011Q2XD",
        "G\u200bW-7K3M-\u00adQ2XD",
        "\ufeffGW-7K3M-Q2XD",
        "GW-7\u041a3\u041c-Q2\u0425D",
        "\uff27\uff37-7K3M-Q2XD",
        "\u201cGW-7K3M-Q2XD\u201d",
        f"https://lobby.example/sailors/{RIGHT}?tab=1",
        f"[Wren]({RIGHT})",
        "7K3M-Q2XD",
        "7k3m-q2xd",
    ],
)
def test_what_is_meant_is_read_out_of_what_was_pasted(pasted: str) -> None:
    assert meant_id(pasted, KIND) == RIGHT
    assert same_id(pasted, RIGHT, KIND)


@pytest.mark.parametrize(
    "pasted",
    [
        "Wren",
        "",
        "GW-7K3M",
        f"{RIGHT} GW-8P2C-W4TN",
        "gw-7k3m-q2xd gw-8p2c-w4tn",
        f"X{RIGHT}",
        f"{RIGHT}9",
        "GW_7K3M_Q2XD",
    ],
)
def test_what_is_not_sure_is_no_id(pasted: str) -> None:
    assert meant_id(pasted, KIND) == ""


def test_ids_stand_anywhere_in_a_pasted_text_and_doubtful_ones_are_told() -> None:
    sure, doubtful = ids_in(f"ban {RIGHT}, gw-8p2c-w4tn and (GW-2H9V-L6RB) pls, {RIGHT}", KIND)
    assert (sure, doubtful) == ([RIGHT, "GW-2H9V-L6RB"], ["gw-8p2c-w4tn"])


@settings(max_examples=300)
@given(st.text(max_size=40))
def test_no_text_is_ever_taken_for_another_persons_id(text: str) -> None:
    found = meant_id(f"{text} {RIGHT} {text}", KIND)
    assert found in ("", RIGHT)


JOINED = r"^(?:\[(?P<time>[^\]]{19})\] )?sailor (?P<name>.+?) \((?P<id>GW-[0-9A-Z]{4}-[0-9A-Z]{4})\) came aboard"
LEFT = JOINED.replace("came aboard", "went ashore")


@pytest.mark.parametrize(
    ("pattern", "text"),
    [
        (JOINED, ") came aboard"),
        (LEFT, ") went ashore"),
        (r"^sailors? came", "sailor"),
        (r"^(?:optional )?boat \d+$", "boat "),
        (r"a|b", ""),
        (r"[a-z]+", ""),
    ],
)
def test_the_text_that_every_match_must_hold(pattern: str, text: str) -> None:
    found = needed_text(pattern)
    assert found in text and (len(found) > 3 or not text), found


def test_who_came_and_went_is_folded_into_visits_and_hours() -> None:
    log = (
        b"noise\n[2026-11-20 19:00:00] sailor Wren (GW-7K3M-Q2XD) came aboard\n"
        b"[2026-11-20 19:01:00] sailor A)(B (GW-8P2C-W4TN) came aboard\n"
        b"[2026-11-20 20:30:00] sailor Wren (GW-7K3M-Q2XD) went ashore\nsailor says: came aboard\n"
        b"sailor Wren II (GW-7K3M-Q2XD) came aboard"
    )
    people: dict[str, SeenPerson] = {}
    found = list(LogPattern(JOINED, LEFT, time.process_time).search(log))
    assert [(item.name, item.came) for item in found] == [
        ("Wren", True),
        ("A)(B", True),
        ("Wren", False),
        ("Wren II", True),
    ]
    assert [item.time for item in found] == ["2026-11-20 19:00:00", "2026-11-20 19:01:00", "2026-11-20 20:30:00", ""]
    for sighting, at in zip(found, (100.0, 160.0, 5500.0, 9000.0), strict=True):
        fold(people, sighting, at)
    twice = Sighting("GW-8P2C-W4TN", "A)(B", "", came=False)
    for at in (200.0, 260.0):
        fold(people, twice, at)
    assert people["GW-8P2C-W4TN"].seconds == 40.0, "who went twice came once"
    wren = people["GW-7K3M-Q2XD"]
    assert (wren.name, wren.names, wren.visits, wren.seconds) == ("Wren II", ["Wren", "Wren II"], 2, 5400.0)
    assert (wren.first, wren.last, wren.here_since) == (100.0, 9000.0, 9000.0)


def test_the_book_is_changed_byte_by_byte() -> None:
    text = with_person(Text(""), "wren", "Wren", {"sailor": [RIGHT]})
    text = with_person(text, "tern", 'Tern "T"', {"sailor": ["GW-8P2C-W4TN"]})
    mine = text.with_body(text.body.replace('name = "Wren"', 'name = "Wren"   # the chief'))
    book = read_people(mine)
    assert book.people["tern"].name == 'Tern "T"' and book.people["wren"].ids == {"sailor": (RIGHT,)}
    after = with_values(mine, [(("person", "wren", "note"), "line 1\nline 2")])
    assert after.body.startswith(mine.body[: mine.body.index("ids.sailor")]) and "# the chief" in after.body
    assert tomllib.loads(after.body)["person"]["wren"]["note"] == "line 1\nline 2"
    gone = with_values(after, [(("person", "wren"), None)])
    assert list(read_people(gone).people) == ["tern"]
    assert read_people(with_values(gone, [(("person", "tern"), None)])).people == {}, "the last one too"


def test_a_person_is_found_by_key_name_other_name_or_id_and_two_are_two() -> None:
    source = '[person.a]\nname = "Wren"\nalso = ["Jenny"]\nids.sailor = ["GW-7K3M-Q2XD"]\n[person.b]\nname = "wren"\n'
    book = read_people(Text(source))
    assert book.find("WREN") == ["a", "b"] and book.find("jenny") == ["a"] and book.find("B") == ["b"]
    assert book.find("gw-7k3m-q2xd") == ["a"] and book.find("Tern") == []
    assert book.named("gw-7k3m-q2xd", {"sailor": KIND}) == "a" and book.named("GW-8P2C-W4TN", {"sailor": KIND}) == ""
    assert (
        key_for("Wren", book.people) == "wren"
        and key_for("A", book.people) == "a-2"
        and key_for("\u00e9", {}) == "somebody"
    )


@pytest.mark.parametrize(
    ("source", "place", "words"),
    [
        ("[person.a]\nnote = 'x'\n", (2, 1), "missing required field `name`"),
        ('[person.b]\nname = "y"\n[person.a]\nname = "x"\nages = 3\n', (5, 1), "ages"),
        ('[person.a]\nname = "x"\nids = { sailor = "GW" }\n', (3, 9), "array"),
        ("[person\n", (1, 1), "]"),
        ('person = "x"\n', (1, 1), "[person.NAME]"),
        ("[people.a]\nname = 'x'\n", (2, 1), "'people'"),
        ('[person.a]\nname = "x"\nuntil = { "regatta/bans" = "soon" }\n', (3, 11), "YYYY-MM-DD"),
        ('[person.a]\nname = "x"\nuntil = { "regatta" = "2026-12-03" }\n', (3, 11), "SERVER/ROSTER"),
    ],
)
def test_a_book_with_a_mistake_is_told(source: str, place: tuple[int, int], words: str) -> None:
    with pytest.raises(BookProblem) as told:
        read_people(Text(source))
    assert words in str(told.value)
    assert (told.value.line, told.value.column) == place, str(told.value)


LOOSE = replace(KIND, optional="- ", suffix="-B", pattern=r"GW-[0-9A-Z]{4}-[0-9A-Z]{4}-B", example="GW-7K3M-Q2XD-B")


@pytest.mark.parametrize(
    "pasted", ["GW7K3MQ2XDB", "gw 7k3m q2xd b", "7K3MQ2XD", "GW-7K3M-Q2XD", "7k3m-q2xd-b", "gw-7k3m-q2xd-b"]
)
def test_what_every_id_begins_and_ends_with_and_signs_between_may_be_left_out(pasted: str) -> None:
    assert meant_id(pasted, LOOSE) == "GW-7K3M-Q2XD-B"
    assert same_id(pasted, "GW-7K3M-Q2XD-B", LOOSE)


@pytest.mark.parametrize(
    ("case", "pasted", "meant"),
    [
        ("upper", "gw-1a", "GW-1A"),
        ("lower", "GW-1A", "gw-1a"),
        ("any", "gw-1A", "gw-1A"),
        ("", "gw-1A", "gw-1A"),
    ],
)
def test_case_is_as_the_kind_has_it(case: Literal["", "upper", "lower", "any"], pasted: str, meant: str) -> None:
    kind = ItemKind(pattern=r"(?i:gw)-[0-9A-Za-z]{2}", case=case)
    assert meant_id(pasted, kind) == meant
    assert same_id("gw-1a", "GW-1A", kind) == (case != "")
    assert bool(id_mistake(pasted, kind)) == (pasted != meant)


@pytest.mark.parametrize(
    ("check", "right"), [("luhn", "79927398713"), ("mod11", "07940"), ("mod97", "PLOVER29")], ids=lambda one: str(one)
)
def test_a_mistyped_sign_is_found_by_the_check_digit(check: Literal["luhn", "mod11", "mod97"], right: str) -> None:
    if check == "mod97":  # two digits at the end make the remainder 1
        stem = right[:-2]
        ends = [f"{n:02}" for n in range(98) if not id_mistake(f"{stem}{n:02}", ItemKind(pattern=".+", check=check))]
        assert len(ends) == 1
        right = stem + ends[0]
    kind = ItemKind(pattern=r"[0-9A-Z]+", check=check)
    assert id_mistake(right, kind) == "" and meant_id(f"see {right}!", kind) == right
    for at, sign in enumerate(right):
        if sign.isdigit():
            wrong = right[:at] + str((int(sign) + 1) % 10) + right[at + 1 :]
            assert "check digit" in id_mistake(wrong, kind) and meant_id(wrong, kind) == ""
            assert ids_in(f"{right}, {wrong}", kind) == ([right], [wrong])


@pytest.mark.parametrize(
    "table",
    [
        'wanted = { regatta = "guests" }\n',
        'wanted.regatta = "guests"   # since May\n',
        '[person.wren.wanted]\nregatta = "guests"\n',
    ],
)
def test_a_table_of_a_person_is_changed_however_it_is_written(table: str) -> None:
    text = Text(f'[person.wren]\nname = "Wren"\n{table}')
    path, old = ("person", "wren", "wanted"), {"regatta": "guests"}
    more = with_table(text, path, old, {"regatta": "bans", "@all": "guests"})
    assert read_people(more).people["wren"].wanted == {"regatta": "bans", "@all": "guests"}
    assert ("# since May" in more.body) == ("# since May" in table)
    assert with_table(text, path, old, old).body == text.body
    if "wanted.regatta" in table:
        with pytest.raises(EditRefused):
            with_table(more, path, {"regatta": "bans", "@all": "guests"}, {})
        return
    none = with_table(more, path, {"regatta": "bans", "@all": "guests"}, {})
    assert read_people(none).people["wren"].wanted == {}


def test_when_a_time_ends_is_read_and_the_day_itself_no_longer_counts() -> None:
    today = date(2026, 11, 26)
    ends = {"7d": "2026-12-03", "2w": "2026-12-10", "1 day": "2026-11-27", "3 weeks": "2026-12-17"}
    assert {word: str(end_of(word, today)) for word in ends} == ends
    assert end_of("2027-01-01", today) == date(2027, 1, 1)
    assert [end_of(word, today) for word in ("soon", "7", "d", "7m", "")] == [None] * 5
    assert is_over("2026-11-26", today) and is_over("2026-11-25", today) and not is_over("2026-11-27", today)
    assert not is_over("in May", today)


def test_the_servers_own_name_counts_before_its_tags() -> None:
    person = Person(
        "Wren", until={"@all/bans": "2026-01-01", "regatta/bans": "2027-01-01", "@casual/guests": "2028-01-01"}
    )
    assert end_on(person, "bans", {"@all", "regatta"}) == "2027-01-01"
    assert end_on(person, "bans", {"@all", "harbour"}) == "2026-01-01"
    assert end_on(person, "guests", {"@all", "harbour"}) == ""


@pytest.mark.parametrize(
    ("end", "over"), [("2026-12-02", True), ("2026-12-03", True), ("2026-12-04", False), ("soon", False), ("", False)]
)
def test_a_time_is_over_on_the_day_on_which_it_ends(end: str, over: bool) -> None:
    assert is_over(end, date(2026, 12, 3)) is over


MIXED = ItemKind(pattern=r"DK_[A-Za-z0-9]{8}", example="DK_Ab12Cd34", prefix="DK_")


@given(st.from_regex(r"[A-Za-z0-9]{8}", fullmatch=True), st.sampled_from(["DK_", "dk_", "Dk_", ""]))
def test_only_what_is_fixed_in_an_id_changes_its_case(signs: str, before: str) -> None:
    """Where both cases fit, another case is another person."""
    found = meant_id(f"{before}{signs}", MIXED)
    assert found in ("", f"DK_{signs}")
    assert found or not before


def test_where_one_case_alone_fits_that_is_meant() -> None:
    assert meant_id("gw-7k3m-q2xd", ItemKind(pattern=r"GW-[0-9A-Z]{4}-[0-9A-Z]{4}")) == "GW-7K3M-Q2XD"
    assert meant_id("AB12", ItemKind(pattern=r"[a-f0-9]{4}")) == "ab12"
