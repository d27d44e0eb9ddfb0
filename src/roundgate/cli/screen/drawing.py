"""What all pictures have in common: their size, how they are written, and names as they can be drawn."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from roundgate.cli.screen.output import echo
from roundgate.host.errors import Trouble, WrongUsage

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_ENDINGS = (".png", ".svg", ".pdf")
_WIDTH, HEIGHT, _DPI = 12.8, 8.0, 100
"""Inches and dots: 1280 by 800."""
BEFORE, AFTER, FALLS = "#9a9a9a", "#0072b2", "#d55e00"
"""Grey, and two of the colours that people who see few colours can tell apart (Okabe and Ito, 2008)."""


def check_name(path: str) -> None:
    """See that the name of a file says a kind of picture. Raises WrongUsage."""
    if not path.lower().endswith(_ENDINGS):
        raise WrongUsage(f"'{path}' is not a picture.", f"A name that ends with {', '.join(_ENDINGS)}")


def new_figure(height: float = HEIGHT) -> Figure:
    """Make an empty picture, so many inches high. Matplotlib is loaded here, and only where something is drawn."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure
    from matplotlib.layout_engine import ConstrainedLayoutEngine

    return Figure(figsize=(_WIDTH, height), dpi=_DPI, layout=ConstrainedLayoutEngine(w_pad=0.2, h_pad=0.2))


def save(figure: Figure, path: str) -> None:
    """Write a picture, and say so. Raises Trouble."""
    try:
        figure.savefig(path)
    except OSError as error:
        raise Trouble(f"{path} cannot be written: {(error.strerror or str(error)).lower()}.") from error
    echo(f"Drawn: {Path(path)}")


def short(text: str, most: int = 28) -> str:
    """Return a name as it can be drawn: plain signs, and not too many."""
    shown = "".join(sign if sign.isprintable() else "?" for sign in text)
    cut = shown if len(shown) <= most else f"{shown[: most - 1]}…"
    return cut.replace("$", r"\$")
