"""The program ``roundgate``: finds the command, runs it, and turns what goes wrong into words and an exit code."""

from __future__ import annotations

import sys
from collections.abc import Callable
from importlib import import_module
from typing import Annotated, Any

import typer

from roundgate.cli.commands import COMMANDS


def main() -> None:
    """Run the program on the words of the call; this is its one error boundary."""
    arguments = _with_site_first(sys.argv[1:])
    try:
        _refuse_odd_bytes(arguments)
        code = build(arguments)(arguments, prog_name="roundgate", standalone_mode=False)
        raise SystemExit(code if isinstance(code, int) else 0)
    except KeyboardInterrupt:
        print("\nStopped; nothing more was done.", file=sys.stderr)
        raise SystemExit(130) from None
    except BrokenPipeError:
        sys.stderr.close()
        raise SystemExit(0) from None
    except Exception as error:
        raise SystemExit(_say(error)) from error


def _refuse_odd_bytes(words: list[str]) -> None:
    """Refuse words that are no UTF-8, but for the names of files. Raises WrongWords."""
    odd = next((word for word in words if any("\ud800" <= char <= "\udfff" for char in word)), None)
    if odd is not None and _called(words) not in ("check", "edit"):
        from roundgate.host.errors import WrongWords

        raise WrongWords(f"The call holds bytes that are not UTF-8: {ascii(odd)[1:-1]}", "Write it in UTF-8.")


def _say(error: Exception) -> int:
    """Say what went wrong; give the exit code."""
    from roundgate.cli.screen.trouble import echo_trouble, echo_unexpected
    from roundgate.host.errors import Trouble, WrongWords, as_trouble

    if hasattr(error, "format_message") and hasattr(error, "exit_code"):  # what the parser of the call says
        context = getattr(error, "ctx", None)
        path = context.command_path if context is not None else "roundgate"
        echo_trouble(WrongWords(_sentence(error.format_message()), f"{path} --help"))
        return int(error.exit_code)
    trouble = error if isinstance(error, Trouble) else as_trouble(error)
    if trouble is not None:
        echo_trouble(trouble)
        return trouble.exit_code
    echo_unexpected(error)
    return 1


def _sentence(text: str) -> str:
    return text if text.endswith((".", "?")) else f"{text}."


def _with_site_first(words: list[str]) -> list[str]:
    """Let ``--site`` stand anywhere in the call."""
    plain = words[: words.index("--")] if "--" in words else words
    for at, word in enumerate(plain):
        if word == "--site" and at + 1 < len(plain):
            return [word, words[at + 1], *words[:at], *words[at + 2 :]]
        if word.startswith("--site="):
            return [word, *words[:at], *words[at + 1 :]]
    return words


def _called(words: list[str]) -> str:
    """Name the command that is called or completed."""
    import os

    if "_ROUNDGATE_COMPLETE" in os.environ:
        words = os.environ.get("COMP_WORDS", os.environ.get("_TYPER_COMPLETE_ARGS", "")).split()[1:]
    skip = False
    for word in words:
        if skip or word.startswith("-"):
            skip = word == "--site"
            continue
        return word
    return ""


def build(words: list[str]) -> typer.Typer:
    """Make the program, with the called command imported and the others as their help lines."""
    app = typer.Typer(
        pretty_exceptions_enable=False,
        rich_markup_mode=None if "--help" not in words and "-h" not in words else "rich",
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    app.callback(invoke_without_command=True, help=_HELP)(_program)
    called = _called(words)
    for line in COMMANDS:
        function = _imported(line.module, line.function) if line.name == called else _stub
        app.command(
            line.name, help=None if line.name == called else line.help, short_help=line.help, rich_help_panel=line.group
        )(function)
    return app


def _imported(module: str, function: str) -> Callable[..., Any]:
    found: Callable[..., Any] = getattr(import_module(f"roundgate.cli.{module}"), function)
    return found


def _stub() -> None:
    """Stand in for a command that is not called."""


_HELP = (
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
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Say the version.")
    ] = False,
) -> None:
    from roundgate.cli import call

    call.SITE_GIVEN = site
    if context.invoked_subcommand is None:
        from roundgate.cli.welcome import welcome

        welcome()


if __name__ == "__main__":
    main()
