"""Common parts of all plots: colours, file formats, writing a figure."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.outputs import write_output

if TYPE_CHECKING:
    from matplotlib.figure import Figure

ENDINGS = (".png", ".svg", ".pdf")
INK, FAINT, WARN = "#22303c", "#8a98a5", "#b5482f"
COLOURS = ("#2a5d8f", "#c17d11", "#5a8f2a", "#8f2a6b", "#4aa3a2", "#7a5c3e", "#6b6bb3", "#a34a4a")


def need_ending(target: Path) -> None:
    """Raise WrongUsage when a picture of this kind cannot be drawn."""
    if target.suffix.lower() not in ENDINGS:
        raise WrongUsage("a picture of this kind cannot be drawn", target, f"end its name in {', '.join(ENDINGS)}")


def new_figure(width: float, height: float) -> Figure:
    """Return an empty figure of so many hundred pixels."""
    # heavy imports, only needed here
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(width, height), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)
    return figure


def title(figure: Figure, text: str) -> None:
    """Write a title at the top left."""
    figure.suptitle(text, x=0.01, ha="left", color=INK, fontsize=13, fontweight="bold")


def bare(axis: Any, size: float) -> None:
    """Take the frame off the top and the right. size: of the numbers along the axes, in points."""
    for side in ("top", "right"):
        axis.spines[side].set_visible(False)
    axis.tick_params(labelsize=size, colors=INK)


def save(figure: Figure, target: Path) -> None:
    """Write a figure into a file, whose ending says its kind."""
    import io

    stream = io.BytesIO()
    figure.savefig(stream, format=target.suffix.lower().lstrip("."))
    write_output(target, stream.getvalue())
