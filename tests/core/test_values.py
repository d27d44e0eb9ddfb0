"""Values, kind by kind: what people type, what the file holds, and the words for what will not do."""

from __future__ import annotations

import pytest

from roundgate.core import values
from roundgate.core.rulebook.model import Blocked, OtherPlace, Setting, TomlValue
from roundgate.core.values import ValueProblem


def spec(kind: str, **more: object) -> Setting:
    return Setting(file="f", key="k", type=kind, **more)  # type: ignore[arg-type]


OFF: dict[str, TomlValue] = {"off": 0}
BIRDS = {"gulls": "", "terns": "", "owls": "at night"}
ROUTE = "{x} {y} {z}|{heading}"
NO_LIMIT: dict[str, TomlValue] = {"no limit": -1, "off": 0}


@pytest.mark.parametrize(
    ("setting", "typed", "stored", "shown"),
    [
        (spec("bool"), "Yes", "true", "true"),
        (spec("bool", spelling=("1", "0")), "off", "0", "0"),
        (spec("bool", spelling=("On", "Off")), "on", "On", "On"),
        (spec("bool", spelling=("Offen", "Zu")), "zu", "Zu", "Zu"),
        (spec("bool", spelling=("Offen", "Zu")), "offen", "Offen", "Offen"),
        (spec("int"), " 24 ", "24", "24"),
        (spec("int", special=NO_LIMIT, range=(1, 9)), "No Limit", "-1", "no limit"),
        (spec("int", special=NO_LIMIT, range=(1, 9)), "-1", "-1", "no limit"),
        (spec("int", special=NO_LIMIT, range=(1, 9)), "0", "0", "off"),
        (spec("decimal"), "0.50", "0.50", "0.5"),
        (spec("decimal"), ".5", "0.5", "0.5"),
        (spec("percent"), "50%", "50", "50%"),
        (spec("percent"), "50", "50", "50%"),
        (spec("percent", stored="fraction"), "50%", "0.5", "50%"),
        (spec("percent", stored="fraction"), "0.5", "0.5", "50%"),
        (spec("percent", stored="fraction"), "12.5 %", "0.125", "12.5%"),
        (spec("duration", stored="minutes"), "1h30m", "90", "1h30m"),
        (spec("duration", stored="minutes"), "600 s", "10", "10m"),
        (spec("duration", stored="minutes"), "10 min", "10", "10m"),
        (spec("duration", stored="minutes"), "10", "10", "10m"),
        (spec("duration", stored="minutes", special=OFF, range=(1, 9)), "0m", "0", "off"),
        (spec("duration", stored="milliseconds"), "1.5s", "1500", "1s500ms"),
        (spec("duration", stored="hours"), "2d", "48", "2d"),
        (spec("size", stored="megabytes"), "5G", "5120", "5G"),
        (spec("size", stored="megabytes"), "1.5GB", "1536", "1.5G"),
        (spec("size", stored="megabytes"), "1000", "1000", "1000M"),
        (spec("size", stored="kilobytes"), "1 MiB", "1024", "1M"),
        (spec("size"), "2k", "2048", "2K"),
        (spec("size", stored="megabytes", suffix="M", range=(256, 4096)), "2G", "2048M", "2G"),
        (spec("size", stored="megabytes", suffix="M", range=(256, 4096)), "512", "512M", "512M"),
        (spec("port"), "27800", "27800", "27800"),
        (spec("choice", choices={"calm": "", "Spring": ""}), "SPRING", "Spring", "Spring"),
        (spec("text", line_break="|"), "a\\nb", "a|b", "a\\nb"),
        (spec("text", line_break="|"), "a\nb", "a|b", "a\\nb"),
        (spec("text"), "", "", "(empty)"),
        (spec("text"), "a=b # c", "a=b # c", "a=b # c"),
        (spec("secret", pattern=r"\d+", length=(4, 8)), "4711", "4711", "(set, hidden)"),
        (spec("secret"), "", "", "(empty)"),
        (spec("address"), "127.0.0.1", "127.0.0.1", "127.0.0.1"),
        (spec("address"), "::1", "::1", "::1"),
        (spec("address"), "quay.saltmarsh.example", "quay.saltmarsh.example", "quay.saltmarsh.example"),
        (
            spec("url"),
            "https://saltmarsh.example/a?b=c#d",
            "https://saltmarsh.example/a?b=c#d",
            "https://saltmarsh.example/a?b=c#d",
        ),
        (spec("url"), "http://[::1]:8080", "http://[::1]:8080", "http://[::1]:8080"),
        (spec("int", unit="knots"), "12 knots", "12", "12 knots"),
        (spec("int", unit="knots"), "12kn", "12", "12 knots"),
        (spec("decimal", unit="metres", places=2), "1.5 metres", "1.50", "1.5 metres"),
        (spec("decimal", places=2), "3", "3.00", "3"),
        (spec("text", suffix=".wld"), "bay", "bay.wld", "bay"),
        (spec("text", suffix=".wld"), "bay.wld", "bay.wld", "bay"),
        (spec("int", prefix="x", suffix="s", special=OFF), "5", "x5s", "5"),
        (spec("int", prefix="x", suffix="s", special=OFF), "off", "0", "off"),
        (spec("endpoint"), "127.0.0.1:80", "127.0.0.1:80", "127.0.0.1:80"),
        (spec("endpoint"), "[::1]:080", "[::1]:80", "[::1]:80"),
        (spec("endpoint"), "", "", "(empty)"),
        (spec("choices", choices=BIRDS, separator="|"), "Gulls, owls", "gulls|owls", "gulls|owls"),
        (spec("choices", choices=BIRDS, separator="|"), "", "", "(empty)"),
        (spec("list", separator=";", pattern="[a-z]+"), "fog, lanterns", "fog;lanterns", "fog;lanterns"),
        (spec("list", separator=" ", unique=False), "a b a", "a b a", "a b a"),
        (spec("id", pattern=r"GW-\d{3}"), "GW-123", "GW-123", "GW-123"),
        (spec("colour"), "#C0392B", "#c0392b", "#c0392b"),
        (spec("colour"), "192 57 43", "#c0392b", "#c0392b"),
        (spec("colour", form="rrggbb"), "#c0392b", "c0392b", "c0392b"),
        (spec("colour", form="r,g,b"), "#c0392b", "192,57,43", "192,57,43"),
        (spec("colour", form="r g b a"), "#c0392b", "192 57 43 255", "192 57 43 255"),
        (spec("colour", form="r g b a", scale=1), "#ff0000", "1 0 0 1", "1 0 0 1"),
        (spec("colour", form="r g b a", scale=1), "0.50 0.25 0", "0.5 0.25 0 1", "0.5 0.25 0 1"),
        (spec("colour", form="#rrggbbaa"), "#c0392b", "#c0392bff", "#c0392bff"),
        (spec("vector", form=ROUTE), "1 2.50 3|90", "1 2.5 3|90", "1 2.5 3|90"),
        (spec("vector", form=ROUTE), "1, 2, -3, 90", "1 2 -3|90", "1 2 -3|90"),
        (spec("vector", form=ROUTE), "heading=90 z=3 y=2 x=1", "1 2 3|90", "1 2 3|90"),
        (spec("date"), "2026-06-20", "2026-06-20", "2026-06-20"),
        (spec("date", form="%d.%m.%Y"), "2026-06-20", "20.06.2026", "2026-06-20"),
        (spec("date", form="%d.%m.%Y"), "20.06.2026", "20.06.2026", "2026-06-20"),
        (spec("time"), "7:05", "07:05", "07:05"),
        (spec("time"), "7pm", "19:00", "19:00"),
        (spec("time", form="%H%M"), "19:30", "1930", "19:30"),
        (spec("cores"), "3, 0-1", "0-1,3", "0-1,3"),
        (spec("cores", stored="hex"), "0,2-3", "0xd", "0,2-3"),
        (spec("cores", stored="hex"), "0xd", "0xd", "0,2-3"),
        (spec("cores", stored="number"), "0,2-3", "13", "0,2-3"),
        (spec("flag"), "on", "", "on"),
        (spec("path", below="charts", endings=(".chart",)), "charts/bay.chart", "bay.chart", "bay.chart"),
        (spec("path"), "logs/a b.txt", "logs/a b.txt", "logs/a b.txt"),
    ],
)
def test_typed_stored_and_shown(setting: Setting, typed: str, stored: str, shown: str) -> None:
    value = values.parse(typed, setting)
    assert values.store(value, setting) == stored
    assert values.show(values.read(stored, setting), setting) == shown
    assert values.describe(setting)


@pytest.mark.parametrize(
    ("setting", "typed", "code", "words", "meant"),
    [
        (spec("bool"), "perhaps", "value-kind", "neither yes nor no", ""),
        (spec("int"), "24.5", "value-kind", "not a whole number", "24"),
        (spec("int"), "24 boats", "value-kind", "not a whole number", "24"),
        (spec("int", range=(1, 8)), "9", "value-range", "above the maximum, 8", "8"),
        (spec("int", range=(1, 8)), "0", "value-range", "below the minimum, 1", "1"),
        (spec("int", range=(10, 60), step=10), "33", "value-step", "steps of 10 from 10", "30"),
        (spec("decimal"), "0,5", "value-kind", "the decimal sign is a point", "0.5"),
        (spec("decimal"), "1e5", "value-kind", "a number belongs here", ""),
        (spec("decimal"), "nan", "value-kind", "a number belongs here", ""),
        (spec("percent", range=(0, 100)), "120%", "value-range", "above the maximum, 100", "100"),
        (spec("duration", stored="minutes"), "90s", "value-unit", "whole minutes", "1m"),
        (spec("duration", stored="minutes"), "soon", "value-kind", "not a duration", ""),
        (spec("duration", stored="minutes"), "", "value-kind", "not a duration", ""),
        (spec("size", stored="gigabytes"), "512M", "value-unit", "whole gigabytes", "1g"),
        (spec("port"), "0", "value-range", "ports go from 1 to 65535", ""),
        (spec("port"), "99999", "value-range", "quietly wrap", ""),
        (
            spec("choice", choices={"spring": "", "storm": ""}),
            "sprng",
            "value-choice",
            "not one of spring, storm",
            "spring",
        ),
        (spec("text", length=(3, 5)), "ab", "value-length", "the minimum is 3", ""),
        (spec("text", length=(3, 5)), "abcdef", "value-length", "the maximum is 5", "abcde"),
        (spec("text"), "a\nb", "value-control", "one line", ""),
        (spec("text"), "a\x1bb", "value-control", "U\\+001B", ""),
        (spec("text", pattern="[a-z]+", example="tide"), "Tide", "value-pattern", "should look like tide", "tide"),
        (spec("text", blocked=Blocked(("pirate",), "It is hidden.")), "PIRATES", "value-blocked", "It is hidden.", ""),
        (spec("secret", pattern=r"\d+", length=(4, 8)), "12", "value-length", "4 to 8 characters", ""),
        (spec("secret", pattern=r"\d+"), "12a", "value-pattern", "digits only", ""),
        (spec("address"), "300.1.1.1", "value-kind", "four numbers from 0 to 255", ""),
        (spec("address"), "a b", "value-kind", "a host name belongs here", ""),
        (spec("url"), "saltmarsh.example", "value-kind", "not a whole web address", "https://saltmarsh.example"),
        (spec("url", schemes=("https",)), "http://a.b", "value-kind", "begin with https", ""),
        (spec("url"), "http://user@host/", "value-kind", "not a whole web address", ""),
        (spec("int", unit="knots"), "12 miles", "value-kind", "not a whole number", "12"),
        (spec("decimal", places=2), "0.125", "value-step", "2 digits after the point", "0.12"),
        (spec("endpoint"), "127.0.0.1", "value-kind", "not an address with a port", ""),
        (spec("endpoint"), "::1:80", "value-kind", "not an address with a port", ""),
        (spec("endpoint"), "127.0.0.1:99999", "value-range", "ports go from 1 to 65535", ""),
        (spec("choices", choices=BIRDS), "gulls,trens", "value-choice", "not one of", "gulls,terns"),
        (spec("choices", choices=BIRDS), "gulls,gulls", "value-entry", "more than once", "gulls"),
        (spec("list", separator=";"), "a;;b", "value-entry", "Entry 2 is empty", "a;b"),
        (spec("list", separator=";", length=(0, 2)), "a;b;c", "value-length", "the maximum is 2", "a;b"),
        (spec("list", length=(2, 3)), "a", "value-length", "the minimum is 2", ""),
        (spec("list", catalogue=("gull", "tern")), "Gull,tern", "value-pattern", "Did you mean gull", "gull,tern"),
        (spec("id", pattern=r"GW-\d{3}", example="GW-123"), "gw-12", "value-pattern", "look like GW-123", ""),
        (spec("colour"), "red", "value-kind", "not a colour", ""),
        (spec("colour"), "#c0392b80", "value-kind", "without an alpha", ""),
        (spec("colour", form="r,g,b"), "300,0,0", "value-range", "from 0 to 255", ""),
        (spec("colour", form="r g b", scale=1), "2 0 0", "value-range", "from 0 to 1", ""),
        (spec("vector", form=ROUTE), "1 2 3", "value-kind", "4 numbers", ""),
        (spec("vector", form=ROUTE, bounds={"heading": (0, 359)}), "1 2 3|360", "value-range", "heading is 360", ""),
        (spec("date"), "2026-02-30", "value-kind", "not a date", ""),
        (spec("time"), "25:00", "value-kind", "not a time of day", ""),
        (spec("cores"), "3-1", "value-kind", "runs backwards", "1-3"),
        (spec("cores"), "0,1024", "value-range", "from 0 to 1023", ""),
        (spec("cores", stored="hex"), "0x0", "value-kind", "a mask in hexadecimal", ""),
        (spec("flag"), "perhaps", "value-kind", "neither on nor off", ""),
        (spec("path", endings=(".chart",)), "bay", "value-pattern", "must end with .chart", ""),
        (spec("path"), "../other", "value-kind", "leads out of its folder", ""),
    ],
)
def test_what_will_not_do_is_said_with_what_was_meant(
    setting: Setting, typed: str, code: str, words: str, meant: str
) -> None:
    with pytest.raises(ValueProblem, match=words) as caught:
        values.store(values.parse(typed, setting), setting)
    assert (caught.value.code, caught.value.meant) == (code, meant)


@pytest.mark.parametrize(
    ("setting", "stored", "code", "meant"),
    [
        (spec("text", suffix=".wld"), "bay", "value-affix", "bay"),
        (spec("text", prefix="map "), "bay", "value-affix", "bay"),
        (spec("date", form="%d.%m.%Y"), "2026-06-20", "value-kind", "2026-06-20"),
        (spec("time"), "7:05", "value-kind", "07:05"),
        (spec("colour"), "c0392b", "value-kind", "#c0392b"),
        (spec("flag"), "yes", "value-kind", "on"),
        (spec("choices", choices=BIRDS, separator="|"), "gulls, owls", "value-choice", ""),
    ],
)
def test_a_file_counts_only_in_its_own_form(setting: Setting, stored: str, code: str, meant: str) -> None:
    with pytest.raises(ValueProblem) as caught:
        values.read(stored, setting)
    assert caught.value.code == code
    assert not meant or values.sure_meaning(caught.value.meant, setting) == meant


@pytest.mark.parametrize(
    ("setting", "taken", "refused"),
    [
        (spec("int", range=(1, 8)), ("1", "8"), ("0", "9")),
        (spec("decimal", range=(0.5, 2)), ("0.5", "2"), ("0.49", "2.01")),
        (spec("int", range=(10, 60), step=10), ("10", "20", "60"), ("15", "59")),
        (spec("port"), ("1", "65535"), ("0", "65536")),
        (spec("percent", range=(0, 100)), ("0", "100"), ("-1", "101")),
        (spec("text", length=(3, 5)), ("abc", "abcde"), ("ab", "abcdef")),
        (spec("duration", stored="minutes", range=(1, 240)), ("1", "240"), ("0", "241")),
    ],
)
def test_the_bounds_themselves_are_taken_and_nothing_beyond(
    setting: Setting, taken: tuple[str, ...], refused: tuple[str, ...]
) -> None:
    for stored in taken:
        values.read(stored, setting)
    for stored in refused:
        with pytest.raises(ValueProblem):
            values.read(stored, setting)


def test_a_unit_in_the_file_keeps_its_meaning_in_the_advice() -> None:
    with pytest.raises(ValueProblem, match="bare number of minutes") as caught:
        values.read("10m", spec("duration", stored="minutes"))
    assert caught.value.meant == "10m"
    with pytest.raises(ValueProblem, match="bare number of megabytes") as caught:
        values.read("2G", spec("size", stored="megabytes"))
    assert caught.value.meant == "2G"


@pytest.mark.parametrize(("stored", "meant"), [("0.6", "0.4"), ("40", "40%"), ("100", "100%"), ("101", "0.4")])
def test_a_percentage_in_a_fraction_is_taken_for_what_it_is(stored: str, meant: str) -> None:
    with pytest.raises(ValueProblem) as caught:
        values.read(stored, spec("percent", stored="fraction", range=(0, 0.4)))
    assert caught.value.meant == meant


@pytest.mark.parametrize("stored", ["True", "TRUE", "yes", "1", " true", "on"])
def test_a_file_counts_only_the_exact_spelling(stored: str) -> None:
    with pytest.raises(ValueProblem, match="silently ignores") as caught:
        values.read(stored, spec("bool"))
    assert (caught.value.code, caught.value.meant) == ("value-spelling", "true")


def test_special_values_count_as_numbers_in_the_rules() -> None:
    setting = spec("duration", stored="minutes", special=NO_LIMIT, range=(1, 9))
    assert values.number_behind(values.read("0", setting), setting) == 0
    assert values.number_behind(values.read("-1", setting), setting) == -60
    assert values.number_behind(values.read("5", setting), setting) == 300


@pytest.mark.parametrize(
    ("seconds", "expected"), [(0.0004, "0ms"), (0.051, "51ms"), (2.04, "2.0s"), (75.5, "1m15s"), (7200, "2h")]
)
def test_how_long_something_took(seconds: float, expected: str) -> None:
    assert values.units.format_elapsed(seconds) == expected


@pytest.mark.parametrize(
    ("place", "there"),
    [
        (OtherPlace(key="Path"), "w_cove.x"),
        (OtherPlace(key="Path", suffix=".wld"), "w_cove.wld"),
        (OtherPlace(key="Path", prefix="worlds/"), "worlds/cove.x"),
        (OtherPlace(key="Path", prefix="", suffix=""), "cove"),
    ],
)
def test_another_place_is_written_as_the_setting_is_where_it_says_nothing_else(place: OtherPlace, there: str) -> None:
    own = spec("text", prefix="w_", suffix=".x")
    assert values.stored_at(place, "w_cove.x", own) == there
