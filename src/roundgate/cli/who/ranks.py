"""Ranks: who may do what, why, and what the slate would alter: ``ranks``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.call import CallContext
from roundgate.cli.screen.output import echo, echo_csv, echo_json, echo_table, plain, styled
from roundgate.host.errors import WrongWords

if TYPE_CHECKING:
    from collections.abc import Sequence

    from roundgate.api.server import OpenServer
    from roundgate.core.ranks.deciding import Answer
    from roundgate.core.ranks.model import Entry, Scheme

Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]
_WORDS = {
    "who": (1, "who PERMISSION [SERVER]"),
    "may": (2, "may WHO PERMISSION [SERVER]"),
    "why": (2, "why WHO PERMISSION [SERVER]"),
    "of": (1, "of WHO [SERVER]"),
    "tree": (0, "tree [SERVER]"),
    "matrix": (0, "matrix [SERVER]"),
    "impact": (0, "impact [SERVER]"),
}
"""How many words each question needs before the server."""


def ranks(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="QUESTION [WORDS]... [SERVER]",
            help="who PERMISSION; may WHO PERMISSION (exit code 0 or 1); why WHO PERMISSION; of WHO; tree; matrix; "
            "impact",
        ),
    ] = None,
    people: Annotated[bool, typer.Option("--people", help="matrix: people, in place of ranks.")] = False,
    differs: Annotated[bool, typer.Option("--differs", help="matrix: only permissions that not all have.")] = False,
    as_csv: Annotated[bool, typer.Option("--csv", help="matrix: print CSV.")] = False,
    names: Annotated[bool, typer.Option("--names", help="impact: name all people.")] = False,
    as_json: Json = False,
) -> None:
    """Who may do what, and why: asked of the files, and decided as the server decides.

    WHO is a name, an id, a rank, or newcomers. The server may be left out where there is one, or inside its folder.
    """
    question, *rest = words or ["tree"]
    if question not in _WORDS:
        raise WrongWords(f"What about ranks? One of: {', '.join(_WORDS)}.", "roundgate ranks --help")
    needed, example = _WORDS[question]
    if not needed <= len(rest) <= needed + 1:
        raise WrongWords(f"'ranks {question}' needs other words.", f"roundgate ranks {example}")
    context = CallContext()
    servers = context.servers(rest[needed] if len(rest) > needed else None)
    if question == "who":
        _who(context, servers, rest[0], as_json=as_json)
    elif question == "may":
        _may(context, servers, rest[0], rest[1])
    elif question == "why":
        _why(context, servers, rest[0], rest[1])
    elif question == "of":
        _of(context, servers, rest[0])
    elif question == "tree":
        _tree(context, servers)
    elif question == "matrix":
        _matrix(context, servers, people=people, differs=differs, as_csv=as_csv, as_json=as_json)
    else:
        _impact(context, servers, names=names)


def _place(entry: Entry) -> str:
    return f"{entry.place.file}:{entry.place.line}"


def _reason(answer: Answer, scheme: Scheme) -> str:
    """Say in words which entry decides, and by which way."""
    if answer.entry is None:
        return "no entry is about it" + (", and then everybody may" if scheme.unknown else "")
    verb = "grants" if answer.may else "denies"
    way = f", by way of {' > '.join(answer.way)}" if len(answer.way) > 1 else ""
    return f"{answer.entry.holder} {verb} {answer.entry.permission} ({_place(answer.entry)}){way}"


def _who(context: CallContext, servers: Sequence[OpenServer], word: str, *, as_json: bool) -> None:
    """Print who may do something, with the reason for each."""
    from roundgate.api.ranks import permission_meant, ranks_of
    from roundgate.cli.screen.outputs import MayOutput
    from roundgate.core.ranks.deciding import decide

    output = []
    for server in servers:
        scheme = ranks_of(context.site, server)
        permission = permission_meant(server, scheme, word)
        for member in (*scheme.members.values(), scheme.newcomer()):
            answer = decide(member, permission, scheme)
            if answer.may:
                output.append(MayOutput(server.name, member.id, member.name, permission, _reason(answer, scheme)))
    if as_json:
        echo_json(output)
        return
    if not output:
        echo(f"Nobody may {plain(word)}.")
        return
    echo_table(("server", "name", "id", "why"), [(one.server, plain(one.name), one.id, one.reason) for one in output])


def _may(context: CallContext, servers: Sequence[OpenServer], who: str, word: str) -> None:
    """Answer yes or no for each server. Raises Exit with 1 where one says no."""
    from roundgate.api.ranks import member_meant, permission_meant, ranks_of
    from roundgate.core.ranks.deciding import decide

    all_may = True
    for server in servers:
        scheme = ranks_of(context.site, server)
        member, permission = member_meant(context.site, server, scheme, who), permission_meant(server, scheme, word)
        answer = decide(member, permission, scheme)
        all_may = all_may and answer.may
        echo(f"{server.name}  {plain(member.name)} {'may' if answer.may else 'may NOT'} {permission}")
    if not all_may:
        raise typer.Exit(1)


def _why(context: CallContext, servers: Sequence[OpenServer], who: str, word: str) -> None:
    """Print what decides, the chain that leads there, and what would decide next."""
    from roundgate.api.ranks import member_meant, permission_meant, ranks_of
    from roundgate.core.ranks.deciding import chain_of, decisions

    for server in servers:
        scheme = ranks_of(context.site, server)
        member, permission = member_meant(context.site, server, scheme, who), permission_meant(server, scheme, word)
        first, *others = decisions(member, permission, scheme)
        verdict = styled("may" if first.may else "may NOT", "green" if first.may else "red")
        echo(f"{server.name}  {styled(plain(member.name), 'bold')} {verdict} {permission}: {_reason(first, scheme)}")
        groups = ", ".join(member.groups) or f"{scheme.default} (as newcomers are)" if scheme.default else "none"
        echo(f"  in       {groups}")
        chain = [f"{link.holder} ({link.steps})" for link in chain_of(member, scheme)]
        echo(f"  chain    {', '.join(chain) or 'nobody'}    (order: {scheme.order})")
        for other in others:
            echo(f"  else     {'may' if other.may else 'may NOT'}: {_reason(other, scheme)}")


def _of(context: CallContext, servers: Sequence[OpenServer], who: str) -> None:
    """Print all that somebody may do, by where it comes from."""
    from roundgate.api.ranks import catalogue_of, member_meant, ranks_of
    from roundgate.core.ranks.deciding import decide

    for server in servers:
        scheme = ranks_of(context.site, server)
        member = member_meant(context.site, server, scheme, who)
        found: dict[str, list[str]] = {}
        denied = []
        for permission in catalogue_of(server, scheme):
            answer = decide(member, permission, scheme)
            if answer.may and answer.entry is not None:
                found.setdefault(answer.entry.holder, []).append(permission)
            elif answer.entry is not None:
                denied.append(f"{permission} ({answer.entry.holder})")
        echo(f"{server.name}  {styled(plain(member.name), 'bold')}  {', '.join(member.groups) or scheme.default}")
        for holder, permissions in found.items():
            echo(f"  by {holder}: {', '.join(permissions)}")
        if denied:
            echo(f"  denied: {', '.join(denied)}")
        if not found:
            echo("  nothing")


def _tree(context: CallContext, servers: Sequence[OpenServer]) -> None:
    """Print the ranks as a tree: each below those whose permissions it has too."""
    from roundgate.api.ranks import ranks_of

    for server in servers:
        scheme = ranks_of(context.site, server)
        echo(styled(server.name, "bold"))
        children: dict[str, list[str]] = {}
        for name, group in scheme.groups.items():
            for parent in group.parents or ("",):
                children.setdefault(parent if parent in scheme.groups else "", []).append(name)
        _branch(scheme, children, "", "  ", ())
        if not scheme.groups:
            echo("  no ranks")


def _branch(scheme: Scheme, children: dict[str, list[str]], parent: str, indent: str, above: tuple[str, ...]) -> None:
    for name in children.get(parent, []):
        group = scheme.groups[name]
        held = sum(1 for one in scheme.members.values() if name in one.groups)
        marks = [f"{held} in it" if held else "", "newcomers" if name == scheme.default else ""]
        words = ", ".join(mark for mark in marks if mark)
        entries = ", ".join(one.permission if one.allows else f"never {one.permission}" for one in group.entries)
        echo(f"{indent}{styled(name, 'bold')}{f'  ({words})' if words else ''}  {entries}")
        if name not in above:
            _branch(scheme, children, name, indent + "  ", (*above, name))


_SIGNS = {(True, True): "yes", (True, False): "from above", (False, True): "no", (False, False): "no, from above"}


def _matrix(
    context: CallContext,
    servers: Sequence[OpenServer],
    *,
    people: bool,
    differs: bool,
    as_csv: bool,
    as_json: bool,
) -> None:
    """Print permissions by ranks, or by people: granted, denied, inherited, by a wildcard, or not there."""
    from roundgate.api.ranks import catalogue_of, ranks_of
    from roundgate.cli.screen.outputs import MatrixOutput
    from roundgate.core.ranks.deciding import decide
    from roundgate.core.ranks.model import Member

    output = []
    for server in servers:
        scheme = ranks_of(context.site, server)
        holders = (
            [*scheme.members.values(), scheme.newcomer()]
            if people
            else [Member(one, one, (one,)) for one in scheme.groups]
        )
        rows: dict[str, dict[str, str]] = {}
        for permission in catalogue_of(server, scheme):
            cells = {}
            for member in holders:
                answer = decide(member, permission, scheme)
                if answer.entry is None:
                    cells[member.name] = "-"
                    continue
                own = len(answer.way) <= 1
                sign = _SIGNS[answer.may, own]
                wild = "" if answer.entry.permission == permission else f" by {answer.entry.permission}"
                cells[member.name] = sign + wild
            rows[permission] = cells
        if differs:
            rows = {
                name: cells
                for name, cells in rows.items()
                if len({one.startswith(("yes", "from")) for one in cells.values()}) > 1
            }
        output.append(MatrixOutput(server.name, [one.name for one in holders], rows))
    if as_json:
        echo_json(output)
        return
    for one in output:
        table = [(permission, *(cells[name] for name in one.columns)) for permission, cells in one.rows.items()]
        if as_csv:
            echo_csv([("server", "permission", *one.columns), *((one.server, *row) for row in table)])
            continue
        echo(styled(one.server, "bold"))
        echo_table(("permission", *map(plain, one.columns)), table)


def _impact(context: CallContext, servers: Sequence[OpenServer], *, names: bool) -> None:
    """Print who gains and who loses what by the slates."""
    from roundgate.api.ranks import slate_impact
    from roundgate.core.ranks.impact import shift_words

    for server in servers:
        found = slate_impact(context.site, server)
        if not found:
            echo(f"{server.name}: the slate changes nothing of what anybody may do.")
        for one in found:
            echo(f"{server.name}  {plain(shift_words(one, names=names))}")
