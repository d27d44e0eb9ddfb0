"""``apply``, and the rounds: ``rounds list``, ``show``, ``rewind``, ``recover`` and ``cancel``."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Annotated, Any

import typer
from msgspec.structs import replace

from roundgate.cli.complete import complete_server
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_do, echo_json, echo_next, echo_table, styled
from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundKind
from roundgate.host.errors import WrongUsage
from roundgate.host.rounds.options import Options

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext
    from roundgate.host.servers import Server

Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]
RoundNumber = Annotated[
    int, typer.Argument(metavar="NUMBER", min=1, max=10**9, help="Which round; 'rounds list' shows them.")
]
WHEN, PLAYERS, SAFETY, SEVERAL = "When", "Players", "Safety", "Several servers"
Yes = Annotated[bool, typer.Option("--yes", "-y", help="Do not ask.")]
Countdown = Annotated[
    str,
    typer.Option(
        metavar="TIME", help="Announce it to the players, and wait this long: 5m, 30s.", rich_help_panel=PLAYERS
    ),
]
Reason = Annotated[str, typer.Option(metavar="TEXT", help="The message for the players.", rich_help_panel=PLAYERS)]
Silent = Annotated[
    bool, typer.Option("--silent", help="Continue even if the players cannot be notified.", rich_help_panel=PLAYERS)
]
WhenEmpty = Annotated[
    bool, typer.Option("--when-empty", help="Wait until no players are on the server.", rich_help_panel=WHEN)
]
EmptyTimeout = Annotated[
    str,
    typer.Option(
        "--empty-timeout",
        metavar="TIME",
        help="As --when-empty, but go on after this long, such as 2h.",
        rich_help_panel=WHEN,
    ),
]
At = Annotated[str | None, typer.Option(metavar="HH:MM", help="Wait until this time of day.", rich_help_panel=WHEN)]
Backup = Annotated[bool, typer.Option("--backup", help="Save the worlds too.", rich_help_panel=SAFETY)]
Force = Annotated[bool, typer.Option("--force", help="Go on even if there are errors on disk.", rich_help_panel=SAFETY)]
Kill = Annotated[
    bool,
    typer.Option("--kill", help="Use SIGKILL on a server that ignores everything else.", rich_help_panel=SAFETY),
]
Waves = Annotated[
    str, typer.Option("--waves", metavar="SIZES", help="How many in each wave: 1,3,rest.", rich_help_panel=SEVERAL)
]
Parallel = Annotated[
    int, typer.Option("--parallel", metavar="NUMBER", min=0, help="How many at a time.", rich_help_panel=SEVERAL)
]
ContinueOnError = Annotated[
    bool,
    typer.Option(
        "--continue-on-error", help="With --waves: start the next wave even if one failed.", rich_help_panel=SEVERAL
    ),
]


def apply(
    server: Annotated[
        str | None, typer.Argument(metavar="[SERVER]", help="Which servers.", autocompletion=complete_server)
    ] = None,
    yes: Yes = False,
    live: Annotated[bool, typer.Option("--live", help="Apply only what needs no stop, by the console.")] = False,
    start: Annotated[bool, typer.Option("--start", help="Start a server that is down.")] = False,
    when_empty: WhenEmpty = False,
    empty_timeout: EmptyTimeout = "0s",
    at: At = None,
    countdown: Countdown = "0s",
    reason: Reason = "",
    silent: Silent = False,
    backup: Backup = False,
    keep: Annotated[
        bool, typer.Option("--keep", help="Keep the change even if it is not proven.", rich_help_panel=SAFETY)
    ] = False,
    force: Force = False,
    kill: Kill = False,
    waves: Waves = "",
    parallel: Parallel = 0,
    continue_on_error: ContinueOnError = False,
) -> None:
    """Bring the slate into force: stop, write, start, prove; or restore everything.

    Several servers are brought up to date one after the other, each asked for. With --waves or --parallel all are
    reviewed and agreed to at once; the next wave only begins when the last one is proven.
    """
    from roundgate.cli.rounding import moment, seconds

    context = open_call()
    options = Options(
        countdown=seconds(countdown),
        reason=reason,
        when_empty=when_empty,
        at=moment(at),
        backup=backup,
        keep=keep,
        kill=kill,
        silent=silent,
        despite_errors=force,
        start=start,
    )
    options = no_longer_than(options, empty_timeout)
    if live and (waves or parallel):
        raise WrongUsage("Live changes need no waves.", typed_command("apply", "<server>", options=("--live",)))
    if waves or parallel:
        code = _apply_in_waves(context, context.several(server), options, (waves, parallel, continue_on_error), yes=yes)
        if code:
            raise typer.Exit(code)
        return
    codes = [_apply_one(context, opened, options, yes=yes, live=live) for opened in context.several(server)]
    if any(codes):
        raise typer.Exit(max(codes))


def no_longer_than(options: Options, timeout: str) -> Options:
    """Let a wait for an empty server have an end, where one was given. Raises WrongUsage."""
    from roundgate.cli.rounding import seconds

    longest = seconds(timeout)
    return replace(options, when_empty=True, empty_within=longest) if longest else options


def _apply_in_waves(
    context: CallContext, servers: list[Server], options: Options, how: tuple[str, int, bool], *, yes: bool
) -> int:
    """Review all servers, ask once, and run their rounds as ``how``, the options, say. Give the exit code."""
    from roundgate.cli.fleet.waves import PlannedRound, run_in_waves, wave_sizes
    from roundgate.cli.rounding import agreed

    planned: list[PlannedRound] = []
    wave_sizes(how[0], 1)
    for server in servers:
        gathered = context.open(server).review()
        if not gathered.review.changes and not gathered.differs:
            if gathered.started is None and options.start:
                planned.append(PlannedRound(server, replace(options, kind=RoundKind.START)))
            else:
                echo(f"{server.name}: nothing waits.")
        elif _is_right(server, gathered, options, diff=not yes):
            planned.append(PlannedRound(server, replace(options, reviewed=gathered.digest)))
        else:
            echo("Nothing was done on any server.")
            return 1
    if not planned:
        return 0
    names = ", ".join(row.server.name for row in planned)
    if not agreed(f"Bring this into force on {names}?", yes=yes):
        return 1
    waves, parallel, go_on = how
    return run_in_waves(planned, context.store, waves=waves, together=parallel, go_on=go_on)


def _apply_one(context: CallContext, server: Server, options: Options, *, yes: bool, live: bool) -> int:
    from roundgate.cli.rounding import apply_live, run_round
    from roundgate.host.rounds.locking import refuse_broken_off

    refuse_broken_off(server, context.store)
    if live:
        return apply_live(context, server)
    gathered = context.open(server).review()
    if not gathered.review.changes and not gathered.differs:
        if gathered.started is not None:
            echo(f"{server.name}: nothing waits, and what is on disk is what runs.")
        elif options.start:
            return run_round(context, server, replace(options, kind=RoundKind.START))
        elif server.mirror is not None and server.mirror.out_of_reach is not None:
            raise server.mirror.out_of_reach  # nothing is known of it
        else:
            echo(f"{server.name}: nothing waits, and it is down.")
            echo_next(typed_command("start", server.name))
        return 0
    if not _agreed(server, gathered, options, yes=yes):
        return 1
    return run_round(context, server, replace(options, reviewed=gathered.digest))


def _agreed(server: Server, gathered: Any, options: Options, *, yes: bool) -> bool:
    """Show the review and its errors; ask."""
    from roundgate.cli.rounding import agreed

    if not _is_right(server, gathered, options, diff=not yes):
        return False
    return agreed(f"Bring this into force on {server.name}?", yes=yes)


def _is_right(server: Server, gathered: Any, options: Options, *, diff: bool) -> bool:
    """Show the review and its errors; return whether the round may begin."""
    from roundgate.cli.screen.findings import echo_findings
    from roundgate.cli.screen.review import echo_review

    echo(styled(server.name, "bold"))
    echo_review(gathered, diff=diff)
    errors = [finding for finding in gathered.findings if finding.level == "error"]
    new = [error for error in errors if error.waiting]
    if new or (errors and not options.despite_errors):
        echo()
        echo_findings(new or errors)
        if new:
            echo("The changes have errors, so nothing was done.")
            echo_do(typed_command("discard", server.name, "<name>"))
        else:
            echo("There are errors on disk already, so nothing was done.")
            echo("  hint: To go on in spite of them, apply with --force.")
            echo_do(typed_command("check", server.name))
        return False
    return True


def rewind(
    number: RoundNumber,
    yes: Yes = False,
    countdown: Countdown = "0s",
    reason: Reason = "",
    silent: Silent = False,
    kill: Kill = False,
) -> None:
    """Put a server's files back as they were before a round, by a round of its own. The slate stays."""
    from roundgate.cli.rounding import agreed, echo_rewind, run_round, seconds
    from roundgate.host.rounds.locking import refuse_broken_off

    context = open_call()
    row = context.store.round(number)
    if row is None:
        raise WrongUsage(f"There is no round {number}.", typed_command("rounds"))
    server = context.opened(row.server).server
    refuse_broken_off(server, context.store)
    if not echo_rewind(context, server, number):
        echo(f"{server.name}: the files are as they were before round {number} already.")
        return
    if not agreed(f"Put these files of {server.name} back?", yes=yes):
        raise typer.Exit(1)
    options = Options(
        kind=RoundKind.REWIND, target=number, countdown=seconds(countdown), reason=reason, silent=silent, kill=kill
    )
    code = run_round(context, server, options)
    if code:
        raise typer.Exit(code)


def recover(
    server: Annotated[
        str | None,
        typer.Argument(metavar="[SERVER]", help="Which servers; default: all.", autocompletion=complete_server),
    ] = None,
) -> None:
    """Finish rounds that a crash or a power cut broke off: the files wholly old or wholly new, the server up."""
    from roundgate.cli.rounding import watch
    from roundgate.host.rounds.locking import broken_off
    from roundgate.host.rounds.process import launch_recovery

    context = open_call(quiet=True)
    codes = [0]
    for opened in context.several(server, default_all=server is None, lenient=True):
        row = broken_off(opened, context.store)
        if row is None:
            echo(f"{opened.name}: no round was interrupted.")
            continue
        echo(f"{opened.name}: recovering round {row.number}")
        codes.append(min(watch(partial(launch_recovery, opened, row.number), context.store), 5))
        closed = context.store.round(row.number)
        if closed and closed.outcome in ("failed", "rewound"):
            codes[-1] = 0  # that is what recovery is for
    if any(codes):
        raise typer.Exit(max(codes))


def cancel(
    server: Annotated[
        str | None, typer.Argument(metavar="[SERVER]", help="Which servers.", autocompletion=complete_server)
    ] = None,
) -> None:
    """Call off the round that waits for a server, from any terminal, until it begins to write; players are notified."""
    from roundgate.host.rounds.locking import is_at_work
    from roundgate.host.rounds.process import call_off

    context = open_call(quiet=True)
    for opened in context.several(server):
        row = next((row for row in context.store.open_rounds(opened.name) if is_at_work(row)), None)
        if row is None:
            echo(f"{opened.name}: no round is at work.")
            continue
        if any(line.step == "write" and line.mark == "begin" for line in context.store.journal(row.number)):
            echo(f"{opened.name}: round {row.number} writes already, so it cannot be called off any more.")
            raise typer.Exit(1)
        call_off(row)
        echo(f"{opened.name}: round {row.number} ({row.kind}) of {row.by} is asked to end; that works until it writes.")
        echo_next(typed_command("rounds show", "", row.number))


def list_rounds(
    server: Annotated[
        str | None, typer.Argument(metavar="[SERVER]", help="Of which server.", autocompletion=complete_server)
    ] = None,
    as_json: Json = False,
) -> None:
    """List the rounds so far, the newest first."""
    from roundgate.cli.history import round_output, table_rows

    context = open_call()
    name = context.one(server).name if server else None
    rows = context.store.rounds(name)
    if as_json:
        echo_json([round_output(context.store, row) for row in rows])
        return
    listed = table_rows(context, rows, [name] if name else list(context.site.file.server))
    if not listed:
        echo("No round yet.")
        return
    headers = ("round", "server", "what", "when", "by", "outcome", "changes")
    echo_table(headers, listed)
    echo(f"One of them: roundgate rounds show {rows[0].number}" if rows else "")


def show_round(number: RoundNumber, as_json: Json = False) -> None:
    """Show one round: its steps, its changes, its outcome."""
    from roundgate.cli.history import echo_round

    echo_round(open_call(), number, as_json=as_json)
