"""The next step that a message proposes: a command as data, which runs as it stands, or advice in words."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import NamedTuple

from msgspec import Struct, structs

from roundgate.core.quoting import join_typed


class Command(Struct, frozen=True, tag_field="step", tag="command"):
    """A command to type, word for word. What only a person knows is left open in it, as ``<value>``."""

    verb: str
    """With its sub-command: ``ranks add``."""
    server: str = ""
    """Empty for a command that is about no server, or about a file of none."""
    arguments: tuple[str, ...] = ()
    options: tuple[str, ...] = ()
    hint: str = ""
    """What to know before it is typed."""
    program: str = "roundgate"

    @property
    def typed(self) -> str:
        """The command as a person pastes it into a shell.

        An argument may begin as an option does. What is open in one stays outside its quotes: a shell refuses that.
        """
        odd = any(argument.startswith("-") and argument != "-" for argument in self.arguments)
        words = [*self.options, "--", *self.arguments] if odd else [*self.arguments, *self.options]
        parts = (self.program, self.verb, join_typed(word for word in (self.server, *words) if word))
        return " ".join(part for part in parts if part)

    def __str__(self) -> str:
        """Return it as a part of a sentence."""
        return self.typed + (f" ({self.hint})" if self.hint else "")


class Meant(Struct, frozen=True, tag_field="step", tag="meant"):
    """Advice that a part of the call was meant as something else; a program with the call at hand corrects it."""

    otherwise: Command | str
    """The advice where there is no such call."""
    wrong: str = ""
    right: str = ""

    def __str__(self) -> str:
        """Return the advice."""
        return str(self.otherwise)


class LeftOut(Struct, frozen=True, tag_field="step", tag="left-out"):
    """Advice that something is missing in the call: the server, at its place, or a word at the end."""

    text: str
    word: str = ""
    is_server: bool = False

    def __str__(self) -> str:
        """Return the advice."""
        return self.text


Advice = Command | Meant | LeftOut | str
"""What a message proposes; a text is advice in words and never a command."""


def typed_command(
    verb: str, server: str = "", *arguments: str | int, options: Sequence[str] = (), hint: str = ""
) -> Command:
    """Make a command; one about a file of no server has no server."""
    return Command(verb, server, tuple(map(str, arguments)), tuple(options), hint)


class NextStep(NamedTuple):
    """A command to type, or advice, or both, as texts; each may be empty."""

    command: str
    hint: str

    def lines(self) -> list[str]:
        """Return what is printed below a message, a line each; the command is the last, for that is what people do."""
        hint = [f"hint: {self.hint}"] if self.hint else []
        return [*hint, f"do: {self.command}"] if self.command else hint


def step_of(advice: Advice) -> NextStep:
    """Return the texts of what a message proposes."""
    if isinstance(advice, Meant):
        advice = advice.otherwise
    return NextStep(advice.typed, advice.hint) if isinstance(advice, Command) else NextStep("", str(advice))


def mapped(advice: Advice, change: Callable[[str], str]) -> Advice:
    """Return advice with each of its texts changed, such as blanked out."""
    if isinstance(advice, str):
        return change(advice)
    texts = {name: _changed(getattr(advice, name), change) for name in advice.__struct_fields__}
    return structs.replace(advice, **texts)


def _changed(part: object, change: Callable[[str], str]) -> object:
    if isinstance(part, tuple):
        return tuple(map(change, part))
    return mapped(part, change) if isinstance(part, Command | str) else part


def written_command(text: str, server: str) -> Advice:
    """Read the advice that a rulebook writes as a text: a command of ours with ``{server}`` in it, or plain words."""
    import shlex

    if not text.startswith("roundgate "):
        return text.replace("{server}", server)
    _, *words = shlex.split(text)
    if "{server}" not in words:
        return Command(words[0], "", tuple(words[1:]))
    at = words.index("{server}")
    return Command(" ".join(words[:at]), server, tuple(words[at + 1 :]))


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


def whole_call(words: Sequence[str], advice: Advice, name_of: Callable[[str], str]) -> Advice:
    """Return a proposed ``set`` of some settings as the whole call that was typed, with these values in it.

    ``name_of`` gives a setting's own name for what was typed. Other advice is returned as it is.
    """
    typed = list(words)
    first = next((at for at, word in enumerate(typed) if "=" in word and not word.startswith("-")), 0)
    if not isinstance(advice, Command) or advice.verb != "set" or typed[:1] != ["set"] or not first:
        return advice
    for assignment in advice.arguments:
        name = assignment.partition("=")[0]
        at = next((at for at in range(first, len(typed)) if name_of(typed[at].partition("=")[0]) == name), 0)
        if at:
            typed[at] = assignment
        else:
            typed.append(assignment)
    if first == 1:
        typed.insert(1, advice.server)
    options = () if set(advice.options) <= set(typed) else advice.options
    return structs.replace(advice, verb=join_typed(typed), server="", arguments=(), options=options)
