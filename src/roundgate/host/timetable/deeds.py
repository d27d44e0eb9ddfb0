"""Carrying out what is due: a restart, what waits, a backup, a line for the console, a check."""

from __future__ import annotations

import sqlite3
import time
from typing import NamedTuple

from roundgate.core.findings import Finding
from roundgate.core.notices.model import Notice, NoticeEvent
from roundgate.core.rounds import RoundKind, RoundOutcome
from roundgate.core.timetable.looking import MomentOutcome
from roundgate.host.backups.holding import held_still
from roundgate.host.backups.making import make_backup, turn
from roundgate.host.checking import check_one
from roundgate.host.consoles import console_of
from roundgate.host.drivers import driver_of
from roundgate.host.errors import Trouble
from roundgate.host.notices.outbox import tell
from roundgate.host.rounds.events import RoundEnded
from roundgate.host.rounds.gather import gather_at_rest
from roundgate.host.rounds.locking import held, refuse_broken_off
from roundgate.host.rounds.options import Options
from roundgate.host.rounds.process import launch
from roundgate.host.servers import Server
from roundgate.host.store import Store
from roundgate.host.timetable.looking import DueNow
from roundgate.host.timetable.plan import PlannedEntry
from roundgate.host.workspace import Workspace

_MOST_NAMED = 5
"""Findings that a notice names; of more it says how many."""


class Result(NamedTuple):
    """What became of a deed, in a word and in a sentence."""

    outcome: MomentOutcome
    detail: str


def carry_out(server: Server, planned: PlannedEntry, due: DueNow) -> Result:
    """Do what an entry says; what goes wrong is in the result, and sent as a notice."""
    try:
        result = _done(server, planned, due)
    except Trouble as error:
        result = Result("failed", error.what)
    except (OSError, sqlite3.Error) as error:
        result = Result("failed", f"{getattr(error, 'strerror', None) or error}.")
    except Exception as error:  # noqa: BLE001 - a moment that was claimed must not be left as if it went on
        result = Result("failed", f"an unexpected error occurred: {type(error).__name__}: {error}")
    if result.outcome == "failed":
        message = f"{planned.name} ({planned.entry.do}) of {server.name} failed: {result.detail}"
        tell(server.site, Notice(NoticeEvent.FAILED, message, server.name))
    return result


def _done(server: Server, planned: PlannedEntry, due: DueNow) -> Result:
    entry = planned.entry
    if entry.do in ("restart", "apply"):
        return _round(server, planned, due)
    if entry.do == "backup":
        return _backup(server, planned)
    if entry.do == "send":
        return _send(server, entry.line)
    return _check(server, planned)


def _round(server: Server, planned: PlannedEntry, due: DueNow) -> Result:
    entry = planned.entry
    store = Store(server.site.state)
    driver = driver_of(server)
    try:
        state = driver.state()
        refuse_broken_off(server, store)
        with held(server, store):
            pass  # told here where another round holds it; the round's own process takes the lock for good
        if entry.do == "restart" and not state.runs:
            return Result("needless", f"{server.name} is down.")
        if entry.do == "apply":
            gathered = gather_at_rest(Workspace(server, store.slate(server.name)), state)
            if not gathered.review.changes and not gathered.differs:
                return Result("needless", "Nothing waits.")
        options = Options(
            kind=RoundKind.RESTART if entry.do == "restart" else RoundKind.APPLY,
            countdown=planned.lead,
            reason=entry.reason,
            when_empty=entry.when_empty,
            empty_within=planned.wait_at_most,
            at=due.at if due.at > time.time() else None,
            silent=entry.silent,
        )
        window = launch(server, store, options)
        ended = next((event for event in window.events() if isinstance(event, RoundEnded)), None)
        window.close()
    finally:
        driver.close()
        store.close()
    if ended is None:
        return Result("failed", f"round {window.number} broke off")
    is_well = ended.outcome.went_well or ended.outcome is RoundOutcome.WRITTEN
    return Result("done" if is_well else "failed", f"round {window.number}: {ended.message}")


def _backup(server: Server, planned: PlannedEntry) -> Result:
    with turn(server.site), held_still(server, despite=False) as is_held:
        made, _ = make_backup(server, "whole" if planned.entry.whole else "worlds", held=is_held)
    return Result("done", f"backup {made.number}")


def _send(server: Server, line: str) -> Result:
    driver = driver_of(server)
    try:
        if not driver.state().runs:
            return Result("needless", f"{server.name} is down.")
        console = console_of(server, driver)
        console.send(line)
        console.close()
    finally:
        driver.close()
    return Result("done", "sent")


def _check(server: Server, planned: PlannedEntry) -> Result:
    store = Store(server.site.state)
    try:
        found = check_one(Workspace(server, store.slate(server.name)))
    finally:
        store.close()
    told = [finding for finding in found if finding.level in ("error", "warning")]
    if not told:
        return Result("done", "nothing wrong")
    count = f"{len(told)} finding{'s' if len(told) > 1 else ''}"
    lines = "; ".join(_format_finding(finding) for finding in told[:_MOST_NAMED])
    more = f"; and {len(told) - _MOST_NAMED} more" if len(told) > _MOST_NAMED else ""
    message = f"{planned.name}: {count} on {server.name}: {lines}{more}"
    tell(server.site, Notice(NoticeEvent.FINDINGS, message, server.name))
    return Result("done", count)


def _format_finding(finding: Finding) -> str:
    place = f"{finding.place.file}:{finding.place.line}" if finding.place.line else finding.place.file
    return f"{place} {finding.cause}"
