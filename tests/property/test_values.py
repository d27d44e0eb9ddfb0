"""Every kind of value: what is stored is read back the same, and what is shown can be typed again."""

from __future__ import annotations

from decimal import Decimal

from hypothesis import given, settings
from hypothesis import strategies as st

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
    "text": Setting(file="f", key="k", type="text", length=(0, 20), line_break="|"),
    "address": Setting(file="f", key="k", type="address"),
    "url": Setting(file="f", key="k", type="url"),
    "secret": Setting(file="f", key="k", type="secret", pattern=r"\d+", length=(4, 8)),
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
        ]
    ),
    st.text(max_size=12),
)


@settings(max_examples=600, deadline=None)
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


@settings(max_examples=500, deadline=None)
@given(st.sampled_from(sorted(SPECS)), st.text(max_size=12))
def test_whatever_a_file_holds_is_a_value_or_a_problem_with_words(kind: str, stored: str) -> None:
    try:
        value = values.read(stored, SPECS[kind])
    except ValueProblem as problem:
        assert problem.cause
        assert kind != "secret" or len(stored) < 3 or stored not in problem.cause
        return
    assert values.show(value, SPECS[kind]) is not None


@settings(max_examples=300, deadline=None)
@given(st.integers(0, 10**7))
def test_a_length_of_time_is_said_and_read_the_same(milliseconds: int) -> None:
    seconds = Decimal(milliseconds) / 1000
    assert values.units.parse_seconds(values.units.format_seconds(seconds)) == seconds
