"""Numbers that another unit would make more plausible are noted, and no others."""

from __future__ import annotations

from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from roundgate.core.rulebook.model import Setting
from roundgate.core.values.doubts import doubt_about

PERCENT = Setting(file="core", key="hull.damage", type="percent", stored="percent", range=(0, 100))
FRACTION = Setting(file="core", key="gust.share", type="percent", stored="fraction", range=(0, 1))


@given(st.decimals(min_value=0, max_value=100, places=3))
def test_a_share_below_one_percent_is_noted_with_what_it_may_mean(number: Decimal) -> None:
    doubt = doubt_about(f"{number:f}", PERCENT)
    assert bool(doubt) == (0 < number < 1)
    assert not doubt or f"for {(number * 100).normalize():f}%, write the sign" in doubt
    assert not doubt_about(f"{number:f}%", PERCENT)


def test_where_the_file_holds_a_share_of_one_there_is_no_doubt() -> None:
    assert not doubt_about("0.5", FRACTION)
    assert not doubt_about("half", PERCENT) and not doubt_about("", PERCENT)
    assert not doubt_about("0.5", Setting(file="core", key="wind.scale", type="float"))
