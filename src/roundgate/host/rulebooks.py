"""Where rulebooks lie: the site's ``rulebooks/``, the person's config folder, then the package."""

from __future__ import annotations

from pathlib import Path

from roundgate.core.nearest import nearest
from roundgate.core.rulebook.model import NO_RULEBOOK, Rulebook
from roundgate.core.rulebook.reading import RulebookProblem, read_rulebook
from roundgate.host.errors import Trouble

_BUNDLED = Path(__file__).parent.parent / "rulebooks"


class BrokenRulebook(Trouble):
    """A rulebook cannot be used; ``problem`` says where it is wrong."""

    def __init__(self, problem: RulebookProblem) -> None:
        """Say the first mistake with its line and column."""
        first = problem.findings[0]
        place = first.place
        at = f"{place.file}:{place.line}:{place.column}"
        shown = f"\n  {place.source}\n  {' ' * (place.column - 1)}^" if place.source else ""
        super().__init__(f"The rulebook is broken at {at}: {first.cause}{shown}", first.do)
        self.problem = problem


def _folders(site: Path | None) -> list[Path]:
    folders = [site / "rulebooks"] if site else []
    from platformdirs import user_config_path  # only where a rulebook is not the site's own

    return [
        *folders,
        user_config_path("roundgate") / "rulebooks",
        _BUNDLED,
    ]


def rulebook_names(site: Path | None) -> list[str]:
    """List the rulebooks there are, the nearest first."""
    names = [path.stem for folder in _folders(site) if folder.is_dir() for path in sorted(folder.glob("*.toml"))]
    return list(dict.fromkeys(names))


def load_rulebook(name: str, site: Path | None, *, checked: bool = False) -> Rulebook:
    """Load a rulebook by its name; the empty name gives the one that knows nothing.

    Raises BrokenRulebook with the place of the mistake, or Trouble where there is no such rulebook.
    """
    if not name:
        return NO_RULEBOOK

    def reader(wanted: str) -> tuple[str, str]:
        path = next((path for path in _paths(_folders(site), wanted) if path.is_file()), None)
        if path is None:
            raise KeyError(wanted)
        return str(path), _text(path)

    try:
        return read_rulebook(name, reader, checked=checked)
    except RulebookProblem as error:
        raise BrokenRulebook(error) from error
    except KeyError as error:
        near = nearest(str(error.args[0]), rulebook_names(site))
        hint = f"Did you mean {near}?" if near else "roundgate rulebook list"
        raise Trouble(f"There is no rulebook '{error.args[0]}'.", hint) from error


def check_rulebook(word: str, site: Path | None) -> Rulebook:
    """Load a rulebook by its name or its file, and check all that it refers to. Raises as ``load_rulebook``."""
    path = Path(word)
    if path.suffix != ".toml":
        return load_rulebook(word, site, checked=True)

    def reader(wanted: str) -> tuple[str, str]:
        near = [path.parent, *_folders(site)]
        found = path if wanted == word else next((one for one in _paths(near, wanted) if one.is_file()), None)
        if found is None:
            raise KeyError(wanted)
        return str(found), _text(found)

    try:
        return read_rulebook(word, reader, checked=True)
    except RulebookProblem as error:
        raise BrokenRulebook(error) from error
    except KeyError as error:
        raise Trouble(f"There is no rulebook '{error.args[0]}'.", "roundgate rulebook list") from error


def _paths(folders: list[Path], name: str) -> list[Path]:
    return [folder / f"{name}.toml" for folder in folders]


def _text(path: Path) -> str:
    try:
        return path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise Trouble(f"The rulebook {path} cannot be read: {error}.", "Mend the file or its permissions.") from error
