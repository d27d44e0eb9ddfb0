"""The next step that a message proposes: a whole command that runs as it stands, and advice that is not a command."""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, NamedTuple

from roundgate.core.quoting import join_typed, quoted

if TYPE_CHECKING:
    from roundgate.core.findings import Finding

PROGRAMS = ("roundgate ", "mv ", f"{sys.executable} ")
"""What a command begins with."""


class NextStep(NamedTuple):
    """A command to type, or advice, or both; each may be empty."""

    command: str
    hint: str

    def lines(self) -> list[str]:
        """Return what is printed below a message, a line each; the command is the last, for that is what people do."""
        hint = [f"hint: {self.hint}"] if self.hint else []
        return [*hint, f"do: {self.command}"] if self.command else hint


def step_of(text: str) -> NextStep:
    """Return the step that an error or finding proposes: a command, and behind four spaces, in brackets, a hint."""
    if not text.startswith(PROGRAMS):
        return NextStep("", text)
    command, _, hint = text.partition("    (")
    return NextStep(command, hint.removesuffix(")"))


def finding_step(finding: Finding) -> NextStep:
    """Return what a finding proposes; where a repair is safe, the command that makes it."""
    step = step_of(finding.do)
    if not finding.safe or step.command:
        return step
    return NextStep(f"roundgate check {quoted(finding.server or finding.place.file)} --fix", step.hint)


class Meant(str):
    """Advice that a part of the call was meant as something else; a program with the call at hand corrects it."""

    wrong: str
    right: str

    def __new__(cls, text: str, wrong: str = "", right: str = "") -> Meant:
        """Keep the advice as text, what was typed, and what was meant."""
        made = super().__new__(cls, text)
        made.wrong, made.right = wrong, right
        return made


class LeftOut(str):
    """Advice that something is missing in the call: the server, at its place, or a word at the end."""

    word: str
    is_server: bool

    def __new__(cls, text: str, word: str = "", *, is_server: bool = False) -> LeftOut:
        """Keep the advice as text, and the word that is missing."""
        made = super().__new__(cls, text)
        made.word, made.is_server = word, is_server
        return made


def did_you_mean(wrong: str, *right: str) -> Meant:
    """Return the advice that a name was meant as another; of several that are as near, none is put into the call."""
    return Meant(f"Did you mean {' or '.join(right)}?", wrong, right[0] if len(right) == 1 else "")


def corrected(words: Sequence[str], wrong: str, right: str) -> list[str]:
    """Return a call with what was wrong in it replaced; an empty list where that is not a part of it.

    A whole word comes before a part of one, such as a name before its value, or one of several servers.
    """
    if wrong in words[1:]:
        at = words.index(wrong, 1)
        return [*words[:at], right, *words[at + 1 :]]
    part = re.compile(rf"(?<![\w-]){re.escape(wrong)}(?![\w-])")
    for at, word in enumerate(words[1:], start=1):
        found = part.search(word) if wrong else None
        if found is not None:
            return [*words[:at], word[: found.start()] + right + word[found.end() :], *words[at + 1 :]]
    return []


def whole_call(words: Sequence[str], command: str, name_of: Callable[[str], str]) -> str:
    """Return a proposed ``set`` of some settings as the whole call that was typed, with these values in it.

    ``name_of`` gives a setting's own name for what was typed. Another command is returned as it is.
    """
    import shlex

    typed = list(words)
    first = next((at for at, word in enumerate(typed) if "=" in word and not word.startswith("-")), 0)
    if not command.startswith("roundgate set ") or typed[:1] != ["set"] or not first:
        return command  # among them advice in words, which no shell can read
    step = step_of(command)
    proposed = shlex.split(step.command)
    for assignment in proposed[3:]:
        name = assignment.partition("=")[0]
        at = next((at for at in range(first, len(typed)) if name_of(typed[at].partition("=")[0]) == name), 0)
        if at:
            typed[at] = assignment
        else:
            typed.append(assignment)
    if first == 1:
        typed.insert(1, proposed[2])
    return join_typed(["roundgate", *typed]) + (f"    ({step.hint})" if step.hint else "")
