"""Questions about ranks: ``ranks who``, ``may``, ``why``, ``of`` and ``tree``."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated

import typer

from roundgate.cli.complete import after_server
from roundgate.cli.opening import open_call
from roundgate.cli.ranks.options import (
    Json,
    OneWho,
    OnlyServer,
    WhoAndPermission,
    WithSlate,
    asked,
    label,
    reason,
)
from roundgate.cli.screen.output import echo, echo_json, echo_table, plain, styled

if TYPE_CHECKING:
    from roundgate.cli.screen.outputs import WhyOutput
    from roundgate.core.ranks.model import RankMember, Scheme


def who(
    arguments: Annotated[
        list[str],
        after_server("PERMISSION", "Such as: regatta race.abort"),
    ],
    with_slate: WithSlate = False,
    as_json: Json = False,
) -> None:
    """Show who has a permission, with the reason for each."""
    from roundgate.api.ranks import permission_meant
    from roundgate.cli.screen.outputs import MayOutput
    from roundgate.core.ranks.deciding import Answer, decide

    context, output = open_call(), []
    word, [asked_for] = context.after_server("ranks who", arguments, "PERMISSION")
    for server, scheme in asked(context, word, with_slate=with_slate):
        permission = permission_meant(context.site, server, scheme, asked_for)
        known: dict[tuple[str, ...], tuple[Answer, str]] = {}  # those in the same ranks are decided once
        for member in (*scheme.members.values(), scheme.newcomer()):
            found = None if member.entries else known.get(member.groups)
            if found is None:
                answer = decide(member, permission, scheme)
                found = answer, reason(answer, scheme)
                if not member.entries:
                    known[member.groups] = found
            if found[0].may:
                output.append(
                    MayOutput(label(server, scheme), member.id, member.name, permission, may=True, reason=found[1])
                )
    if as_json:
        echo_json(output)
        return
    if not output:
        echo(f"Nobody may {plain(asked_for)}.")
        return
    echo_table(
        ("server", "name", "id", "why"),
        [(member.server, plain(member.name), member.id, member.reason) for member in output],
    )


def may(arguments: WhoAndPermission, with_slate: WithSlate = False, as_json: Json = False) -> None:
    """Answer yes or no for each server. The exit code is 1 where one says no."""
    from roundgate.cli.screen.outputs import MayOutput
    from roundgate.core.ranks.deciding import decide

    output = []
    for name, scheme, member, permission in _meant("ranks may", arguments, with_slate=with_slate):
        answer = decide(member, permission, scheme)
        output.append(MayOutput(name, member.id, member.name, permission, answer.may, reason(answer, scheme)))
    if as_json:
        echo_json(output)
    for row in output if not as_json else ():
        echo(f"{row.server}  {plain(row.name)} {'may' if row.may else 'may NOT'} {row.permission}")
    if not all(row.may for row in output):
        raise typer.Exit(1)


def _meant(call: str, arguments: list[str], *, with_slate: bool) -> Iterator[tuple[str, Scheme, RankMember, str]]:
    """Yield for each server what it is called, its ranks, whom the first word means, and what the second does."""
    from roundgate.api.ranks import member_meant, permission_meant

    context = open_call()
    word, [somebody, permission] = context.after_server(call, arguments, "WHO", "PERMISSION")
    for server, scheme in asked(context, word, with_slate=with_slate):
        member = member_meant(context.site, server, scheme, somebody)
        yield label(server, scheme), scheme, member, permission_meant(context.site, server, scheme, permission)


def why(arguments: WhoAndPermission, with_slate: WithSlate = False, as_json: Json = False) -> None:
    """Show which entry decides, the chain of ranks that leads there, and what would decide next."""
    from roundgate.cli.screen.outputs import WhyOutput
    from roundgate.core.ranks.deciding import chain_of, decisions

    output = []
    for name, scheme, member, permission in _meant("ranks why", arguments, with_slate=with_slate):
        first, *others = decisions(member, permission, scheme)
        output.append(
            WhyOutput(
                name,
                member.name,
                permission,
                first.may,
                reason(first, scheme),
                list(member.groups) or ([f"{scheme.default} (as newcomers are)"] if scheme.default else []),
                [f"{link.holder} ({link.steps})" for link in chain_of(member, scheme)],
                [f"{'may' if other.may else 'may NOT'}: {reason(other, scheme)}" for other in others],
            )
        )
        if not as_json:
            _echo_why(output[-1], scheme)
    if as_json:
        echo_json(output)


def _echo_why(output: WhyOutput, scheme: Scheme) -> None:
    from roundgate.core.ranks.deciding import ORDER_TEXTS

    verdict = styled("may" if output.may else "may NOT", "green" if output.may else "red")
    echo(f"{output.server}  {styled(plain(output.name), 'bold')} {verdict} {output.permission}: {output.reason}")
    echo(f"  in       {', '.join(output.groups) or 'no rank'}")
    echo(f"  asked    {', '.join(output.chain) or 'nobody'}")
    echo(f"  order    {ORDER_TEXTS[scheme.order]}")
    for other in output.otherwise:
        echo(f"  else     {other}")


def of(arguments: OneWho, with_slate: WithSlate = False, as_json: Json = False) -> None:
    """Show all that somebody may do, by where it comes from."""
    from roundgate.api.ranks import catalogue_of, member_meant
    from roundgate.cli.screen.outputs import MayOutput
    from roundgate.core.ranks.deciding import decide

    context, output = open_call(), []
    word, [somebody] = context.after_server("ranks of", arguments, "WHO")
    for server, scheme in asked(context, word, with_slate=with_slate):
        member = member_meant(context.site, server, scheme, somebody)
        found: dict[str, list[str]] = {}
        denied = []
        for permission in catalogue_of(server, scheme):
            answer = decide(member, permission, scheme)
            if answer.entry is None:
                continue
            why_so = reason(answer, scheme)
            output.append(MayOutput(label(server, scheme), member.id, member.name, permission, answer.may, why_so))
            if answer.may:
                found.setdefault(answer.entry.holder, []).append(permission)
            else:
                denied.append(f"{permission} ({answer.entry.holder})")
        if as_json:
            continue
        ranks = ", ".join(member.groups) or scheme.default
        echo(f"{label(server, scheme)}  {styled(plain(member.name), 'bold')}  {ranks}")
        for holder, permissions in found.items():
            echo(f"  by {plain(holder)}: {', '.join(permissions)}")
        if denied:
            echo(f"  denied: {', '.join(denied)}")
        if not found:
            echo("  nothing")
    if as_json:
        echo_json(output)


def tree(arguments: OnlyServer = None, with_slate: WithSlate = False) -> None:
    """Show the ranks as a tree: each below those whose permissions it inherits."""
    context = open_call()
    word, _ = context.after_server("ranks tree", arguments)
    for server, scheme in asked(context, word, with_slate=with_slate):
        echo(styled(label(server, scheme), "bold"))
        children: dict[str, list[str]] = {}
        for name, group in scheme.groups.items():
            for parent in group.parents or ("",):
                children.setdefault(parent if parent in scheme.groups else "", []).append(name)
        _branch(scheme, children, "", "  ", ())
        if not scheme.groups:
            echo(f"  no ranks yet    (begin with: roundgate ranks starter {server.name})")


def _branch(scheme: Scheme, children: dict[str, list[str]], parent: str, indent: str, above: tuple[str, ...]) -> None:
    for name in children.get(parent, []):
        group = scheme.groups[name]
        held = sum(1 for member in scheme.members.values() if name in member.groups)
        marks = [f"{held} in it" if held else "", "newcomers" if name == scheme.default else ""]
        joined = ", ".join(mark for mark in marks if mark)
        entries = ", ".join(
            entry.permission if entry.allows else f"never {entry.permission}" for entry in group.entries
        )
        echo(f"{indent}{styled(name, 'bold')}{f'  ({joined})' if joined else ''}  {entries}")
        if name not in above:
            _branch(scheme, children, name, indent + "  ", (*above, name))
