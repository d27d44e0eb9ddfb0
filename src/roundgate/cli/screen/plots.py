"""What needs the packages of ``roundgate[plots]``: pictures, and curves through points. Checked before any work."""

from __future__ import annotations

from typing import Annotated

import typer

from roundgate.core.next_step import Command


def need(package: str, what: str) -> None:
    """Check that a package is installed. Raises Trouble with the command that installs it."""
    import sys
    from importlib.util import find_spec

    from roundgate.host.errors import Trouble

    if find_spec(package) is None:
        raise Trouble(
            f"{what} needs {package}, which is not installed.",
            Command("-m pip install", "", (package,), program=sys.executable),
        )


def _checked_image(path: str) -> str:
    if path:
        from roundgate.cli.screen.drawing import check_name

        check_name(path)
        need("matplotlib", "--image")
    return path


def _checked_points(points: str) -> str:
    if points:
        need("scipy", "--through")
    return points


Image = Annotated[
    str, typer.Option("--image", metavar="FILE", callback=_checked_image, help="Draw it (PNG, SVG, PDF).")
]
Through = Annotated[
    str,
    typer.Option(
        "--through",
        metavar="POINTS",
        callback=_checked_points,
        help="New numbers, smooth through points: 1:0,10:500,60:20000",
    ),
]
