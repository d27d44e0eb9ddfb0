"""Every kind of value: what is stored is read back the same, and what is shown can be typed again."""

from __future__ import annotations

import sys
from decimal import Decimal
from itertools import count

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rapidfuzz import fuzz, process, utils

from roundgate.core import nearest as near_names
from roundgate.core import values
from roundgate.core.rulebook.model import Setting
from roundgate.core.values import ValueProblem

SPECS = {
    "bool": Setting(file="f", key="k", type="bool", spelling=("On", "Off")),
    "int": Setting(file="f", key="k", type="int", range=(-10, 100), special={"no limit": -1, "off": 0}),
    "decimal": Setting(file="f", key="k", type="decimal", range=(-5, 5)),
    "percent": Setting(file="f", key="k", type="percent", stored="fraction", range=(0, 1)),
    "duration": Setting(file="f", key="k", type="duration", stored="minutes", special={"off": 0}),
    "milliseconds": Setting(file="f", key="k", type="duration", stored="milliseconds"),
    "size": Setting(file="f", key="k", type="size", stored="megabytes"),
    "port": Setting(file="f", key="k", type="port"),
    "choice": Setting(file="f", key="k", type="choice", choices={"calm": "", "Spring": ""}),
    "condition": Setting(
        file="f", key="k", type="condition", choices={"all": "", "Few": ""}, offers={"old": "function() return 1 end"}
    ),
    "positions": Setting(file="f", key="k", type="list", of="vector", form="{x} {y}|{h}", bounds={"x": (0, 9)}),
    "text": Setting(file="f", key="k", type="text", length=(0, 20), line_break="|"),
    "address": Setting(file="f", key="k", type="address"),
    "url": Setting(file="f", key="k", type="url"),
    "secret": Setting(file="f", key="k", type="secret", pattern=r"\d+", length=(4, 8)),
    "endpoint": Setting(file="f", key="k", type="endpoint"),
    "choices": Setting(file="f", key="k", type="choices", choices={"calm": "", "Spring": ""}, separator="|"),
    "list": Setting(file="f", key="k", type="list", separator=";", length=(0, 5)),
    "id": Setting(file="f", key="k", type="id", pattern=r"[a-z]{2,8}", catalogue=("Calm",)),
    "colour": Setting(file="f", key="k", type="colour"),
    "colour 255": Setting(file="f", key="k", type="colour", form="r,g,b"),
    "colour 1": Setting(file="f", key="k", type="colour", form="r g b a", scale=1),
    "vector": Setting(file="f", key="k", type="vector", form="{x} {y}|{heading}", bounds={"heading": (0, 359)}),
    "date": Setting(file="f", key="k", type="date", form="%d.%m.%Y"),
    "time": Setting(file="f", key="k", type="time", form="%H%M"),
    "cores": Setting(file="f", key="k", type="cores"),
    "cores mask": Setting(file="f", key="k", type="cores", stored="hex"),
    "ref": Setting(file="f", key="k", type="ref"),
    "refs": Setting(file="f", key="k", type="refs"),
    "flag": Setting(file="f", key="k", type="flag"),
    "path": Setting(file="f", key="k", type="path", below="charts", endings=(".chart",)),
    "affixes": Setting(file="f", key="k", type="int", prefix="x", suffix="kn", special={"off": 0}),
    "places": Setting(file="f", key="k", type="decimal", places=2, unit="knots"),
}
TYPED = st.one_of(
    st.from_regex(r"\A-?[0-9]{1,6}(\.[0-9]{1,3})?(%|ms|[smhdkKmMgGtT])?\Z"),
    st.sampled_from(
        [
            "on",
            "Yes",
            "OFF",
            "no limit",
            "calm",
            "SPRING",
            "1h30m",
            "90%",
            "5G",
            "512M",
            "::1",
            "localhost",
            "0.5",
            "http://a.b/c",
            "127.0.0.1:80",
            "[::1]:27800",
            "calm|SPRING",
            "a;b; c",
            "#c0392b",
            "192,57,43",
            "0.5 0.25 1",
            "1 2|90",
            "x=1 y=2 heading=3",
            "2026-06-20",
            "20.06.2026",
            "7:30pm",
            "0,2-3",
            "0xff",
            "on",
            "charts/bay.chart",
            "12 knots",
            "x7kn",
        ]
    ),
    st.builds(
        lambda parts, sign: sign.join(map(str, parts)),
        st.lists(st.integers(-9, 300), max_size=5),
        st.sampled_from(" ,;|"),
    ),
    st.text(max_size=12),
)


def test_there_is_a_spec_of_each_kind() -> None:
    assert {spec.type for spec in SPECS.values()} == set(values.KINDS)


@settings(max_examples=1500)
@given(st.sampled_from(sorted(SPECS)), TYPED)
def test_what_is_typed_is_stored_read_back_and_shown_again(kind: str, typed: str) -> None:
    spec = SPECS[kind]
    try:
        value = values.parse(typed, spec)
        stored = values.store(value, spec)
    except ValueProblem as problem:
        assert problem.cause and problem.code.startswith("value-")
        return
    assert values.read(stored, spec) == value
    if kind == "secret":
        assert typed not in values.show(value, spec) or not typed
    elif kind != "text" and stored:
        assert values.parse(values.show(value, spec), spec) == value


@settings(max_examples=500)
@given(st.sampled_from(sorted(SPECS)), st.text(max_size=12))
def test_whatever_a_file_holds_is_a_value_or_a_problem_with_words(kind: str, stored: str) -> None:
    try:
        value = values.read(stored, SPECS[kind])
    except ValueProblem as problem:
        assert problem.cause
        if kind == "secret" and stored in problem.cause:
            # A word of the message itself, such as "digits": then it is there for another secret too.
            with pytest.raises(ValueProblem) as other:
                values.read("\ue000" * len(stored), SPECS[kind])
            assert stored in other.value.cause
        return
    assert values.show(value, SPECS[kind]) is not None


@settings(max_examples=300)
@given(st.integers(0, 10**7))
def test_a_length_of_time_is_said_and_read_the_same(milliseconds: int) -> None:
    seconds = Decimal(milliseconds) / 1000
    assert values.units.parse_seconds(values.units.format_seconds(seconds)) == seconds


LETTERS = st.text(alphabet="aAbB._-1é ", max_size=8)


@given(LETTERS, st.lists(LETTERS, max_size=6), st.sampled_from([60, 80, 95]))
@settings(max_examples=500)
def test_the_nearest_name_is_the_librarys(word: str, names: list[str], least: int) -> None:
    """Names are looked at before the library is loaded; none that it would find may be dropped."""
    near_names._LOOKS = count()
    loaded = sys.modules.pop("rapidfuzz")  # as in a process that has not needed it yet
    found = (
        process.extractOne(word, names, scorer=fuzz.ratio, processor=utils.default_process, score_cutoff=least)
        if utils.default_process(word)
        else None
    )
    try:
        looked = near_names.nearest(word, names, least)
    finally:
        sys.modules["rapidfuzz"] = loaded
    assert looked == near_names.nearest(word, names, least) == (found[0] if found else "")


@given(
    st.one_of(
        st.tuples(st.just("date"), st.dates().map(str)),
        st.tuples(st.just("date"), st.from_regex(r"\A[0-9]{1,5}-[0-9W]{1,3}-[0-9]{1,2}\Z")),
        st.tuples(st.just("time"), st.times().map(lambda time: time.isoformat("minutes"))),
        st.tuples(st.just("time"), st.from_regex(r"\A[0-9]{1,2}:[0-9]{1,2}\Z")),
    )
)
@settings(max_examples=400)
def test_a_moment_in_the_usual_form_is_read_the_same_by_the_quick_way(case: tuple[str, str]) -> None:
    """With a sign at its end the form is another one, which goes the slow way."""
    kind, stored = case

    def read(text: str, form: str) -> object:
        try:
            return values.read(text, Setting(file="f", key="k", type=kind, form=form))  # type: ignore[arg-type]
        except ValueProblem as problem:
            return problem.code

    usual = "%Y-%m-%d" if kind == "date" else "%H:%M"
    assert read(stored, usual) == read(f"{stored}!", f"{usual}!")
