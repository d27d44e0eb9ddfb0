"""Random ranks, written in each of the forms that the stand-in knows; and both readers of them."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from pathlib import Path

import yaml

from gullwind_standin.ranks import Ranks
from roundgate.core.files import ServerFiles
from roundgate.core.ranks.model import RankMember, Scheme
from roundgate.core.ranks.reading import schemes_of
from roundgate.core.rulebook.expansion import for_files
from roundgate.core.text import Text
from roundgate.host.rulebooks import load_rulebook

PERMISSIONS = ["sail.start", "race.start", "race.abort", "race.delete", "chat.mute", "rank.give", "rank.take"]
WORDS = [*PERMISSIONS, "race.*", "chat.*", "*"]
SAILORS = [f"GW-{n:04}-AAAA" for n in range(6)]
WORLD = "bay"
Files = dict[str, str]


def some(dice: random.Random, words: list[str], share: float) -> list[str]:
    """Return some of the words, in any order."""
    found = [word for word in words if dice.random() < share]
    dice.shuffle(found)
    return found


def names_of(dice: random.Random) -> list[str]:
    """Return the names of some ranks."""
    return ["deckhand", *(f"rank{n}" for n in range(dice.randint(0, 5)))]


def tree(dice: random.Random, names: list[str]) -> dict[str, dict[str, list[str]]]:
    """Return ranks with grants, denials and ranks above."""
    found = {}
    for name in names:
        fields = {
            "also": some(dice, [one for one in names if one != name], 0.3),
            "may": some(dice, WORDS, 0.3),
            "never": some(dice, WORDS[:-1], 0.15),
        }
        order = some(dice, list(fields), 1)
        found[name] = {field: fields[field] for field in order if fields[field]}
    return found


def dumped(data: object, dice: random.Random) -> str:
    """Write YAML, in one of the two ways of writing lists."""
    return yaml.safe_dump(
        data, sort_keys=False, width=10_000, default_flow_style=None if dice.random() < 0.5 else False
    )


def deck(dice: random.Random) -> Files:
    """Ranks as a tree, and officers with one rank each."""
    names = names_of(dice)
    officers = [{"id": sailor, "name": sailor, "rank": dice.choice([*names, "nobody"])} for sailor in SAILORS[:5]]
    whole = {"newcomers": dice.choice([*names, "nobody"]), "ranks": tree(dice, names)}
    return {"ranks.yml": dumped(whole, dice), "officers.json": json.dumps({"officers": officers})}


def signals(dice: random.Random) -> Files:
    """Ranks with a switch for each permission; people with several ranks."""
    names, lines = names_of(dice), []
    newcomer = dice.choice([*names, ""])
    for name in names:
        lines.append(f"[{name}]")
        lines += [f"power = {dice.randint(0, 3)}"] if dice.random() < 0.8 else []
        lines += ["newcomer = 1"] if name == newcomer else []
        lines += [f"everything = {dice.randint(0, 1)}"] if dice.random() < 0.3 else []
        lines += [
            f"{permission} = {dice.choice(['0', '1', '1', 'maybe'])}" for permission in some(dice, PERMISSIONS, 0.5)
        ]
    crew = [f"{sailor} {','.join(some(dice, names, 0.5) or ['nobody'])}" for sailor in SAILORS[:5]]
    return {"signals.ini": "\n".join(lines) + "\n", "signalcrew.txt": "\n".join(crew) + "\n"}


def stores(dice: random.Random) -> Files:
    """A matrix turned on its side: permissions with the roles that have them."""
    names = names_of(dice)
    rights = {permission: some(dice, [*names, "undeclared"], 0.4) for permission in some(dice, PERMISSIONS, 0.8)}
    crew = [{f"{sailor}@cove": dice.choice([*names, "nobody"])} for sailor in SAILORS[:5]]
    whole = {"newcomers": dice.choice(names), "roles": names, "rights": rights, "crew": crew}
    return {"rights.yml": dumped(whole, dice)}


def lines(dice: random.Random) -> Files:
    """Ranks in a line each, where the last word counts."""
    names = names_of(dice)
    written = []
    for name in names:
        words = [f"{dice.choice('++-')}{word}" for word in some(dice, WORDS, 0.5)]
        words += [f"*{one}" for one in some(dice, [one for one in names if one != name], 0.3)]
        dice.shuffle(words)
        written.append(f"{name}: {' '.join(words or ['+sail.start'])}")
    crew = [f"{sailor}={','.join(some(dice, names, 0.4) or ['nobody'])}" for sailor in SAILORS[:5]]
    return {"crewlines.properties": "\n".join(written) + "\n", "linecrew.properties": "\n".join(crew) + "\n"}


def levels(dice: random.Random) -> Files:
    """A level for each permission, and for each of some people."""
    needed = [f"{permission}={dice.randint(0, 9)}" for permission in some(dice, PERMISSIONS, 0.8)]
    granted = [f"grant {sailor} {dice.randint(1, 9)}" for sailor in SAILORS[:5]]
    return {"commandlevels.properties": "\n".join(needed) + "\n", "startup.cfg": "\n".join(granted) + "\n"}


def waters(dice: random.Random) -> Files:
    """Ranks of one world, with several ranks and own permissions for people."""
    names = names_of(dice)
    ranks: dict[str, dict[str, object]] = {name: dict(fields) for name, fields in tree(dice, names).items()}
    if dice.random() < 0.8:
        name = dice.choice(names)
        ranks[name] = {"newcomer": True, **ranks[name]}
    crew = {}
    for sailor in SAILORS[:5]:
        fields = {"ranks": some(dice, names, 0.5), "may": some(dice, WORDS, 0.1), "never": some(dice, PERMISSIONS, 0.1)}
        crew[sailor] = {field: held for field, held in fields.items() if held} or {"ranks": ["nobody"]}
    return {f"waters/{WORLD}/ranks.yml": dumped({"ranks": ranks, "crew": crew}, dice)}


SHAPES: dict[str, Callable[[random.Random], Files]] = {
    "deck": deck,
    "signals": signals,
    "stores": stores,
    "lines": lines,
    "levels": levels,
    "waters": waters,
}


def ours(kept: str, files: Files, folder: Path) -> Scheme:
    """Read the files of a form as Round Gate does."""
    book = for_files(
        load_rulebook("gullwind", folder), {"waters": [], "waters-ranks": [(WORLD, f"waters/{WORLD}/ranks.yml")]}
    )
    core = f"ranks.kept={kept}\nworld.save={WORLD}\n"
    (scheme,) = schemes_of(
        ServerFiles(book, {name: Text(text) for name, text in {**files, "gullwind.properties": core}.items()})
    )
    return scheme


def theirs(kept: str, files: Files, folder: Path) -> Callable[[str, str], bool]:
    """Let the stand-in read the files of a form; return its own answers."""
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    ranks = Ranks(str(folder), kept, WORLD)
    officers = {
        officer["id"]: officer["rank"]
        for officer in json.loads(files.get("officers.json", '{"officers": []}'))["officers"]
    }
    granted = [line.split() for line in files.get("startup.cfg", "").splitlines() if line.startswith("grant ")]
    levels = {words[1]: int(words[2]) for words in granted}

    def answer(sailor: str, permission: str) -> bool:
        return ranks.allows(sailor, permission, officers.get(sailor, ""), levels.get(sailor, 0))

    return answer


def members_of(scheme: Scheme) -> dict[str, RankMember]:
    """Return everybody, and whoever has no rank, by id."""
    return {sailor: scheme.members.get(sailor, scheme.newcomer()) for sailor in SAILORS}
