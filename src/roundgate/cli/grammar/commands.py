"""The commands in the order of work.

Only the command that is called is imported; for the others this table is all that the help needs. So ``--help`` stays
as quick as the smallest program.
"""

from __future__ import annotations

from collections.abc import Iterator

from roundgate.cli.grammar import verbs
from roundgate.cli.grammar.verbs import CommandLine

LOOK, EDIT, CHECK, APPLY, RUN, PEOPLE, SITE = (
    "Look",
    "Edit (onto the slate)",
    "Check",
    "Apply",
    "Run",
    "People",
    "Site",
)

COMMANDS = (
    CommandLine("status", LOOK, "Show which servers are up, and what waits or differs.", "look", "status"),
    CommandLine("show", LOOK, "Show a server's settings, and where their layers differ.", "look", "show"),
    CommandLine("explain", LOOK, "Explain a setting, a list or a finding code.", "look", "explain"),
    CommandLine("compare", LOOK, "Compare servers, defaults, presets and rounds.", "comparing", "compare"),
    CommandLine("odds", LOOK, "Calculate what players find in crates and loot tables.", "loot.odds", "odds"),
    CommandLine("curve", LOOK, "Show levels: the points that each needs, and what it grants.", "loot.curve", "curve"),
    CommandLine("fit", LOOK, "Show ports, memory and cores: promised, clashing, free.", verbs=verbs.FIT),
    CommandLine("set", EDIT, "Change settings: NAME=VALUE, with units such as 30m or 2G.", "edit", "set_values"),
    CommandLine("reset", EDIT, "Reset settings to their defaults.", "edit", "reset"),
    CommandLine("add", EDIT, "Add entries to a list.", "edit", "add"),
    CommandLine("remove", EDIT, "Remove entries from a list.", "edit", "remove"),
    CommandLine("move", EDIT, "Move an entry to another place in its list.", "edit", "move"),
    CommandLine("arrange", EDIT, "Sort records by a field, or renumber them.", "changes.arranging", "arrange"),
    CommandLine("switch", EDIT, "Comment keys out, or back in.", "edit", "switch"),
    CommandLine("rename", EDIT, "Rename a key in its place.", "edit", "rename"),
    CommandLine("preset", EDIT, "List, use or save a named set of values.", verbs=verbs.PRESET),
    CommandLine(
        "edit", EDIT, "Edit a file in your own editor; it is checked when you close it.", "changes.editor", "edit"
    ),
    CommandLine("slate", EDIT, "Show what waits: the changes, what they mean, the diff.", "edit", "slate"),
    CommandLine("discard", EDIT, "Take waiting changes off the slate.", "edit", "discard"),
    CommandLine("check", CHECK, "Find errors on disk and on the slate, and fix the safe ones.", "check", "check"),
    CommandLine("apply", APPLY, "Apply the slate in a round: proven, or undone.", "apply", "apply"),
    CommandLine("rounds", APPLY, "List the rounds; show, rewind, recover or cancel one.", verbs=verbs.ROUNDS),
    CommandLine("backup", APPLY, "Make, list, check and restore backups.", verbs=verbs.BACKUP),
    CommandLine("timetable", APPLY, "Show what runs on a schedule; skip a run.", verbs=verbs.TIMETABLE),
    CommandLine("notices", APPLY, "Show who is notified of restarts and crashes; send a test.", verbs=verbs.NOTICES),
    CommandLine("start", RUN, "Start a server, and verify that it is up.", "run", "start"),
    CommandLine("stop", RUN, "Stop a server, and verify that it is down.", "run", "stop"),
    CommandLine("restart", RUN, "Stop and start a server without changing anything.", "run", "restart"),
    CommandLine("console", RUN, "Open a running server's console.", "run", "console"),
    CommandLine("send", RUN, "Send one line to a running server's console.", "run", "send"),
    CommandLine("now", RUN, "Have a running server do something at once: a course, a kick.", "running.acting", "now"),
    CommandLine("keep", RUN, "Put values that only the console has onto the slate.", "running.acting", "keep"),
    CommandLine("log", RUN, "Show a server's log.", "run", "log"),
    CommandLine("people", PEOPLE, "Show who is who, their ids, and when they were seen.", verbs=verbs.PEOPLE),
    CommandLine("roster", PEOPLE, "Show who is admin, guest or banned where; sync with the book.", verbs=verbs.ROSTER),
    CommandLine("ranks", PEOPLE, "Show who may do what and why; change ranks.", verbs=verbs.RANKS),
    CommandLine("init", SITE, "Create a site in this folder.", "site", "init"),
    CommandLine("adopt", SITE, "Add a server's folder, or its address, to the site.", "site", "adopt"),
    CommandLine("place", SITE, "Check the way to a rented server's files.", verbs=verbs.PLACE),
    CommandLine("unadopt", SITE, "Take a server out of the site; its files stay.", "site", "unadopt"),
    CommandLine("unit", SITE, "Print a systemd unit that brings a server up at boot.", "site", "unit"),
    CommandLine("rulebook", SITE, "List the rulebooks; check one, or draft one from files.", verbs=verbs.RULEBOOK),
    CommandLine("demo", SITE, "Try everything on made-up servers.", "demo", "demo"),
)


def every_command() -> Iterator[tuple[tuple[str, ...], CommandLine]]:
    """Yield each command and each verb that has a function, with the words that call it."""
    for line in COMMANDS:
        if line.verbs is None:
            yield (line.name,), line
        else:
            yield from (((line.name, verb.name), verb) for verb in line.verbs.verbs)
