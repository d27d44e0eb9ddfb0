"""Write man/roundgate.1, and a page for each command, from the commands' own help."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import roundgate
from roundgate.cli.grammar.commands import COMMANDS
from roundgate.cli.grammar.group import loaded
from roundgate.cli.grammar.verbs import CommandLine
from roundgate.cli.main import HELP

MAN = Path(__file__).parent.parent / "man"


def pages() -> dict[str, str]:
    """Return the text of each page by the name of its file."""
    made = {"roundgate.1": "\n".join(_program()) + "\n"}
    for line in COMMANDS:
        made[f"roundgate-{line.name}.1"] = "\n".join(_command(line)) + "\n"
    return made


def _head(name: str, about: str) -> Iterator[str]:
    yield '.\\" Made by docs/make_man.py from the help of the command.'
    yield f'.TH {name.upper()} 1 "" "roundgate {roundgate.__version__}" "Round Gate"'
    yield f".SH NAME\n{_text(name)} \\- {_text(about.rstrip('.'))}"


def _program() -> Iterator[str]:
    yield from _head("roundgate", "edit a game server's settings, and bring them into force, proven or undone")
    yield ".SH SYNOPSIS\n.B roundgate\n.RI [ --site \\ FOLDER ]\n.I COMMAND\n.RI [ ARGUMENT ]..."
    yield f".SH DESCRIPTION\n{_text(HELP)}"
    yield ".SH COMMANDS"
    group = ""
    for line in COMMANDS:
        if line.group != group:
            group = line.group
            yield f".SS {_text(group)}"
        yield f".TP\n.BR roundgate-{_text(line.name)} (1)\n{_text(line.help)}"
    yield (
        ".SH EXIT STATUS\n.TP\n0\nDone, and nothing wrong.\n.TP\n1\nFindings of level error, or not done.\n"
        ".TP\n2\nWrong arguments.\n.TP\n3\nA round was rewound.\n.TP\n4\nA round needs to be recovered.\n"
        ".TP\n5\nAnother round holds the server."
    )


def _command(line: CommandLine) -> Iterator[str]:
    yield from _head(f"roundgate-{line.name}", line.help)
    if line.verbs is None:
        command = loaded(line)
        yield f".SH SYNOPSIS\n{_usage(command, line.name)}\n.SH DESCRIPTION\n{_paragraphs(command.help)}"
        yield from _options(command, ".SH OPTIONS")
        return
    yield f".SH SYNOPSIS\n.B roundgate {line.name}\n.I VERB\n.RI [ ARGUMENT ]..."
    yield f".SH DESCRIPTION\n{_paragraphs(line.verbs.page)}\n.PP\nWithout a verb it is {line.verbs.default}.\n.SH VERBS"
    for verb in line.verbs.verbs:
        command = loaded(verb)
        yield f".SS {verb.name}\n{_usage(command, f'{line.name} {verb.name}')}\n.PP\n{_paragraphs(command.help)}"
        yield from _options(command, "")


def _usage(command: Any, name: str) -> str:
    arguments = [param.metavar or f"[{param.name.upper()}]" for param in command.params if not _is_option(param)]
    shown = f"\n.I {_text(' '.join(arguments))}" if arguments else ""
    return f".B roundgate {_text(name)}\n.RI [ OPTION ]...{shown}"


def _options(command: Any, heading: str) -> Iterator[str]:
    options = [param for param in command.params if _is_option(param) and not param.hidden]
    if options and heading:
        yield heading
    for option in options:
        value = f" \\fI{_text(option.metavar or option.type.name.upper())}\\fR" if not option.is_flag else ""
        names = ", ".join(f"\\fB{_text(name)}\\fR" for name in [*option.opts, *option.secondary_opts])
        yield f".TP\n{names}{value}\n{_text(option.help)}"


def _is_option(param: Any) -> bool:
    return bool(param.param_type_name == "option")


def _paragraphs(text: str) -> str:
    return "\n.PP\n".join(_text(" ".join(part.split())) for part in text.replace("\\[", "[").split("\n\n"))


def _text(text: str) -> str:
    """Return a text as roff reads it: no sign of it is a command."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return re.sub(r"^([.'])", r"\\&\1", escaped, flags=re.MULTILINE)


if __name__ == "__main__":
    MAN.mkdir(exist_ok=True)
    for name, text in pages().items():
        (MAN / name).write_text(text, "utf-8")
