"""The matrix of ranks, or people, by permissions as a picture: told apart by shape and by colour."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from roundgate.cli.screen.drawing import HEIGHT, new_figure, save, short
from roundgate.core.ranks.matrix import CELLS, DENIED, GRANTED, Matrix
from roundgate.host.errors import Trouble

if TYPE_CHECKING:
    from collections.abc import Sequence

    from matplotlib.axes import Axes

_MOST_ROWS, _MOST_COLUMNS = 60, 40
"""More cannot be read on one picture."""
_YES, _NO, _NONE = "#1b7837", "#b2182b", "#c8c8c8"


def draw(matrices: Sequence[tuple[str, Matrix]], path: str) -> None:
    """Draw matrices below each other and write the picture. Raises Trouble."""
    matrices = [(name, matrix) for name, matrix in matrices if matrix.permissions and matrix.columns]
    if not matrices:
        raise Trouble("There is nothing to draw: no ranks, or no permission in which they differ.")
    rows = sum(len(matrix.permissions) for _, matrix in matrices)
    columns = max(len(matrix.columns) for _, matrix in matrices)
    if rows > _MOST_ROWS or columns > _MOST_COLUMNS:
        raise Trouble(
            f"{rows} permissions by {columns} columns cannot be read on one picture (at most {_MOST_ROWS} by "
            f"{_MOST_COLUMNS}).",
            "Add --differs, name one server, or print it: --csv",
        )
    figure = new_figure(max(HEIGHT, 1.6 + 0.3 * rows))
    parts = figure.subplots(
        len(matrices),
        1,
        squeeze=False,
        gridspec_kw={"height_ratios": [len(matrix.permissions) for _, matrix in matrices]},
    )
    for (name, matrix), (axes,) in zip(matrices, parts, strict=True):
        _draw_one(axes, name, matrix)
    _legend(parts[0][0], [cell for _, matrix in matrices for row in matrix.cells for cell in row])
    save(figure, path)


def _draw_one(axes: Axes, name: str, matrix: Matrix) -> None:
    """Draw one matrix: permissions down, ranks across."""
    for cell in sorted(set(b"".join(matrix.cells))):
        at = [
            (column, row) for row, cells in enumerate(matrix.cells) for column, held in enumerate(cells) if held == cell
        ]
        axes.scatter([x for x, _ in at], [y for _, y in at], **_look(cell))
    axes.set_title(f"{name}: who may do what", loc="left", fontweight="bold", pad=14)
    axes.set_xticks(range(len(matrix.columns)), [short(column) for column in matrix.columns])
    if len(matrix.columns) > 8:
        axes.tick_params(axis="x", labelrotation=45)
    axes.set_yticks(
        range(len(matrix.permissions)), [short(permission) for permission in matrix.permissions], family="monospace"
    )
    axes.set_xlim(-0.5, len(matrix.columns) - 0.5)
    axes.set_ylim(len(matrix.permissions) - 0.5, -0.5)
    axes.xaxis.tick_top()
    axes.tick_params(length=0)
    axes.set_yticks([at + 0.5 for at in range(len(matrix.permissions) - 1)], minor=True)
    axes.grid(visible=True, axis="y", which="minor", color="#e6e6e6", linewidth=0.8)
    axes.tick_params(which="minor", length=0)
    for side in axes.spines.values():
        side.set_visible(False)


def _look(cell: int) -> dict[str, Any]:
    """How a cell is drawn: discs for may, crosses for may not, hollow or thin from above, rings for wildcards."""
    if cell < GRANTED:
        return {"marker": "_", "s": 30, "color": _NONE}
    is_no = cell >= DENIED
    is_above, is_wild = (cell - (DENIED if is_no else GRANTED)) // 2 == 1, (cell - GRANTED) % 2 == 1
    if is_no:
        return {"marker": "X" if not is_above else "x", "s": 110, "color": _NO, "linewidths": 1.5}
    marker = "D" if is_wild else "o"
    return {
        "marker": marker,
        "s": 110 if marker == "o" else 80,
        "edgecolors": _YES,
        "facecolors": "none" if is_above else _YES,
        "linewidths": 1.6,
    }


_LEGEND = {
    "-": "no entry is about it",
    "yes": "granted",
    "yes *": "granted by a wildcard",
    "from above": "has it from another rank",
    "from above *": "has it from another rank, by a wildcard",
    "no": "denied",
    "no *": "denied by a wildcard",
    "no, from above": "denied by another rank",
    "no, from above *": "denied by another rank, by a wildcard",
}


def _legend(axes: Axes, cells: Sequence[int]) -> None:
    for cell in sorted(set(cells)):
        axes.scatter([], [], label=_LEGEND[CELLS[cell]], **_look(cell))
    axes.figure.legend(loc="outside lower center", ncols=3, frameon=False)
