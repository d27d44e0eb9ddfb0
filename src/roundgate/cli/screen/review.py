"""A review as a person reads it: each change from what to what, the consequences, the difference."""

from __future__ import annotations

from typing import TYPE_CHECKING

from roundgate.cli.screen.output import echo, plain, styled
from roundgate.core.review import Consequence, ConsequenceCode, Review

if TYPE_CHECKING:
    from roundgate.cli.screen.outputs import SlateOutput
    from roundgate.host.rounds.gather import Gathered


def echo_review(gathered: Gathered, *, diff: bool = True) -> None:
    """Print a review."""
    review = gathered.review
    rescued = {operation.shown_name for operation in gathered.rescued}
    for change in review.changes:
        text = format_change(change.before, change.after, is_nothing=change.is_nothing)
        echo(f"  {styled(change.name, 'bold')}{text}   ({change.file})")
        if change.when_slated:
            echo(f"      it was {plain(change.when_slated)} when you put it on the slate; it has been changed since")
        if change.name in rescued:
            echo("      edited in the file while the server ran; the server would overwrite it when it stops")
    for name in gathered.differs:
        if name not in {change.name for change in review.changes}:
            echo(f"  {styled(name, 'bold')}: on disk already, in force with the next start")
    for consequence in review.consequences:
        echo(f"  ! {describe_consequence(consequence)}")
    for finding in gathered.findings:
        if finding.waiting and finding.level == "warning":
            echo(f"  ! {plain(finding.cause)} ({finding.code})")
    if diff and review.diff:
        echo()
        echo_diff(review.diff)


_CONSEQUENCES = {
    ConsequenceCode.LIVE_POSSIBLE: ("{names}: can also come into force without a restart: 'apply --live'."),
    ConsequenceCode.NEEDS_RESTART: "{names}: takes effect at the next restart, which disconnects everybody.",
    ConsequenceCode.NEEDS_NEW_WORLD: "{names}: fixed when a world is made; takes effect in a new world only.",
    ConsequenceCode.ADVICE: "{names}: {advice}",
    ConsequenceCode.NOT_DESCRIBED: (
        "{names}: the rulebook does not know this key; it is written, but not checked or proven."
    ),
    ConsequenceCode.NOT_READABLE: (
        "{names}: cannot be read back from the server; a round can only prove that it is written."
    ),
    ConsequenceCode.COMMAND: "{names}: read back by a command of the rulebook, as the server's user: {command}",
    ConsequenceCode.OVERRIDDEN: "{names}: does not count while {by}.",
    ConsequenceCode.INVERTED: "{names}: the scale is inverted: {text}.",
    ConsequenceCode.JOINS: "{who} joins {roster}: {what}.",
    ConsequenceCode.LEAVES: "{who} leaves {roster}: no longer {what}.",
    ConsequenceCode.RIGHTS: "{what}",
    ConsequenceCode.ODDS: "{what}",
    ConsequenceCode.WORLD_FIXED: (
        "{names}: the world {world} was made with {made}; {wanted} in the file has no effect in it."
    ),
}


_NOT_ALLOWED = (
    "{names}: only a command of the rulebook could read it back, and the site file does not allow that: {command}. "
    "To allow it: roundgate rulebook allow {server}"
)


def describe_consequence(consequence: Consequence) -> str:
    """Describe what the changes of a slate mean."""
    if consequence.code is ConsequenceCode.COMMAND and not consequence.detail["allowed"]:
        return _NOT_ALLOWED.format(names=", ".join(consequence.names), **consequence.detail)
    return _CONSEQUENCES[consequence.code].format(names=", ".join(consequence.names), **consequence.detail)


def format_change(before: str, after: str, *, is_nothing: bool) -> str:
    """Return what follows the name of a setting in a list of changes: from what to what, or that nothing changes."""
    return f": no change, {plain(after)}" if is_nothing else f": {plain(before)} -> {plain(after)}"


def echo_diff(diff: str) -> None:
    """Print a difference, what comes in green and what goes in red."""
    for line in diff.split("\n"):
        colour = {"+": "green", "-": "red", "@": "cyan"}.get(line[:1])
        echo("  " + (styled(plain(line), colour) if colour else plain(line)))


def slate_output(server: str, gathered: Gathered) -> SlateOutput:
    """Return the review of a server's slate for JSON."""
    from roundgate.cli.screen.outputs import ChangeOutput, ConsequenceOutput, SlateOutput, finding_output

    review: Review = gathered.review
    rescued = {operation.shown_name for operation in gathered.rescued}
    changes = [
        ChangeOutput(
            change.name,
            change.file,
            change.before,
            change.after,
            change.when_slated,
            change.name in rescued,
            change.is_nothing,
        )
        for change in review.changes
    ]
    consequences = [
        ConsequenceOutput(consequence.code.value, list(consequence.names), describe_consequence(consequence))
        for consequence in review.consequences
    ]
    brought = [finding_output(finding) for finding in gathered.findings if finding.waiting]
    return SlateOutput(server, changes, gathered.differs, consequences, review.diff, brought)
