"""A review as a person reads it: each change from what to what, the consequences, the difference."""

from __future__ import annotations

from typing import Any

from roundgate.cli.screen.output import plain, say, styled
from roundgate.core.review import Review
from roundgate.host.rounds.gather import Gathered


def say_review(gathered: Gathered, *, diff: bool = True) -> None:
    """Print a review."""
    review = gathered.review
    rescued = {one.shown_name for one in gathered.rescued}
    for change in review.changes:
        words = in_words(change.before, change.after, is_nothing=change.is_nothing)
        say(f"  {styled(change.name, 'bold')}{words}   ({change.file})")
        if change.then:
            say(f"      when you put it on the slate it was {plain(change.then)}; somebody has changed it since")
        if change.name in rescued:
            say("      edited in the file while the server ran; the server would overwrite it when it stops")
    for name in gathered.differs:
        if name not in {change.name for change in review.changes}:
            say(f"  {styled(name, 'bold')}: on disk already, in force with the next start")
    for words in review.consequences:
        say(f"  ! {words}")
    if diff and review.diff:
        say()
        say_diff(review.diff)


def in_words(before: str, after: str, *, is_nothing: bool) -> str:
    """Give what follows the name of a setting in a list of changes: from what to what, or that nothing changes."""
    return f": no change, {plain(after)}" if is_nothing else f": {plain(before)} -> {plain(after)}"


def say_diff(diff: str) -> None:
    """Print a difference, what comes in green and what goes in red."""
    for line in diff.split("\n"):
        colour = {"+": "green", "-": "red", "@": "cyan"}.get(line[:1])
        say("  " + (styled(plain(line), colour) if colour else plain(line)))


def as_json(gathered: Gathered) -> dict[str, Any]:
    """Give a review for JSON; field names are stable."""
    review: Review = gathered.review
    rescued = {one.shown_name for one in gathered.rescued}
    return {
        "changes": [
            {
                "name": one.name,
                "file": one.file,
                "before": one.before,
                "after": one.after,
                "when-slated": one.then,
                "edited-while-running": one.name in rescued,
                "nothing": one.is_nothing,
            }
            for one in review.changes
        ],
        "on-disk-not-running": gathered.differs,
        "consequences": list(review.consequences),
        "diff": review.diff,
    }
