"""The timetable by a simulated clock: whatever it does, each moment is taken once, and what is missed is told."""

from __future__ import annotations

import random
from datetime import date, datetime, timedelta
from functools import partial
from itertools import takewhile
from zoneinfo import ZoneInfo

import pytest

from roundgate.core.timetable.looking import LATE, MomentOutcome, look
from roundgate.core.timetable.moments import DAYS, WrongMoment, check_expressions, expressions, moments_after

ZONES = ("Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata", "UTC", "Europe/London")
YEAR = 365 * 24 * 3600


def wall_moments(at: list[str], days: list[str], zone: ZoneInfo, begin: float, end: float) -> list[float]:
    """Return what a calendar on the wall says, day by day: a time that a clock change leaves out comes right after."""
    found = set()
    day = datetime.fromtimestamp(begin, zone).date() - timedelta(days=1)
    while day <= datetime.fromtimestamp(end, zone).date() + timedelta(days=1):
        if not days or DAYS[day.weekday()] in days:
            for text in at:
                found.add(_on_the_wall(day, int(text[:2]), int(text[3:]), zone))
        day += timedelta(days=1)
    return sorted(moment for moment in found if begin < moment <= end)


def _on_the_wall(day: date, hour: int, minute: int, zone: ZoneInfo) -> float:
    wanted = datetime(day.year, day.month, day.day, hour, minute, tzinfo=zone)
    moment = wanted.timestamp()
    if datetime.fromtimestamp(moment, zone).replace(tzinfo=None) == wanted.replace(tzinfo=None):
        return moment  # the first of two, by the rule of datetime
    while datetime.fromtimestamp(moment - 60, zone).utcoffset() == datetime.fromtimestamp(moment, zone).utcoffset():
        moment -= 60
    return moment


def random_table(rng: random.Random) -> tuple[list[str], list[str], ZoneInfo]:
    at = sorted({f"{rng.randrange(24):02}:{rng.choice((0, 15, 30, 59)):02}" for _ in range(rng.randint(1, 3))})
    days = sorted(set(rng.sample(DAYS, rng.randint(0, 4))))
    return at, days, ZoneInfo(rng.choice(ZONES))


@pytest.mark.parametrize("seed", range(12))
def test_the_moments_of_a_year_are_those_of_a_calendar_on_the_wall(seed: int) -> None:
    rng = random.Random(seed)
    at, days, zone = random_table(rng)
    begin = datetime(2026, rng.randint(1, 12), 3, tzinfo=zone).timestamp()
    end = begin + YEAR
    found = list(takewhile(lambda moment: moment <= end, moments_after(expressions(at, days, ""), zone, begin)))
    assert found == wall_moments(at, days, zone, begin, end), (at, days, zone)


@pytest.mark.parametrize("seed", range(12))
def test_each_moment_of_a_year_is_taken_once_whatever_the_clock_does(seed: int) -> None:
    """The clock jumps an hour either way and back, the machine sleeps, whoever looks is restarted."""
    rng = random.Random(100 + seed)
    at, days, zone = random_table(rng)
    crons = expressions(at, days, "")
    lead, make_up = rng.choice((0.0, 600.0)), rng.choice((0.0, 7200.0))
    begin = now = datetime(2026, 1, 4, tzinfo=zone).timestamp()
    known, taken, carried = begin, dict[float, MomentOutcome](), list[float]()
    told: set[float] = set()
    asleep: list[tuple[float, float]] = []
    ahead = 0.0
    while now < begin + YEAR:
        step = rng.choice((20.0, 60.0, 60.0, 3600.0 * rng.random() * 30)) if rng.random() < 0.02 else None
        found = look(partial(moments_after, crons, zone), known, now + ahead, taken, lead=lead, make_up=make_up)
        known = found.known
        for moment in found.missed:
            assert taken.get(moment) is None or taken[moment] == "missed"
            taken[moment] = "missed"
            told.add(moment)
        if found.due is not None:
            assert taken.get(found.due.at) in (None, "missed")
            assert found.due.made_up == (now + ahead - found.due.at > LATE)
            assert now + ahead >= found.due.at - lead
            taken[found.due.at] = "done"
            carried.append(found.due.at)
        if step is None:
            target = begin + YEAR if found.next is None else found.next - ahead
            now = max(now + 1, min(target + rng.random() * 60, now + 20 * 3600))
        else:  # nobody looks for a while
            asleep.append((now, now + step))
            now += step
        if rng.random() < 0.02:
            ahead = rng.choice((0.0, 3600.0, -3600.0, 0.0))
    assert len(carried) == len(set(carried)), "none twice"
    due = wall_moments(at, days, zone, begin, now - 4 * 3600)
    lost = [moment for moment in due if moment not in taken]
    assert not lost, "each is done, or told as missed"
    undisturbed = [
        moment for moment in due if not any(a - 7300 <= moment <= b + 7300 for a, b in asleep) and moment not in told
    ]
    assert set(undisturbed) <= set(carried)
    assert len(carried) > len(due) * 0.6


def test_times_that_a_clock_change_lays_together_are_one_moment() -> None:
    zone = ZoneInfo("Europe/Berlin")
    crons = expressions(["02:10", "02:40", "03:00"], [], "")
    begin = datetime(2026, 3, 29, 0, 30, tzinfo=zone).timestamp()
    found = list(takewhile(lambda moment: moment < begin + 12 * 3600, moments_after(crons, zone, begin)))
    assert found == [datetime(2026, 3, 29, 3, tzinfo=zone).timestamp()], "half past two does not come that night"


def test_no_moment_before_the_one_asked_from_is_given() -> None:
    """At the second half past two of an autumn night, the first one is over."""
    zone = ZoneInfo("Europe/Berlin")
    after = datetime(2026, 10, 25, 2, 20, fold=1, tzinfo=zone).timestamp()
    assert next(moments_after(["30 1,2,3 * * *"], zone, after)) > after


def test_a_moment_that_was_missed_by_a_wrong_clock_is_carried_out_when_it_comes() -> None:
    crons, zone = expressions(["05:30"], [], ""), ZoneInfo("UTC")
    moments = lambda after: moments_after(crons, zone, after)  # noqa: E731
    five = datetime(2026, 5, 4, 5, tzinfo=zone).timestamp()
    wrong = look(moments, five - 7200, five + 3600 + 60, {})
    assert wrong.due is None and wrong.missed == [five + 1800]
    taken: dict[float, MomentOutcome] = {five + 1800: "missed"}
    assert look(moments, wrong.known, five + 120, taken).due is None, "the clock is right again, and it is not time yet"
    right = look(moments, wrong.known, five + 1801, taken)
    assert right.due is not None and not right.due.made_up
    assert look(moments, right.known, five + 1802, {five + 1800: "done"}).due is None


def test_an_entry_that_was_made_while_the_clock_was_ahead_does_not_wait_for_that_time() -> None:
    crons, zone = expressions(["05:30"], [], ""), ZoneInfo("UTC")
    moments = lambda after: moments_after(crons, zone, after)  # noqa: E731
    five = datetime(2026, 5, 4, 5, tzinfo=zone).timestamp()
    right = look(moments, five + 40 * 24 * 3600, five, {})
    assert right.next == five + 1800
    due = look(moments, right.known, five + 1801, {}).due
    assert due is not None and due.at == five + 1800


@pytest.mark.parametrize(
    ("late", "due", "made_up"),
    [(-601, False, False), (-600, True, False), (LATE, True, False), (LATE + 1, True, True), (7200, True, True),
     (7201, False, False)],
)  # fmt: skip
def test_to_the_second_when_a_moment_is_due_and_when_it_is_missed(late: float, due: bool, made_up: bool) -> None:
    """Ten minutes before it its work begins; it is made up for up to two hours after it."""
    zone = ZoneInfo("UTC")
    at = datetime(2026, 5, 4, 5, tzinfo=zone).timestamp()
    moments = lambda after: moments_after(expressions(["05:00"], [], ""), zone, after)  # noqa: E731
    found = look(moments, at - 3600, at + late, {}, lead=600, make_up=7200)
    assert (found.due is not None, bool(found.due and found.due.made_up)) == (due, made_up)
    assert found.missed == ([at] if late > 7200 else [])
    assert found.next == at - 600 if late < -600 else at + 24 * 3600 - 600


def test_only_the_last_missed_one_is_made_up() -> None:
    crons, zone = expressions(["04:00", "05:00", "06:00"], [], ""), ZoneInfo("UTC")
    at = datetime(2026, 5, 4, 6, 40, tzinfo=zone).timestamp()
    found = look(lambda after: moments_after(crons, zone, after), at - 9 * 3600, at, {}, make_up=3 * 3600)
    hour = at - 40 * 60
    assert found.due is not None and (found.due.at, found.due.made_up) == (hour, True)
    assert found.missed == [hour - 7200, hour - 3600]
    skip: dict[float, MomentOutcome] = {hour: "skip"}
    left = look(lambda after: moments_after(crons, zone, after), at - 2 * 3600, at, skip)
    assert left.skipped == [hour] and left.missed == [hour - 3600] and left.due is None


@pytest.mark.parametrize(
    ("at", "days", "cron", "words"),
    [
        ([], [], "", "it needs 'at'"),
        (["05:00"], [], "0 5 * * *", "and not both"),
        (["5"], [], "", "'5' is not a time of day"),
        (["24:00"], [], "", "'24:00' is not a time of day"),
        (["05:00"], ["noday"], "", "'noday' is not a weekday"),
        ([], ["mon"], "0 5 * * *", "'days' goes with 'at'"),
        ([], [], "61 * * * *", "'61 * * * *' is not a cron expression: bad minute"),
        ([], [], "0 0 31 2 *", "is not a cron expression: bad day-of-month"),
        ([], [], "* * * * * *", "has not five parts"),
        ([], [], "@daily", "is not a cron expression"),
    ],
)
def test_what_is_no_moment(at: list[str], days: list[str], cron: str, words: str) -> None:
    with pytest.raises(WrongMoment, match=None) as error:
        check_expressions(expressions(at, days, cron))
    assert words in str(error.value)
