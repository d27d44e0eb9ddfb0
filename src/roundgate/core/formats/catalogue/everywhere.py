"""Mistakes that any file can have."""

from __future__ import annotations

from roundgate.core.findings import FindingCode

CODES = (
    FindingCode(
        "format-unknown",
        "note",
        "A file of an unknown format",
        "Neither the file's name nor its content tells the format, so nothing was checked. "
        "`check --as FORMAT FILE` says it.",
    ),
    FindingCode(
        "file-empty",
        "warning",
        "An empty file",
        "There is nothing in it. The server uses its defaults, refuses to start, or the file was cut off while it was "
        "saved. Where the format allows an empty file it is still worth a look.",
        "",
        "boat.slots=24",
        "properties",
    ),
    FindingCode(
        "other-format",
        "error",
        "A file of another format than its name says",
        "The name says one format and the content is another: often a page saved in place of the file, or a file "
        "copied over the wrong one. The server reads by the name, or by what it expects.",
        "boat:\n  slots: 24\n  name: Gull\n",
        '{"boat": {"slots": 24, "name": "Gull"}}',
        "json",
    ),
    FindingCode(
        "merge-marker",
        "error",
        "A mark left over from merging two versions",
        "Version control put both versions into the file and marked them. Keep one, and take the marks out.",
        "<<<<<<< ours\nboat.slots=12\n=======\nboat.slots=24\n>>>>>>> theirs",
        "boat.slots=24",
        "properties",
    ),
    FindingCode(
        "hidden-character",
        "warning",
        "A character that cannot be seen",
        "A non-breaking space or a zero-width character came along when the line was copied from a page or a chat. "
        "The server takes it as part of the name or value, or cannot read the line at all.",
        "boat.slots\N{NO-BREAK SPACE}=24",
        "boat.slots=24",
        "properties",
    ),
    FindingCode(
        "key-twice",
        "warning",
        "The same key twice",
        "Only one of them counts: the last one for most servers, the first for some. "
        "Remove the other before somebody edits it.",
        "boat.slots=12\nboat.slots=24",
        "boat.slots=24",
        "properties",
    ),
    FindingCode(
        "parent-off",
        "error",
        "A line commented out, and what belongs to it left standing",
        "The line that names a group or opens a list was commented out by accident; the lines below it now hang in the "
        "air or belong to something else. Take the mark away, or comment out the lines below too.",
        "ranks:\n  deckhand: 1\n#  marshal:\n    colour: red\n",
        "ranks:\n  deckhand: 1\n  marshal:\n    colour: red\n",
        "yaml",
    ),
    FindingCode(
        "comment-in-value",
        "warning",
        "A comment that is read as part of the value",
        "In this format a comment has a line of its own, or a space before its mark. After a value on the same line "
        "it becomes part of the value: no number and no true, so the server uses its default. Where a game's server "
        "does read such comments, its rulebook can say so.",
        "boat.slots=24 # the most",
        "# the most\nboat.slots=24",
        "properties",
    ),
    FindingCode(
        "comment-glued",
        "warning",
        "A comment without a space before its mark",
        "In YAML a mark begins a comment only after a space. Right after a quote or a bracket many readers take it "
        "anyway, and others refuse the file.",
        'name: "Gull"# the fast one',
        'name: "Gull" # the fast one',
        "yaml",
    ),
    FindingCode(
        "encoding-other",
        "warning",
        "Not written in UTF-8",
        "Files of this format are written in UTF-8. This one holds bytes of an older encoding, so letters with accents "
        "come out wrong, or the server refuses the file. Save it as UTF-8.",
    ),
    FindingCode(
        "too-deep",
        "error",
        "Nested deeper than any server reads",
        "Lists and groups are nested more than a few hundred deep. The file was damaged, or made by a "
        "program that went wrong.",
    ),
    FindingCode(
        "not-understood",
        "error",
        "Something here cannot be understood",
        "The reader of this format gives up at this place, and none of the usual mistakes is to be seen. Compare the "
        "line, and the one before it, with one that works.",
    ),
    FindingCode(
        "more-problems",
        "note",
        "There is more wrong in this file",
        "Only the first few mistakes of a file are shown: the others may only follow from them. "
        "Fix these, then check again.",
    ),
)
