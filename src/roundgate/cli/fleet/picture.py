"""Cores by servers as a picture: a row for each server, a column for each core."""

from __future__ import annotations

from typing import TYPE_CHECKING

from roundgate.cli.screen.drawing import AFTER, FALLS, new_figure, save, short
from roundgate.host.errors import Trouble

if TYPE_CHECKING:
    from roundgate.api.fit import Survey

_MOST_SERVERS, _MOST_CORES = 60, 128


def draw_cores(found: Survey, path: str) -> None:
    """Draw which server has which core; what two have is hatched. Raises Trouble."""
    from matplotlib.patches import Patch, Rectangle

    cores = sorted(found.machine.cores | {core for promise in found.cores for core in promise.cores or ()})
    if len(found.cores) > _MOST_SERVERS or len(cores) > _MOST_CORES:
        raise Trouble(f"{len(found.cores)} servers by {len(cores)} cores cannot be read on one picture.", "Name some.")
    figure = new_figure(max(4.0, 2.0 + 0.45 * len(found.cores)))
    axes = figure.subplots()
    at_core = {core: at for at, core in enumerate(cores)}
    for row, server_cores in enumerate(found.cores):
        for core in cores if server_cores.cores is None else sorted(server_cores.cores):
            is_shared = core in found.shared and server_cores.server in found.shared[core]
            is_beyond = core not in found.machine.cores
            colour = "none" if server_cores.cores is None else FALLS if is_shared or is_beyond else AFTER
            edge = "#b0b0b0" if server_cores.cores is None else "white"
            hatch = "//" if is_shared else "xx" if is_beyond else ""
            where = (at_core[core] - 0.42, row - 0.36)
            axes.add_patch(Rectangle(where, 0.84, 0.72, hatch=hatch, facecolor=colour, edgecolor=edge))
    start = 0
    for node in found.machine.nodes[:-1]:
        start += len(node)
        axes.axvline(start - 0.5, color="black", linewidth=1.2)
    axes.set_xlim(-0.6, len(cores) - 0.4)
    axes.set_ylim(len(found.cores) - 0.4, -0.6)
    every = max(1, len(cores) // 32)
    axes.set_xticks(range(0, len(cores), every), [str(core) for core in cores[::every]])
    axes.set_yticks(range(len(found.cores)), [short(promise.server) for promise in found.cores])
    axes.set_xlabel("core" + (" (a line parts NUMA nodes)" if len(found.machine.nodes) > 1 else ""))
    axes.set_title("Which server may use which core", loc="left", fontweight="bold", pad=12)
    axes.tick_params(length=0)
    for side in axes.spines.values():
        side.set_visible(False)
    marks = [
        Patch(facecolor=AFTER, label="its own"),
        Patch(facecolor=FALLS, hatch="//", label="another server's too"),
        Patch(facecolor="none", edgecolor="#b0b0b0", label="not held to any"),
    ]
    figure.legend(handles=marks, loc="outside lower center", ncols=3, frameon=False)
    save(figure, path)
