"""The notices of a round: that it is planned, that the server goes down, and how it ended."""

from __future__ import annotations

import contextlib
import time
from typing import TYPE_CHECKING

from roundgate.core.notices.model import Notice, NoticeEvent
from roundgate.core.rounds import RoundOutcome, Step
from roundgate.core.values.units import format_elapsed, format_seconds
from roundgate.host.errors import Trouble

if TYPE_CHECKING:
    from roundgate.host.rounds.bring_up import RoundResult
    from roundgate.host.rounds.context import Round


def tell_planned(round: Round) -> None:
    """Tell that a round waits for its time, for an empty server, or counts down."""
    options = round.options
    if options.at is None and not options.when_empty and not options.countdown:
        return
    if options.at is not None:
        moment = f"at {time.strftime('%H:%M', time.localtime(options.at))}"
    elif options.countdown:
        moment = f"in {format_seconds(max(1, int(options.countdown)))}"
    else:
        moment = "once no players are on it"
    if options.when_empty and (options.at is not None or options.countdown):
        moment += ", or later: once no players are on it"
    round.planned = True
    _tell(round, NoticeEvent.PLANNED, f"{round.server.name} {_going(round)} {moment}{_reason(round)}.")


def tell_going_down(round: Round) -> None:
    """Tell that the server is being stopped, and for how long."""
    round.down_since = time.time()
    expected = _expected(round) if round.plan.ends_up != "down" else None
    about = f" It should be back in {format_seconds(max(1, int(expected + 0.5)))}." if expected is not None else ""
    stays = " It stays down." if round.plan.ends_up == "down" else ""
    message = f"{round.server.name} goes down now{_reason(round)}.{about}{stays}"
    _tell(round, NoticeEvent.GOING_DOWN, message, expected=expected)


def tell_end(round: Round, end: RoundResult, message: str) -> None:
    """Tell how a round ended, where anybody outside has seen or heard of it. ``message`` is without secrets."""
    was_down = round.down_since is not None or (Step.STOP, "begin") in round.journal.marks
    took = None if round.down_since is None else time.time() - round.down_since
    after = f" after {format_elapsed(took)}" if took is not None else ""
    name, outcome = round.server.name, end.outcome
    if outcome is RoundOutcome.REWOUND:
        how = f"{name} is up again{after} as it was" if was_down else f"{name} runs on as it was"
        text = f"{how}: a change was not proven and was put back."
        _tell(round, NoticeEvent.REWOUND, text, took=took)
    elif outcome is RoundOutcome.UNFINISHED and round.down_since is None:
        return  # the keeper tries its recovery again and again; it was told when it began
    elif outcome in (RoundOutcome.LOST, RoundOutcome.UNFINISHED):
        _tell(round, NoticeEvent.FAILED, f"{name}: {message}", took=took)
    elif was_down or (Step.START, "begin") in round.journal.marks:
        if round.plan.ends_up != "down" and outcome.went_well:
            again = " again" if was_down else ""
            _tell(round, NoticeEvent.UP_AGAIN, f"{name} is up{again}{after}{_reason(round)}.", took=took)
        elif round.plan.ends_up != "down" or not outcome.went_well:
            _tell(round, NoticeEvent.FAILED, f"{name}: {message}", took=took)
    elif round.planned:
        _tell(round, NoticeEvent.CALLED_OFF, f"{name} {_going(round)} not after all: {message}")


def _going(round: Round) -> str:
    return "stops" if round.plan.ends_up == "down" else "restarts"


def _reason(round: Round) -> str:
    return f": {round.without_secrets(round.options.reason)}" if round.options.reason else ""


def _expected(round: Round) -> float | None:
    """Return how long the last outage of the server took, step by step; None where it is not known."""
    stop, start = (round.store.timing(round.server.name, step) for step in (Step.STOP, Step.START))
    if stop is None or start is None:
        return None
    # The watch time of a broken rulebook is not known, and a notice goes out without the expected time.
    with contextlib.suppress(Trouble):
        return stop + start + round.server.seconds("watch")
    return None


def _tell(
    round: Round, event: NoticeEvent, message: str, *, expected: float | None = None, took: float | None = None
) -> None:
    site = round.server.site
    if not site.file.notices.recipients:
        return
    from roundgate.host.notices.outbox import tell  # most sites tell nobody

    reason = round.without_secrets(round.options.reason)
    number = round.number
    with contextlib.suppress(Exception):  # whatever is wrong with a notice, the server comes first
        tell(
            site,
            Notice(event, message, round.server.name, reason=reason, expected=expected, took=took, round=number),
        )
