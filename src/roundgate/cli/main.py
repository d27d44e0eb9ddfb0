"""The program ``roundgate``: finds the command, runs it, and turns errors into messages and an exit code."""

from __future__ import annotations

import gc
import sys
from contextlib import suppress
from functools import cache
from io import TextIOWrapper
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from roundgate.cli import named_site
from roundgate.cli.grammar.group import Program

if TYPE_CHECKING:
    from roundgate.host.errors import Trouble


_INTERRUPTED = 130
"""The exit code of a program that Ctrl-C has ended: 128 and the number of the signal."""


def main() -> None:
    """Run the program with its arguments; this is its one error boundary."""
    gc.set_threshold(
        200_000, 20, 20
    )  # a call is short, and what it reads stays: looking for waste costs it half its time
    if isinstance(sys.stdout, TextIOWrapper):
        # In a pipe too, a line is seen when it is printed: a round takes minutes.
        sys.stdout.reconfigure(line_buffering=True)
    try:
        code = program()(prog_name="roundgate", standalone_mode=False)
        _tell_copies()
        if code != _INTERRUPTED:  # what Typer makes of Ctrl-C; of Ctrl-D at a question it makes an Abort
            raise SystemExit(code if isinstance(code, int) else 0)
    except (KeyboardInterrupt, typer.Abort):
        pass
    except BrokenPipeError:
        sys.stderr.close()
        raise SystemExit(0) from None
    except Exception as error:
        raise SystemExit(_report(error)) from error
    print("\nStopped; nothing more was done.", file=sys.stderr)
    raise SystemExit(_INTERRUPTED)


def _tell_copies() -> None:
    """Say of what was shown from the copy of a rented server's files that it may be old."""
    if "roundgate.host.rented.opening" in sys.modules:
        from roundgate.cli.screen.trouble import warn_of_copies

        warn_of_copies()


def _report(error: Exception) -> int:
    """Describe what went wrong; return the exit code."""
    from roundgate.cli.screen.trouble import echo_trouble, echo_unexpected
    from roundgate.core.next_step import Command
    from roundgate.host.errors import Trouble, WrongUsage, as_trouble

    if hasattr(error, "format_message") and hasattr(error, "exit_code"):  # what the parser of the call says
        context = getattr(error, "ctx", None)
        verb = context.command_path.removeprefix("roundgate").strip() if context is not None else ""
        echo_trouble(WrongUsage(_sentence(error.format_message()), Command(verb, options=("--help",))))
        return int(error.exit_code)
    trouble = error if isinstance(error, Trouble) else as_trouble(error) or _rulebook_mistake()
    if trouble is not None:
        echo_trouble(trouble)
        return trouble.exit_code
    echo_unexpected(error)
    return 1


def _rulebook_mistake() -> Trouble | None:
    """Find a mistake in the site's rulebooks: what nobody foresaw most often comes of one."""
    from roundgate.cli.named_site import SITE_NAMED
    from roundgate.host.rulebooks import mistake_in
    from roundgate.host.site import find_site

    with suppress(Exception):
        site = find_site(SITE_NAMED, Path.cwd())
        for name in dict.fromkeys(server.rulebook for server in site.file.server.values()):
            mistake = mistake_in(name, site.folder)
            if mistake is not None:
                return mistake
    return None


def _sentence(text: str) -> str:
    return text if text.endswith((".", "?")) else f"{text}."


def build() -> typer.Typer:
    """Make the program; its commands are loaded when they are called."""
    app = typer.Typer(
        cls=Program,
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    app.callback(invoke_without_command=True, help=HELP)(_program)
    return app


@cache
def program() -> Any:
    """Return the program as the parser of calls has it."""
    return typer.main.get_command(build())


HELP = (
    "Edit a game server's settings, check them, and bring them into force by a restart that is proven or undone. "
    "SERVER is a name, several by commas, @tag or @all; left out, it is the one whose folder you are in."
)


def _version(asked: bool) -> None:
    if asked:
        from roundgate import __version__

        print(f"roundgate {__version__}")
        raise typer.Exit


def _program(
    context: typer.Context,
    site: Annotated[str | None, typer.Option(help="The site's folder.", envvar="ROUNDGATE_SITE")] = None,
    _version_asked: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version.")
    ] = False,
) -> None:
    named_site.SITE_NAMED = site
    if context.invoked_subcommand is None:
        from roundgate.cli.welcome import welcome

        welcome()


if __name__ == "__main__":
    main()
