"""The step announce: wait for a time or for an empty server, and count down on the console."""

from __future__ import annotations

import contextlib
import re
import time

from roundgate.core.rounds import RoundOutcome, Step
from roundgate.core.values.units import format_seconds, parse_seconds
from roundgate.host.consoles.lines import filled
from roundgate.host.errors import ConsoleCut, Trouble, WrongUsage
from roundgate.host.rounds.context import Round
from roundgate.host.rounds.options import RoundAborted

_CLOCK_CHECKED = 20.0
"""Seconds after which a wait for a time of day looks at the clock again: somebody may have set it."""


def announce(round: Round) -> None:
    """Wait as asked, and tell the players. Raises RoundAborted where it is called off or nobody can be told."""
    options = round.options
    round.driver.follow()
    countdown = options.countdown
    if options.at is not None:
        countdown = min(countdown, max(0.0, options.at - time.time()))  # it happens at the time that was asked for
        _wait_until(
            round, options.at - countdown, f"waiting until {time.strftime('%H:%M', time.localtime(options.at))}"
        )
    if options.when_empty:
        _wait_until_empty(round)
    try:
        _count_down(round, countdown)
    except RoundAborted:
        tell_called_off(round)
        raise
    round.check_called_off(Step.ANNOUNCE)


def tell_called_off(round: Round) -> None:
    """Tell the players that it does not take place. The round ends whether or not they can be told so."""
    with contextlib.suppress(Trouble):
        _say(round, _filled(round, round.server.site.file.countdown.called_off, 0))


def _wait_until(round: Round, moment: float, what: str) -> None:
    """Wait for a moment of the clock, in seconds since 1970; a clock that is set meanwhile counts as it is then."""
    left = moment - time.time()
    if left <= 0:
        return
    round.journal.waits(Step.ANNOUNCE, what, left)
    while (left := moment - time.time()) > 0:
        round.check_called_off(Step.ANNOUNCE)
        _refuse_dead(round, round.log.hear(time.monotonic() + min(left, _CLOCK_CHECKED), may_be_called_off=True))


def _wait_for(round: Round, until: float) -> None:
    """Wait for a moment of the monotonic clock."""
    while time.monotonic() < until:
        round.check_called_off(Step.ANNOUNCE)
        _refuse_dead(round, round.log.hear(until, may_be_called_off=True))


def _refuse_dead(round: Round, event: dict[str, object] | None) -> None:
    if event and event["event"] == "exit":
        raise RoundAborted(
            RoundOutcome.FAILED, f"{round.server.name} ended by itself while the round waited; nothing was changed."
        )


def _wait_until_empty(round: Round) -> None:
    """Wait until nobody is aboard; whoever comes and goes is seen in the log, so nothing is asked twice."""
    waiting = False
    if not round.driver.counts_players:
        message = f"Nobody counts the players of {round.server.name}: its driver is '{round.driver.kind}'."
        raise RoundAborted(RoundOutcome.REFUSED, message, "Leave --when-empty out.")
    longest = round.options.empty_within
    until = time.monotonic() + longest if longest else None
    while (players := round.driver.state().players) > 0:
        if not waiting:
            round.journal.waits(Step.ANNOUNCE, "waiting until no players are aboard", longest or None)
            waiting = True
        if until is not None and time.monotonic() >= until:
            reason = f"after {format_seconds(round_off(longest))} there are still {players} aboard; the round goes on"
            round.journal.note(Step.ANNOUNCE, reason)
            return
        round.check_called_off(Step.ANNOUNCE)
        _refuse_dead(round, round.log.hear(until, may_be_called_off=True))


def _count_down(round: Round, left: float) -> None:
    end = time.monotonic() + left
    marks = sorted((float(parse_seconds(mark)) for mark in round.server.site.file.countdown.marks), reverse=True)
    for mark in (left, *(mark for mark in marks if mark < left)):
        if mark <= 0:
            return
        _wait_for(round, end - mark)
        _tell(round, mark)
        round.journal.waits(Step.ANNOUNCE, "counting down", max(end - time.monotonic(), 0))
    _wait_for(round, end)


def _tell(round: Round, seconds: float) -> None:
    text = _filled(round, round.server.site.file.countdown.text, seconds)
    try:
        _say(round, text)
    except ConsoleCut as error:
        if not round.options.silent:
            message = f"The players could not be told: {error.what}"
            raise RoundAborted(
                RoundOutcome.REFUSED, message, "Fix the console, or apply with --silent to go on without"
            ) from error
        round.journal.note(Step.ANNOUNCE, f"the players could not be told: {error.what}")
    else:
        round.journal.note(Step.ANNOUNCE, text)


def _filled(round: Round, template: str, left: float) -> str:
    """Fill what players are told."""
    stops, reason = round.plan.ends_up == "down", round.options.reason
    fields = {
        "what": "stops" if stops else "restarts",
        "noun": "stop" if stops else "restart",
        "left": format_seconds(round_off(left)),
        "because": f": {reason}" if reason else "",
        "reason": reason,
        "server": round.server.name,
        "time": time.strftime("%H:%M", time.localtime(time.time() + left)),
    }
    return re.sub(r"\{(\w+)\}", lambda match: fields.get(match[1], match[0]), template)


def round_off(seconds: float) -> int:
    """Return whole seconds, at least one."""
    return max(1, round(seconds))


def _say(round: Round, text: str) -> None:
    form = round.server.book.server.say
    if not form:
        raise ConsoleCut("the rulebook does not say how to speak to the players.")
    try:
        round.console.send(filled(form, {"text": text}, round.server.book.server))
    except WrongUsage as error:
        raise RoundAborted(
            RoundOutcome.REFUSED, f"The announcement cannot be sent: {error.what}", "Change --reason."
        ) from error
