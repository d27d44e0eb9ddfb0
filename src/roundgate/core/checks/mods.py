"""Is each mod there, with all that the server wants of it, and in an order that works?"""

from __future__ import annotations

from collections.abc import Iterator

from roundgate.core.checks.context import CheckContext
from roundgate.core.findings import Finding, FindingCode, Place
from roundgate.core.rulebook.model import Mods

CODES = (
    FindingCode(
        "mod-missing",
        "error",
        "A mod whose folder is not there",
        "The server stops at its start, or runs without the mod. Capitals count.",
    ),
    FindingCode(
        "mod-file-missing",
        "error",
        "A mod's file that is not where the server wants it",
        "Such as its key: without it no player who has the mod can join. Adding the mod with Round Gate copies it.",
    ),
    FindingCode(
        "mod-order",
        "error",
        "A mod that needs another one before it",
        "The other mod is not in the list, or comes after it.",
    ),
)


def mods_in(context: CheckContext) -> tuple[str, ...]:
    """Return the names of the mods that a server loads, in their order."""
    mods = context.book.mods
    held = context.files.counting(mods.list) if mods else None
    return held if isinstance(held, tuple) else ()


def needs_of(context: CheckContext, mods: Mods, mod: str) -> list[str]:
    """Return the mods that a mod needs, as its own file says."""
    lines = context.files.facts.lines(mods.needs.replace("{mod}", mod)) if mods.needs else []
    return [line for line in lines if line and line[0] not in "#;/"]


def check_mods(context: CheckContext) -> Iterator[Finding]:
    """Check the mods that the server's list names."""
    mods = context.book.mods
    if mods is None:
        return
    names = mods_in(context)
    spec = context.book.setting[mods.list]
    path, entry = context.files.path_of(spec), context.files.entry(mods.list)
    place = context.entry_place(path, entry) if entry else Place(path)
    for number, mod in enumerate(names):
        folder = mods.folder.replace("{mod}", mod)
        if context.files.facts.has(folder) is False:
            do = context.command("remove", mods.list, mod)
            yield context.finding("mod-missing", "error", place, f"There is no folder {folder}.", do, mods.list)
            continue
        for source, wanted in mods.copies.items():
            to = wanted.replace("{mod}", mod)
            if to in context.files.texts or context.files.facts.has(to) is not False:
                continue
            if context.files.facts.has(source.replace("{mod}", mod)) is False:
                continue  # the mod brings no such file
            cause = f"The mod {mod} has no {to}."
            do = context.command("add", mods.list, mod)
            yield context.finding("mod-file-missing", "error", place, cause, do, mods.list)
        for need in needs_of(context, mods, mod):
            if need not in names[:number]:
                where = f"comes after {mod}" if need in names else "is not in the list"
                cause = f"The mod {mod} needs {need} before it, and {need} {where}."
                do = (
                    context.command("move", mods.list, need, options=("--to", str(number)))
                    if need in names
                    else context.command("add", mods.list, need, options=("--at", str(number)))
                )
                yield context.finding("mod-order", "error", place, cause, do, mods.list)
