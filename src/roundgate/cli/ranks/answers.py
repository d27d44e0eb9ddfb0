"""Questions about ranks: ``ranks who``, ``may``, ``why``, ``of`` and ``tree``."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import typer

from roundgate.cli.ranks.options import RankOptions, asked, label, reason
from roundgate.cli.screen.output import echo, echo_json, echo_table, plain, styled

if TYPE_CHECKING:
    from roundgate.cli.call import CallContext
    from roundgate.cli.screen.outputs import WhyOutput
    from roundgate.core.ranks.model import RankMember, Scheme


def who(context: CallContext, word: str | None, arguments: list[str], options: RankOptions) -> None:
    """Print who may do something, with the reason for each. Those in the same ranks are decided once."""
    from roundgate.api.ranks import permission_meant
    from roundgate.cli.screen.outputs import MayOutput
    from roundgate.core.ranks.deciding import Answer, decide

    output = []
    for server, scheme in asked(context, word, options):
        permission = permission_meant(context.site, server, scheme, arguments[0])
        known: dict[tuple[str, ...], tuple[Answer, str]] = {}
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
    if options.as_json:
        echo_json(output)
        return
    if not output:
        echo(f"Nobody may {plain(arguments[0])}.")
        return
    echo_table(
        ("server", "name", "id", "why"),
        [(member.server, plain(member.name), member.id, member.reason) for member in output],
    )


def may(context: CallContext, word: str | None, arguments: list[str], options: RankOptions) -> None:
    """Answer yes or no for each server. Raises Exit with 1 where one says no."""
    from roundgate.cli.screen.outputs import MayOutput
    from roundgate.core.ranks.deciding import decide

    output = []
    for name, scheme, member, permission in _meant(context, word, arguments, options):
        answer = decide(member, permission, scheme)
        output.append(MayOutput(name, member.id, member.name, permission, answer.may, reason(answer, scheme)))
    if options.as_json:
        echo_json(output)
    for row in output if not options.as_json else ():
        echo(f"{row.server}  {plain(row.name)} {'may' if row.may else 'may NOT'} {row.permission}")
    if not all(row.may for row in output):
        raise typer.Exit(1)


def _meant(
    context: CallContext, word: str | None, arguments: list[str], options: RankOptions
) -> Iterator[tuple[str, Scheme, RankMember, str]]:
    """Give for each server what it is called, its ranks, whom the first word means, and what the second does."""
    from roundgate.api.ranks import member_meant, permission_meant

    for server, scheme in asked(context, word, options):
        member = member_meant(context.site, server, scheme, arguments[0])
        yield label(server, scheme), scheme, member, permission_meant(context.site, server, scheme, arguments[1])


def why(context: CallContext, word: str | None, arguments: list[str], options: RankOptions) -> None:
    """Print what decides, the chain that leads there, and what would decide next."""
    from roundgate.cli.screen.outputs import WhyOutput
    from roundgate.core.ranks.deciding import chain_of, decisions

    output = []
    for name, scheme, member, permission in _meant(context, word, arguments, options):
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
        if not options.as_json:
            _echo_why(output[-1], scheme)
    if options.as_json:
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


def of(context: CallContext, word: str | None, arguments: list[str], options: RankOptions) -> None:
    """Print all that somebody may do, by where it comes from."""
    from roundgate.api.ranks import catalogue_of, member_meant
    from roundgate.cli.screen.outputs import MayOutput
    from roundgate.core.ranks.deciding import decide

    output = []
    for server, scheme in asked(context, word, options):
        member = member_meant(context.site, server, scheme, arguments[0])
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
        if options.as_json:
            continue
        ranks = ", ".join(member.groups) or scheme.default
        echo(f"{label(server, scheme)}  {styled(plain(member.name), 'bold')}  {ranks}")
        for holder, permissions in found.items():
            echo(f"  by {plain(holder)}: {', '.join(permissions)}")
        if denied:
            echo(f"  denied: {', '.join(denied)}")
        if not found:
            echo("  nothing")
    if options.as_json:
        echo_json(output)


def tree(context: CallContext, word: str | None, _words: list[str], options: RankOptions) -> None:
    """Print the ranks as a tree: each below those whose permissions it has too."""
    for server, scheme in asked(context, word, options):
        echo(styled(label(server, scheme), "bold"))
        children: dict[str, list[str]] = {}
        for name, group in scheme.groups.items():
            for parent in group.parents or ("",):
                children.setdefault(parent if parent in scheme.groups else "", []).append(name)
        _branch(scheme, children, "", "  ", ())
        if not scheme.groups:
            echo(f"  no ranks yet    (begin with: roundgate ranks ladder {server.name})")


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


VERBS = {"who": who, "may": may, "why": why, "of": of, "tree": tree}
