"""``check --fix``.

What can be fixed safely, shown as a diff; onto the slate of a server, or into a file of no server.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from roundgate.cli.opening import open_call
from roundgate.cli.screen.output import echo, echo_next, warn
from roundgate.core.next_step import typed_command
from roundgate.core.operations.repairs import Mend
from roundgate.core.repairs import safe_repairs, with_repairs

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext
    from roundgate.core.operations.base import Operation
    from roundgate.host.servers import Server


def mend_servers(context: CallContext, servers: Sequence[Server]) -> None:
    """Put the safe repairs of servers' files onto their slates and show what they will change."""
    from roundgate.cli.screen.review import echo_diff
    from roundgate.core.review import review_of

    for server in servers:
        opened = context.open(server)
        waiting = opened.workspace.operations
        outcome = opened.workspace.outcome(waiting)
        new: list[Operation] = []
        for path in outcome.after.texts:
            document = outcome.after.document(path)
            codes = sorted({repair.code for repair in safe_repairs(document)}) if document else []
            if codes:
                new.append(Mend(path, tuple(codes)))
        if not new:
            if any(isinstance(entry, Mend) for entry in waiting):
                echo(f"{server.name}: the safe repairs are on the slate already.")
                echo_next(typed_command("apply", server.name, hint=f"look first: roundgate slate {server.name}"))
            else:
                echo(f"{server.name}: nothing that can be fixed safely.")
            continue
        opened.put(new)
        echo_diff(review_of(opened.workspace.outcome([*waiting, *new])).diff)
        echo(f"  On the slate of {server.name}, not in force yet.")
        echo_next(typed_command("apply", server.name, hint=f"look first: roundgate slate {server.name}"))
        echo()


def mend_files(paths: Sequence[tuple[str, str]], given: str) -> None:
    """Fix files of no server in place and show the difference; a file of a server goes onto its slate.

    Each file comes with the folder that was named and that it was found in; a link in it that leads out is left alone.
    """
    context, homes = _site()
    for path, within in paths:
        if within and not Path(path).resolve().is_relative_to(Path(within).resolve()):
            warn(f"{path}: not repaired: it leads outside {within}")
            continue
        home = next((server for server in homes if _is_inside(Path(path), server.folder)), None)
        if home is not None and context is not None:
            _mend_on_slate(context, home, path)
        else:
            _mend_in_place(path, given, within or None)


def _site() -> tuple[CallContext | None, list[Server]]:
    from roundgate.host.errors import Trouble

    try:
        context = open_call(quiet=True)
    except Trouble:
        return None, []
    return context, context.several(None, default_all=True)


def _is_inside(path: Path, folder: Path) -> bool:
    return path.resolve().is_relative_to(folder.resolve())


def _mend_on_slate(context: CallContext, server: Server, path: str) -> None:
    from roundgate.cli.screen.review import echo_diff
    from roundgate.core.review import review_of

    name = Path(path).resolve().relative_to(server.folder.resolve()).as_posix()
    opened = context.open(server)
    document = opened.workspace.read([name]).files.document(name)
    codes = sorted({repair.code for repair in safe_repairs(document)}) if document else []
    if not codes:
        return
    new: list[Operation] = [Mend(name, tuple(codes))]
    after = opened.workspace.outcome([*opened.workspace.operations, *new])
    opened.put(new)
    echo_diff(review_of(after).diff)
    echo(f"  {path} is {server.name}'s: the repair is on its slate, not in force yet.")
    echo_next(typed_command("apply", server.name, hint=f"look first: roundgate slate {server.name}"))


def _mend_in_place(path: str, given: str, within: str | None) -> None:
    from roundgate.cli.screen.review import echo_diff
    from roundgate.core.checks.standalone import format_given, read_standalone
    from roundgate.core.formats import FORMATS, problems_of
    from roundgate.core.formats.detect import format_for
    from roundgate.core.formats.protocol import EditRefused
    from roundgate.core.text import NotEncodable, NotText
    from roundgate.host.files import LARGEST, read_bytes, replace_file

    data = read_bytes(path)
    if data is None or len(data) > LARGEST:
        return
    try:
        document = read_standalone(path, data, given)
        after = with_repairs(FORMATS[format_given(given) or format_for(path, document.text.body)], document)
    except (NotText, NotEncodable, EditRefused) as error:
        warn(f"{path}: not repaired: {error}")
        return
    if after.text == document.text:
        return
    replace_file(path, data, after.text.encode(), within)
    echo_diff(difference(path, document.text.body, after.text.body))
    left = sum(1 for mistake in problems_of(after) if mistake.level == "error")
    echo(f"{path}: fixed, as far as is safe; what is left:" if left else f"{path}: fixed.")
    echo()


def difference(path: str, before: str, after: str) -> str:
    """Return the difference of two texts in unified form, secrets blanked out."""
    from roundgate.core.differences import lines_of, unified
    from roundgate.core.secrets import hidden_line

    names = (f"{path} (before)", f"{path} (after)")
    return "\n".join(unified(lines_of(before), lines_of(after), names, shown=hidden_line))
