"""The commands that have several verbs: each verb is a command of its own, with its own options, help and completion.

As in ``commands``, only the verb that is called is imported.
"""

from __future__ import annotations

from typing import NamedTuple


class CommandLine(NamedTuple):
    """One command: its name, the heading above it in the help, its help line, and where its function is."""

    name: str
    group: str
    help: str
    module: str = ""
    function: str = ""
    verbs: Verbs | None = None
    """Its verbs, where it has several: then it has no function of its own."""


class Verbs(NamedTuple):
    """The verbs of a command, and what its help says above them."""

    page: str
    verbs: tuple[CommandLine, ...]
    default: str
    """The verb that a call without one means."""
    former: str = ""
    """The verb that a call with arguments and without a verb used to mean."""


ASK, CHANGE = "Questions", "Changes (onto the slate)"
BOOK = "Changes of the book"

FIT = Verbs(
    "Which ports, how much memory and which cores the servers of this machine are promised, and what clashes.\n\n"
    "What waits on the slates counts. The exit code is 1 where promises cannot all be kept.",
    (
        CommandLine("all", ASK, "Show ports, memory and cores of the servers.", "fleet.fit", "everything"),
        CommandLine("ports", ASK, "Show the ports; find a free block for a server.", "fleet.fit", "ports"),
        CommandLine("memory", ASK, "Show how much memory the servers may take.", "fleet.fit", "memory"),
        CommandLine("cores", ASK, "Show who shares which cores; deal them out.", "fleet.fit", "cores"),
    ),
    "all",
)
PRESET = Verbs(
    "Presets are named sets of values: in the rulebook, and in the site's folder presets.",
    (
        CommandLine("list", ASK, "List the presets that fit a server.", "comparing", "list_presets"),
        CommandLine("use", CHANGE, "Put a preset's values onto the slate.", "comparing", "use_preset"),
        CommandLine("save", CHANGE, "Save what a server has as a preset.", "comparing", "save"),
    ),
    "list",
    former="use",
)
ROUNDS = Verbs(
    "A round brings changes into force: it saves the old files, stops the server, writes, starts it, and verifies that "
    "the change is in force; or it puts everything back. 'roundgate apply' begins one.",
    (
        CommandLine("list", ASK, "List the rounds, the newest first.", "apply", "list_rounds"),
        CommandLine("show", ASK, "Show one round: its steps, its changes, its outcome.", "apply", "show_round"),
        CommandLine("rewind", "Changes", "Put the files back as they were before a round.", "apply", "rewind"),
        CommandLine("recover", "Changes", "Finish a round that a crash interrupted.", "apply", "recover"),
        CommandLine("cancel", "Changes", "Cancel a round that waits, before it writes.", "apply", "cancel"),
    ),
    "list",
)
BACKUP = Verbs(
    "A backup is a server's worlds, or its whole folder, in one archive, verified by reading it again.\n\n"
    "Older backups are deleted as [backup] in the site file says.",
    (
        CommandLine("list", ASK, "List the backups, the newest first.", "backups.command", "list_backups"),
        CommandLine("check", ASK, "Verify a backup by reading it again.", "backups.command", "check"),
        CommandLine("make", "Changes", "Save worlds, or a whole folder.", "backups.command", "make"),
        CommandLine("restore", "Changes", "Restore a backup, or some of its files.", "backups.command", "restore"),
    ),
    "list",
    former="make",
)
TIMETABLE = Verbs(
    "What runs on a schedule: the entries [timetable.NAME] of the site file.\n\n"
    "A server's keeper runs them; for servers that another driver runs, 'roundgate timetable run' does.",
    (
        CommandLine("show", ASK, "Show each entry, its next moment and its last run.", "timetable.command", "show"),
        CommandLine("skip", "Changes", "Skip the next run of an entry, this one time.", "timetable.command", "skip"),
        CommandLine("run", "Changes", "Run the timetable of servers that have no keeper.", "timetable.command", "run"),
    ),
    "show",
)
NOTICES = Verbs(
    "Who is notified when a server goes down, comes up or crashes: webhooks and mail, in [notices] of the site file.",
    (
        CommandLine(
            "list", ASK, "List the recipients, and what became of the last notice.", "notices.command", "listed"
        ),
        CommandLine("test", "Changes", "Send a test to some recipients, or to all.", "notices.command", "test"),
    ),
    "list",
)
PLACE = Verbs(
    "The way to the files of a server on a rented machine, whose folder is an address.",
    (CommandLine("check", ASK, "Try each step of the way; nothing is changed.", "running.place", "check"),),
    "check",
)
PEOPLE = Verbs(
    "The site's people: who is who, by which ids, what they are meant to be, and who was seen on a server.\n\n"
    "The book is people.toml in the site's folder. Wherever an id is wanted, a name of it will do.",
    (
        CommandLine("list", ASK, "List the people of the book.", "who.people", "list_people"),
        CommandLine("show", ASK, "Show everything about one person, on all servers.", "who.people", "show"),
        CommandLine("seen", ASK, "Show who was seen on servers, from their logs.", "who.people", "seen"),
        CommandLine("add", BOOK, "Put somebody into the book.", "who.people", "add"),
        CommandLine("note", BOOK, "Write a note about somebody.", "who.people", "note"),
        CommandLine("rename", BOOK, "Give somebody another name.", "who.people", "rename"),
        CommandLine("merge", BOOK, "Make one person of two.", "who.people", "merge"),
        CommandLine("want", BOOK, "Note on which roster somebody is meant to be.", "who.people", "want"),
        CommandLine("remove", BOOK, "Take somebody out of the book.", "who.people", "remove"),
    ),
    "list",
)
ROSTER = Verbs(
    "A roster is a list of people that a server keeps: its admins, guests or bans.",
    (
        CommandLine("show", ASK, "Show who is on which roster of which server.", "who.roster", "show"),
        CommandLine("sync", CHANGE, "Make the rosters as the people book wants them.", "who.roster", "sync"),
        CommandLine("import", CHANGE, "Put the ids that a text holds onto a roster.", "who.roster", "import_text"),
        CommandLine("first", "Changes", "Make whoever joins a fresh server its first admin.", "who.roster", "first"),
    ),
    "show",
)
RANKS = Verbs(
    "Show who may do what, and why, decided as the server itself decides it; change ranks.\n\n"
    "WHO is a name, an id, a rank, or newcomers. SERVER may be left out where there is one, or inside its folder; "
    "SERVER@WORLD is one world, where each has ranks; SERVER@KIND is one of several kinds of ranks.",
    (
        CommandLine("tree", ASK, "Show the ranks, each below those that it inherits from.", "ranks.answers", "tree"),
        CommandLine("who", ASK, "Show who has a permission.", "ranks.answers", "who"),
        CommandLine("may", ASK, "Answer yes or no: exit code 0 or 1.", "ranks.answers", "may"),
        CommandLine("why", ASK, "Show which entry decides, and what would decide next.", "ranks.answers", "why"),
        CommandLine("of", ASK, "Show all that somebody may do.", "ranks.answers", "of"),
        CommandLine("matrix", ASK, "Show permissions by ranks, or by people.", "ranks.tables", "matrix"),
        CommandLine("impact", ASK, "Show who gains and who loses what by the slate.", "ranks.tables", "impact"),
        CommandLine("diff", ASK, "Show which ranks differ between two servers.", "ranks.tables", "diff"),
        CommandLine("test", ASK, "Compare the ranks with a file of expectations.", "ranks.tables", "test"),
        CommandLine("catalogue", ASK, "List the known permissions; add some from a text.", "ranks.tables", "catalogue"),
        CommandLine("add", CHANGE, "Add a rank.", "ranks.edits", "add"),
        CommandLine("copy", CHANGE, "Copy a rank.", "ranks.edits", "copy"),
        CommandLine("rename", CHANGE, "Rename a rank, wherever it is named.", "ranks.edits", "rename"),
        CommandLine("remove", CHANGE, "Remove a rank.", "ranks.edits", "remove"),
        CommandLine("grant", CHANGE, "Grant permissions to a rank.", "ranks.edits", "grant"),
        CommandLine("deny", CHANGE, "Deny permissions to a rank.", "ranks.edits", "deny"),
        CommandLine("withdraw", CHANGE, "Take entries about permissions out of a rank.", "ranks.edits", "withdraw"),
        CommandLine("join", CHANGE, "Put people into a rank.", "ranks.edits", "join"),
        CommandLine("leave", CHANGE, "Take people out of a rank.", "ranks.edits", "leave"),
        CommandLine("default", CHANGE, "Choose the rank of newcomers.", "ranks.edits", "default"),
        CommandLine("starter", CHANGE, "Create a first set of ranks.", "ranks.edits", "starter"),
    ),
    "tree",
)
RULEBOOK = Verbs(
    "A rulebook describes a game's settings: type, range, unit, default, meaning, and how its server starts and stops.",
    (
        CommandLine("list", ASK, "List the rulebooks.", "rulebook.command", "list_rulebooks"),
        CommandLine("show", ASK, "Print a rulebook, merged with its layers.", "rulebook.command", "show"),
        CommandLine("check", ASK, "Find mistakes in rulebooks.", "rulebook.command", "check"),
        CommandLine("schema", ASK, "Print a JSON Schema, for an editor.", "rulebook.command", "schema"),
        CommandLine("draft", "Changes", "Draft a rulebook from a server's files.", "rulebook.command", "draft"),
        CommandLine("allow", "Changes", "Allow a server's rulebook to run its commands.", "rulebook.command", "allow"),
    ),
    "list",
)

FORMER = {
    "backups": ("backup", "list"),
    "skip": ("timetable", "skip"),
    "clock": ("timetable", "run"),
    "rewind": ("rounds", "rewind"),
    "recover": ("rounds", "recover"),
    "cancel": ("rounds", "cancel"),
}
"""Commands of version 0.1 that are verbs now: still understood, with a note."""
FORMER_OPTIONS = {
    "--picture": "--image",
    "--together": "--parallel",
    "--go-on": "--continue-on-error",
    "--empty-within": "--empty-timeout",
    "--despite-errors": "--force",
    "--yes-really": "--force",
}
"""Options of version 0.1 that have another name now: still understood, with a note."""
ELSEWHERE = {
    "list": ("The servers are listed by 'status', settings by 'show'.", "status"),
    "undo": ("'discard --last' takes back the last change of the slate; 'rounds rewind' undoes a round.", ""),
    "diff": ("'slate' shows the diff of what waits; 'compare' what differs between servers.", "slate"),
    "validate": ("'check' finds errors.", "check"),
    "lint": ("'check' finds errors.", "check"),
    "reload": ("'apply --live' applies what needs no stop; 'restart' restarts.", ""),
    "players": ("'status' shows who is on; 'people seen' who was there.", "status"),
    "ban": ("A ban is an entry of a roster.", "roster show"),
    "logs": ("The command is 'log'.", "log --help"),
    "settings": ("The command is 'show'.", "show --help"),
    "config": ("The command is 'show'.", "show --help"),
    "history": ("The command is 'rounds'.", "rounds"),
    "rollback": ("'rounds rewind' puts the files back as they were before a round.", "rounds"),
}
"""What people type that is no command: where it is, and a command to begin with."""
