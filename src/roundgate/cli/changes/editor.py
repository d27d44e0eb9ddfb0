"""``edit``: a file in the person's own editor, on a copy; checked when it closes, and only then it counts."""

from __future__ import annotations

import os
import shlex
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.changes.private_copy import GivenUp, PrivateCopy, private_copy, tell_kept
from roundgate.cli.complete import complete_server_or_file
from roundgate.cli.screen.output import echo
from roundgate.core.findings import Finding
from roundgate.core.next_step import typed_command
from roundgate.host.errors import Trouble, WrongUsage

if TYPE_CHECKING:
    from roundgate.core.text import Text

Check = Callable[[bytes], list[Finding]]

CHOICES = "[a]gain in the editor, [k]eep it as it is, or [g]ive up? "


def edit(
    arguments: Annotated[list[str], typer.Argument(metavar="[SERVER] FILE", autocompletion=complete_server_or_file)],
    anyway: Annotated[bool, typer.Option("--keep", help="Keep it even with errors, without asking.")] = False,
    new_file: Annotated[bool, typer.Option("--new-file", help="Make a file that does not exist yet.")] = False,
) -> None:
    """Edit a file in your own editor, on a copy. It is checked when the editor closes.

    A server's file goes onto the slate; any other file is written. The editor is VISUAL, else EDITOR.
    """
    if len(arguments) > 2:
        raise WrongUsage("One file at a time.", typed_command("edit", "<server>", "<file>"))
    from roundgate.cli.call import home_of

    if len(arguments) == 1 and Path(arguments[0]).exists() and not home_of(arguments[0]):
        _edit_file(arguments[0], anyway=anyway)
        return
    _edit_of_server(arguments, anyway=anyway, new_file=new_file)


def _edit_of_server(arguments: list[str], *, anyway: bool, new_file: bool) -> None:
    from roundgate.cli.call import home_of
    from roundgate.cli.edit import put
    from roundgate.cli.opening import open_call
    from roundgate.core.checks import identity_of
    from roundgate.core.operations.text import EditText, hunks_between
    from roundgate.core.text import decode

    context = open_call()
    home = home_of(arguments[0]) if len(arguments) == 1 and Path(arguments[0]).exists() else None
    word, path = home or ((arguments[0] if len(arguments) == 2 else None), arguments[-1])
    server = context.one(word)
    opened = context.open(server)
    workspace = opened.workspace
    outcome = workspace.outcome(workspace.operations, [path])
    now, text = workspace.read(), outcome.after.texts.get(path)
    is_expected = any(file.path == path for file in server.book.file.values())
    if text is None and (is_expected or new_file) and path not in now.unreadable:
        echo(f"{path} does not exist yet; what you write is kept on the slate.")
        text = decode(b"")
    if text is None:
        why = now.unreadable[path].cause if path in now.unreadable else f"{server.name} has no file {path}"
        raise Trouble(f"{why}.", f"Files: {', '.join(server.paths())}")

    old = {identity_of(finding) for finding in workspace.findings_after(outcome)}

    def check(data: bytes) -> list[Finding]:
        """Check the text; what was wrong before is not this edit's doing."""
        operation = EditText(path, hunks_between(text.body, decode(data).body))
        found = workspace.findings_after(workspace.outcome([*workspace.operations, operation]))
        return [finding for finding in found if finding.place.file == path and identity_of(finding) not in old]

    origin = server.folder / path
    tell_kept(origin)
    with private_copy(origin, text.encode()) as copy:
        data = _until_right(path, copy, check, anyway=anyway)
        if data is not None:
            operation = EditText(path, hunks_between(text.body, _decoded(data).body))
            put(opened, [operation], despite_errors=True)


def _decoded(data: bytes) -> Text:
    from roundgate.core.text import NotText, decode

    try:
        return decode(data)
    except NotText as error:
        raise Trouble(f"{error}.", "Edit it again.") from error


def _edit_file(path: str, *, anyway: bool) -> None:
    from roundgate.core.checks.standalone import check_standalone
    from roundgate.host.files import LARGEST, read_bytes, replace_file

    before = read_bytes(path)
    if before is None or len(before) > LARGEST:
        raise Trouble(f"{path} cannot be edited: it is not a file, or larger than {LARGEST >> 20} MB.")
    origin = Path(path).absolute()
    tell_kept(origin)
    with private_copy(origin, before) as copy:
        data = _until_right(path, copy, lambda new: check_standalone(path, new), anyway=anyway)
        if data is not None:
            replace_file(path, before, data)
            echo(f"{path}: written.")


def _until_right(path: str, copy: PrivateCopy, check: Check, *, anyway: bool) -> bytes | None:
    """Let a person edit a copy until it is right, or is kept or given up; None where nothing is to change."""
    from roundgate.cli.screen.findings import echo_findings
    from roundgate.core.findings import has_errors

    editor = _editor()
    while True:
        data = copy.edit(editor)
        if data == copy.before:
            echo(f"{path}: nothing was changed.")
            return None
        found = _found(check, data, path)
        echo_findings(found)
        if not has_errors(found) or anyway:
            return data
        answer = _ask()
        if answer == "keep":
            return data
        if answer == "give up":
            echo(f"{path}: cancelled, nothing was changed.")
            raise GivenUp(1)


def _found(check: Check, data: bytes, path: str) -> list[Finding]:
    from roundgate.core.findings import Place
    from roundgate.core.text import NotText

    try:
        return list(check(data))
    except NotText as error:
        return [Finding("file-not-text", "error", Place(path), f"{error}.", "Edit it again.")]


def _editor() -> list[str]:
    command = shlex.split(os.environ.get("VISUAL") or os.environ.get("EDITOR") or "")
    if not command:
        from shutil import which

        found = next((name for name in ("nano", "vim", "vi") if which(name)), "")
        command = [found] if found else []
    if not command:
        raise Trouble("No editor is known.", "Set EDITOR, for example: export EDITOR=nano")
    return command


def _ask() -> str:
    """Ask what is to become of a text with errors. Without a person there nothing is kept."""
    if not sys.stdin.isatty():
        raise Trouble(
            "The text has errors, and there is no terminal to ask on; nothing was changed.", "Fix it, or give --keep."
        )
    while True:
        answer = input(CHOICES).strip().lower()
        if answer[:1] in ("a", "k", "g"):
            return {"a": "again", "k": "keep", "g": "give up"}[answer[:1]]
