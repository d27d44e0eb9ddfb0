"""Run: ``start``, ``stop``, ``restart``, ``console``, ``send`` and ``log``: the server's life without a change."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from msgspec.structs import replace

from roundgate.cli.apply import (
    At,
    Backup,
    ContinueOnError,
    Countdown,
    EmptyTimeout,
    Force,
    Kill,
    Parallel,
    Reason,
    Silent,
    Waves,
    WhenEmpty,
    no_longer_than,
)
from roundgate.cli.complete import complete_server
from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, plain, warn
from roundgate.core.next_step import typed_command
from roundgate.core.rounds import RoundKind
from roundgate.host.errors import BooksUnusable, Trouble, WrongUsage, as_trouble
from roundgate.host.rounds.options import Options
from roundgate.host.servers import Server
from roundgate.host.site import is_server_word

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext

AnyYes = Annotated[bool, typer.Option("--yes", "-y", help="Accepted for scripts: nothing is asked.")]
Which = Annotated[str | None, typer.Argument(metavar="[SERVER]", help="Which servers.", autocompletion=complete_server)]


def start(server: Which = None, _yes: AnyYes = False) -> None:
    """Start a server, wait until it is ready, and see that it stays up and owns its ports."""
    _run(server, Options(kind=RoundKind.START))


def stop(
    server: Which = None,
    countdown: Countdown = "0s",
    reason: Reason = "",
    when_empty: WhenEmpty = False,
    at: At = None,
    silent: Silent = False,
    kill: Kill = False,
    _yes: AnyYes = False,
) -> None:
    """Stop a server and make sure that it is gone. What was set live, or edited by hand meanwhile, is kept."""
    _run(server, _options(RoundKind.STOP, countdown, reason, when_empty, at, silent=silent, kill=kill))


def restart(
    server: Which = None,
    countdown: Countdown = "0s",
    reason: Reason = "",
    when_empty: WhenEmpty = False,
    empty_timeout: EmptyTimeout = "0s",
    at: At = None,
    backup: Backup = False,
    silent: Silent = False,
    kill: Kill = False,
    force: Force = False,
    waves: Waves = "",
    parallel: Parallel = 0,
    continue_on_error: ContinueOnError = False,
    _yes: AnyYes = False,
) -> None:
    """Stop and start a server. The slate waits on; what was set live, or edited by hand meanwhile, is kept.

    Several servers are restarted one after the other; with --waves or --parallel, several at a time.
    """
    options = _options(RoundKind.RESTART, countdown, reason, when_empty, at, silent=silent, kill=kill)
    options = replace(no_longer_than(options, empty_timeout), backup=backup, despite_errors=force)
    if not waves and not parallel:
        _run(server, options)
        return
    from roundgate.cli.fleet.waves import PlannedRound, run_in_waves

    context = open_call()
    planned = [PlannedRound(opened, options) for opened in context.several(server)]
    code = run_in_waves(planned, context.store, waves=waves, together=parallel, go_on=continue_on_error)
    if code:
        raise typer.Exit(code)


def _options(
    kind: RoundKind, countdown: str, reason: str, when_empty: bool, at: str | None, *, silent: bool, kill: bool
) -> Options:
    from roundgate.cli.rounding import moment, seconds

    return Options(
        kind=kind,
        countdown=seconds(countdown),
        reason=reason,
        when_empty=when_empty,
        at=moment(at),
        silent=silent,
        kill=kill,
    )


def _run(word: str | None, options: Options) -> None:
    from roundgate.cli.rounding import run_round
    from roundgate.host.rounds.locking import refuse_broken_off

    codes = []
    try:
        context = open_call()
        servers = context.several(word, lenient=options.kind is RoundKind.STOP)
    except BooksUnusable as error:
        _run_bare(word, options, error)
        return
    for server in servers:
        try:
            refuse_broken_off(server, context.store)
            codes.append(run_round(context, server, options))
        except Exception as error:
            trouble = as_trouble(error)
            if not isinstance(trouble, BooksUnusable):
                raise
            _run_bare(server.name, options, trouble)
    if any(codes):
        raise typer.Exit(max(codes))


def _run_bare(word: str | None, options: Options, why: BooksUnusable) -> None:
    """Stop or start servers without the books. Raises BooksUnusable for what needs them."""
    from roundgate.cli import named_site
    from roundgate.host.rounds.bare import start_bare, stop_bare
    from roundgate.host.site import choose_servers, find_site

    if options.countdown or options.when_empty or options.at is not None:
        raise why
    site = find_site(named_site.SITE_NAMED, Path.cwd())
    warn(f"warning  {why.what}")
    warn(f"  The {options.kind} goes on without the books: it is not a round, and nothing is written into files.")
    for name in choose_servers(site, word, Path.cwd()):
        server = Server(site, name, lenient=True)
        if options.kind in ("stop", "restart"):
            echo(stop_bare(server, kill=options.kill))
        if options.kind in ("start", "restart"):
            echo(start_bare(server))


def send(arguments: Annotated[list[str], typer.Argument(metavar="[SERVER] LINE")]) -> None:
    """Send one line to a running server's console, and show what it answers within a moment."""
    context = open_call()
    named = len(arguments) > 1 and is_server_word(context.site, arguments[0])
    word, rest = (arguments[0], arguments[1:]) if named else (None, arguments)
    server = context.one(word)
    line = " ".join(rest)
    answers = _send(server, line)
    for answer in answers:
        echo(plain(answer))
    _note_live(context, server, line)


def _send(server: Server, line: str) -> list[str]:
    from roundgate.host.consoles import console_of
    from roundgate.host.drivers import driver_of

    driver = driver_of(server)
    try:
        if not driver.state().runs:
            raise Trouble(f"{server.name} is down.", typed_command("start", server.name))
        console = console_of(server, driver)
        heard = console.exchange(line)
        console.close()
    finally:
        driver.close()
    return heard


def _note_live(context: CallContext, server: Server, line: str) -> None:
    """Remember where a line set a setting: it is lost at the next restart, and 'show' says so."""
    import re

    from roundgate.core import values
    from roundgate.host.store import secret_mark

    for name, spec in server.book.setting.items():
        form = spec.live.set if spec.live else ""
        pattern = re.escape(form).replace(re.escape("{value}"), "(?P<value>.+)")
        found = re.fullmatch(pattern, line.strip()) if form else None
        if found and not spec.kept_in:
            is_secret = values.is_hidden(spec)
            kept = secret_mark(server.name, name, found["value"]) if is_secret else found["value"]
            context.store.note_live(server.name, name, kept)
            echo(f"  {name} is set at the console only: it is lost at the next restart.")
            if spec.file:
                keep = f"set {server.name} {name}" if is_secret else f"keep {server.name} {name}"
                echo(f"  to keep it: roundgate {keep}")


def console(server: Which = None) -> None:
    """Talk to a running server: what it says is shown, what you type is sent. Ctrl-D leaves; the server runs on."""
    from roundgate.cli.running.talking import talk

    context = open_call()
    talk(context.one(server))


def log(
    server: Which = None,
    lines: Annotated[int, typer.Option("--lines", "-n", help="How many of the last lines.")] = 40,
    follow: Annotated[bool, typer.Option("--follow", "-f", help="Go on showing what comes.")] = False,
) -> None:
    """The newest lines of a server's log; --follow continues until Ctrl-C."""
    from roundgate.cli.running.talking import follow_log
    from roundgate.host.logs.ends import last_lines

    context = open_call()
    opened = context.one(server)
    if lines < 0:
        raise WrongUsage("A number of lines cannot be negative.", "-n 40")
    shown = last_lines(_log_of(opened), lines)
    if not shown and not follow and lines:
        warn(f"{opened.name} has not logged anything yet.")
    for line in shown:
        echo(plain(line))
    if follow:
        follow_log(opened)


def _log_of(server: Server) -> Path:
    """Return the log of what a server says; of a rented one, the copy of its newest log."""
    if server.mirror is None:
        return Path(server.state) / "console.log"
    from roundgate.host.logs.tail import newest_log  # most servers are here

    server.fetch_logs(whole=False)
    return server.folder / (newest_log(server) or "console.log")
