"""The bar of what a round waits for."""

from __future__ import annotations

from rich.console import Console
from rich.progress import BarColumn, Progress, ProgressColumn, Task, TextColumn
from rich.progress_bar import ProgressBar
from rich.text import Text

from roundgate.core.values.units import format_seconds

_WIDTH = 30


class ElapsedBar(BarColumn):
    """A bar that fills with the time that has gone by; it only pulses where nobody knows how long it takes."""

    def render(self, task: Task) -> ProgressBar:
        """Draw it."""
        task.completed = min(task.elapsed or 0.0, task.total or 0.0)
        return super().render(task)


class ElapsedColumn(ProgressColumn):
    """How much time has gone by, of how much."""

    def render(self, task: Task) -> Text:
        """Format it."""
        about = f" of about {format_seconds(max(1, round(task.total)))}" if task.total else ""
        return Text(format_seconds(int(task.elapsed or 0)) + about)


def wait_bar(label: str, seconds: float | None) -> Progress:
    """Start the bar of a wait; ``seconds`` is how long it is likely to take. It vanishes when it is stopped."""
    bar = ElapsedBar(bar_width=_WIDTH, complete_style="cyan", finished_style="cyan", pulse_style="cyan")
    columns = (TextColumn(" "), bar, TextColumn("{task.description},", markup=False), ElapsedColumn())
    progress = Progress(*columns, console=Console(highlight=False), transient=True)
    progress.add_task(label, total=seconds)
    progress.start()
    return progress
