"""Changes to a file of no server: checked, written at once, and shown as a difference."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from roundgate.cli.screen.output import echo
from roundgate.core.next_step import typed_command
from roundgate.host.errors import UnknownName, WrongUsage

if TYPE_CHECKING:
    from roundgate.cli.screen.outputs import FileValue
    from roundgate.core.operations.base import Operation
    from roundgate.host.workspace import Holder


def change_standalone(arguments: Sequence[str], make: Callable[[Holder, list[str]], Sequence[Operation]]) -> bool:
    """Make the changes that arguments ask for in a file of no server; False where they name no such file.

    Raises what ``make`` raises, Exit where there are errors, WrongUsage for several files, and Trouble where the file
    cannot be read or written.
    """
    path = file_named(arguments)
    if not path:
        return False
    from roundgate.api.proposal import propose
    from roundgate.cli.screen.findings import echo_findings
    from roundgate.cli.screen.review import echo_diff
    from roundgate.core.review import diff_of
    from roundgate.host.standalone import StandaloneFile

    if len({word.partition(":")[0] for word in arguments if word.startswith(f"{path}:")}) > 1:
        raise WrongUsage("One file at a time.", "Name the others in calls of their own.")
    holder = StandaloneFile(path)
    operations = make(holder, list(arguments))
    proposal = propose(holder, operations)
    outcome = proposal.outcome
    if proposal.findings:
        echo_findings(proposal.findings)
    if proposal.has_errors:
        echo("Nothing was written.")
        raise typer.Exit(1)
    if not outcome.touched:
        echo(f"{path}: it has these values already; nothing was written.")
        return True
    holder.write(outcome.after.texts[path])
    echo_diff(diff_of(outcome))
    echo(f"{path}: written.")
    return True


def show_standalone(path: str, arguments: Sequence[str], *, as_json: bool, verb: str = "show") -> None:
    """Print the values of a file of no server, or those below some keys; ``explain`` with their kinds and lines.

    Raises Trouble, UnknownName or WrongUsage.
    """
    from roundgate.cli.screen.output import echo_json, echo_table
    from roundgate.cli.screen.outputs import FileOutput

    if not all(word == path or word.startswith(f"{path}:") for word in arguments):
        raise WrongUsage("One file at a time.", typed_command(verb, "", path))
    keys = [word[len(path) + 1 :] for word in arguments]
    kind, rows = _values_of(path, keys)
    if not rows:
        raise UnknownName(f"{path} has nothing of that name.", typed_command(verb, "", path))
    if as_json:
        echo_json(FileOutput(path, kind, rows))
    elif verb == "show":
        echo_table(("key", "value"), [(row.key, row.value) for row in rows])
    else:
        echo(f"{path}  read as {kind}; of no server, so no rulebook tells what its keys mean.")
        echo_table(("key", "value", "kind", "line"), [(row.key, row.value, row.kind, str(row.line)) for row in rows])


def _values_of(path: str, keys: Sequence[str]) -> tuple[str, list[FileValue]]:
    """Return a file's format, and the values below some keys; all of them below an empty one. Raises Trouble."""
    from roundgate.cli.screen.outputs import FileValue
    from roundgate.core.formats.places import key_of
    from roundgate.core.secrets import hidden_paths, is_secret
    from roundgate.host.errors import Trouble
    from roundgate.host.standalone import StandaloneFile

    holder = StandaloneFile(path)
    document = holder.read().files.document(path)
    if document is None:
        raise Trouble(f"{path} cannot be read.", typed_command("check", "", path))
    hidden = hidden_paths(holder.book, path, document)
    rows = []
    for entry in document.entries():
        key = key_of(entry.path)
        if any(not wanted or key == wanted or key.startswith((f"{wanted}.", f"{wanted}[")) for wanted in keys):
            is_hidden = entry.path in hidden or is_secret(holder.book, path, key, entry.value)
            shown = "(set, hidden)" if is_hidden else entry.value or "(empty)"
            rows.append(FileValue(key, shown, entry.kind, document.text.place(entry.start)[0]))
    return document.format_name, rows


def file_named(arguments: Sequence[str]) -> str:
    """Return the file of no server that the first word names by FILE:KEY or FILE, or an empty text."""
    from roundgate.core.formats import format_name

    if not arguments:
        return ""
    first = arguments[0]
    ends = [at for at, char in enumerate(first) if char == ":"] or ([len(first)] if format_name(first) else [])
    for end in ends:
        if Path(first[:end]).is_file():
            from roundgate.cli.call import home_of

            return "" if home_of(first[:end]) else first[:end]
    return ""
