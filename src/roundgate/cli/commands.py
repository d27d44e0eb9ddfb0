"""The commands in the order of work: name, group, help line, and where the function is.

Only the command that is called is imported; for the others this table is all that the help needs. So ``--help`` stays
as quick as the smallest program.
"""

from __future__ import annotations

from typing import NamedTuple


class CommandLine(NamedTuple):
    """One command of the program."""

    name: str
    group: str
    help: str
    module: str
    function: str


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
    CommandLine("status", LOOK, "Which servers are up, and what waits or differs.", "look", "status"),
    CommandLine("show", LOOK, "The settings of a server, and where their layers differ.", "look", "show"),
    CommandLine("explain", LOOK, "All there is to know of a setting, a list or a finding code.", "look", "explain"),
    CommandLine("compare", LOOK, "What differs between servers, defaults, presets, rounds.", "comparing", "compare"),
    CommandLine("odds", LOOK, "What players will find in crates and tables, worked out.", "loot.odds", "odds"),
    CommandLine("curve", LOOK, "Levels: the points that each needs, and what it grants.", "loot.curve", "curve"),
    CommandLine("fit", LOOK, "Ports, memory and cores of this machine: promised, clashing, free.", "fleet.fit", "fit"),
    CommandLine("set", EDIT, "Change settings: NAME=VALUE, with units as people say them.", "edit", "set_values"),
    CommandLine("reset", EDIT, "Give settings their default again.", "edit", "reset"),
    CommandLine("add", EDIT, "Add entries to a list.", "edit", "add"),
    CommandLine("remove", EDIT, "Remove entries from a list.", "edit", "remove"),
    CommandLine("move", EDIT, "Move an entry of a list to another place.", "edit", "move"),
    CommandLine("arrange", EDIT, "Records in the order of a field, or numbered anew.", "changes.arranging", "arrange"),
    CommandLine("switch", EDIT, "Comment keys out, or let them count again.", "edit", "switch"),
    CommandLine("rename", EDIT, "Give a key another name, in its place.", "edit", "rename"),
    CommandLine("preset", EDIT, "A named set of values: list, use or save one.", "comparing", "preset"),
    CommandLine("edit", EDIT, "A file in your own editor, checked when it closes.", "changes.editor", "edit"),
    CommandLine("slate", EDIT, "What waits: the changes, what they mean, the difference.", "edit", "slate"),
    CommandLine("discard", EDIT, "Take waiting changes back.", "edit", "discard"),
    CommandLine("check", CHECK, "Find what is wrong, on disk and on the slate.", "check", "check"),
    CommandLine("apply", APPLY, "Bring the slate into force by a round: proven, or undone.", "apply", "apply"),
    CommandLine("cancel", APPLY, "Call off a round that waits, before it writes.", "apply", "cancel"),
    CommandLine("rounds", APPLY, "The rounds so far; 'rounds show N' for one of them.", "apply", "rounds"),
    CommandLine("rewind", APPLY, "Put the files back as they were before a round.", "apply", "rewind"),
    CommandLine("recover", APPLY, "Finish what a crash broke off.", "apply", "recover"),
    CommandLine("backup", APPLY, "Save worlds, or a whole folder; check or restore one.", "backups.command", "backup"),
    CommandLine("backups", APPLY, "The backups that there are.", "backups.command", "backups"),
    CommandLine("timetable", APPLY, "What is done by itself and when.", "timetable.command", "timetable"),
    CommandLine("skip", APPLY, "Leave out the next moment of the timetable.", "timetable.command", "skip"),
    CommandLine("clock", APPLY, "See to the timetable of servers that no keeper holds.", "timetable.command", "clock"),
    CommandLine("notices", APPLY, "Who is told of a restart or a crash; send a test.", "notices.command", "notices"),
    CommandLine("start", RUN, "Start a server and see that it is up.", "run", "start"),
    CommandLine("stop", RUN, "Stop a server and see that it is down.", "run", "stop"),
    CommandLine("restart", RUN, "Stop and start a server without a change.", "run", "restart"),
    CommandLine("console", RUN, "Talk to a running server's console.", "run", "console"),
    CommandLine("send", RUN, "Send one line to a running server's console.", "run", "send"),
    CommandLine("now", RUN, "Let a running server do something at once: a course, a kick.", "running.acting", "now"),
    CommandLine("keep", RUN, "Put what only the console has onto the slate.", "running.acting", "keep"),
    CommandLine("log", RUN, "What a server has said.", "run", "log"),
    CommandLine("people", PEOPLE, "Who is who, by which ids, and who was seen.", "who.people", "people"),
    CommandLine("roster", PEOPLE, "Who is admin, guest or banned where; sync with the book.", "who.people", "roster"),
    CommandLine("ranks", PEOPLE, "Who may do what, why, and what the slate alters of it.", "ranks.command", "ranks"),
    CommandLine("init", SITE, "Make a site here.", "site", "init"),
    CommandLine("adopt", SITE, "Make a folder a server of the site.", "site", "adopt"),
    CommandLine("unadopt", SITE, "Take a server out of the site; its files stay.", "site", "unadopt"),
    CommandLine("unit", SITE, "Print a systemd unit that brings a server up at boot.", "site", "unit"),
    CommandLine("rulebook", SITE, "List the rulebooks, check one, or draft one from files.", "site", "rulebook"),
    CommandLine("demo", SITE, "Watch the whole of it on made-up servers.", "demo", "demo"),
)
