"""What comes with a mod that is added: the files that the server wants from it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import PurePath

from roundgate.core.operations.base import Operation
from roundgate.core.operations.copies import CopyFile
from roundgate.host.errors import Trouble, WrongUsage
from roundgate.host.files import Folder
from roundgate.host.workspace import Holder


def copies_for(holder: Holder, setting: str, mods: Sequence[str]) -> list[Operation]:
    """Make the operations that copy what mods bring to where the server wants it, where that is missing.

    None where ``setting`` is not the one that names mods. Raises WrongUsage for a mod that is not there.
    """
    rules = holder.book.mods
    if rules is None or setting != rules.list:
        return []
    made: list[Operation] = []
    for mod in mods:
        folder = rules.folder.replace("{mod}", mod)
        holder.fetch_below(str(PurePath(folder).parent))
        if not (holder.folder / folder).is_dir():
            above = PurePath(folder).parent
            names = Folder(str(holder.folder)).names(str(above))
            there = ", ".join(name for name in names if (holder.folder / above / name).is_dir())
            raise WrongUsage(
                f"There is no folder {folder} for the mod '{mod}'. Nothing was changed.",
                f"there are: {there}" if there else f"put the mod into {folder} first",
            )
        for source, wanted in rules.copies.items():
            made += _copy(holder, source.replace("{mod}", mod), wanted.replace("{mod}", mod))
    return made


def _copy(holder: Holder, source: str, to: str) -> list[Operation]:
    if not (holder.folder / source).is_file() or (holder.folder / to).exists():
        return []
    text = holder.read([source]).files.texts.get(source)
    if text is None:
        raise Trouble(f"{source} is not a text, and only texts are copied. Nothing was changed.", f"copy it to {to}")
    return [CopyFile(to, source, text.body)]
